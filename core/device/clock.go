package device

import "time"

// What the clocks of a device and the service may differ by before it matters.
const (
	MaxSkew = time.Minute         // below this a device's own times are kept
	MaxAge  = 30 * 24 * time.Hour // no agent keeps a report for longer
)

// OnOurClock puts a reading that the device took at its time taken, and sent at its time sent,
// on the service's clock, where it was received at received. skew is how far the device's clock
// is ahead. A device whose clock is off by more than MaxSkew has the age of its readings trusted,
// not their times; an age below zero or above MaxAge is taken for zero and MaxAge.
func OnOurClock(taken, sent, received time.Time) (at time.Time, skew time.Duration) {
	skew = sent.Sub(received)
	if skew.Abs() <= MaxSkew && !taken.After(sent) && sent.Sub(taken) <= MaxAge {
		if taken.After(received) {
			return received, skew
		}
		return taken, skew
	}
	age := min(max(sent.Sub(taken), 0), MaxAge)
	return received.Add(-age), skew
}
