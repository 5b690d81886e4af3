// Package device holds what Moorwatch knows of a device and the rules for believing it: the facts
// and vitals an agent reports, the limits beyond which a report is refused, the clean form of a
// name, the correction of a wrong clock, and the search for the device that a person meant.
//
// Nothing here reads a clock, a disk or a network. Judging readings belongs in core/health.
package device
