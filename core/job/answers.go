package job

import "time"

// Message is what a device is told about a run.
type Message struct {
	Cancel  bool   // that it is to end, and not what it does
	Journal string // in which the device is believed to have it, or to be about to
	again   bool   // it was told before
}

// Tell is what the device of a run is told next. Until it has answered it is taken to have heard.
func (s *Schedule) Tell(r *Run) Message {
	m := Message{Cancel: r.cancel, Journal: r.Journal, again: r.again}
	r.again = true
	return m
}

// Answer is what a device said to a message. The zero value says that it never heard of the run.
type Answer struct {
	Lost    bool   // no answer came
	Refused string // it said no for good, and why
	Begun   bool   // the run goes on
	End     *End   // the run is over
	Journal string // of the device
}

// Answered takes note of what a device said, and returns how the run ended where it did.
func (s *Schedule) Answered(r *Run, m Message, a Answer, now time.Time) (end *End) {
	r.asking = false
	if r.State.Over() {
		return nil
	}
	ended := func(state State, reason string) *End { return &End{r.ID, r.Device, state, reason, now} }
	switch {
	case a.Refused != "":
		return ended(Failed, "the device refused: "+a.Refused)
	case a.Lost: // it is asked again once it is connected
		r.later = now.Add(retryAfter)
	case a.End != nil:
		return a.End
	case a.Begun:
		r.again = false
		if m.Cancel { // its result is on the way
			r.cancel = false
		}
	case m.Cancel: // the device never heard of it
		return ended(Cancelled, "it was cancelled before it began")
	case m.again: // it may have run before the journal was lost
		return ended(Interrupted, "the device lost its journal after it was told; whether it ran is not known")
	default: // the journal is another than was thought, and the device was never told
		s.journals[r.Device] = a.Journal
		r.again = false
		s.move(r, Waiting)
	}
	return nil
}
