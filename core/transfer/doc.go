// Package transfer holds the rules by which bytes move between a device and the service: how much
// may be under way at once so that a link is used whole and yet a keystroke finds it nearly empty,
// and how names that are no text travel as text. It reads and writes nothing itself.
package transfer
