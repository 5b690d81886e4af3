package work

// State is how a step ended.
type State string

// The ends of steps.
const (
	Done    State = "done"
	Skipped State = "skipped" // its conditions did not hold
	Failed  State = "failed"
	Undone  State = "undone" // it was done, and then undone
)

// Progress is how far a device has come with steps: what is kept on its disk while they go on. The zero
// value has begun none.
type Progress struct {
	// At is the step that is done now, or next; len(steps) when all are over.
	At int `json:"at"`
	// Under tells that step At may have been done in part.
	Under bool `json:"under,omitempty"`
	// Ends are how the steps before At ended.
	Ends []State `json:"ends,omitempty"`
	// Backs tell, for each step before At, what it takes to undo it; empty for nothing.
	Backs []string `json:"backs,omitempty"`
	// Undoing tells that what was done is being undone, from step At downwards.
	Undoing bool `json:"undoing,omitempty"`
	// Bad counts the steps that failed, and Why says what the first of them said.
	Bad int    `json:"bad,omitempty"`
	Why string `json:"why,omitempty"`
}

// Move is what a device does next.
type Move struct {
	Step int
	Undo bool // the step is to be undone, by Backs[Step]
}

// Next tells what is to be done next; ok is false when all is over.
func (c *Progress) Next(steps []Step) (m Move, ok bool) {
	if c.Undoing {
		for i := c.At; i >= 0; i-- {
			if i < len(c.Backs) && c.Backs[i] != "" && c.Ends[i] == Done {
				return Move{i, true}, true
			}
		}
		return m, false
	}
	return Move{Step: c.At}, c.At < len(steps)
}

// Begin notes that step At is about to be done.
func (c *Progress) Begin() { c.Under = true }

// End notes how step At ended; back is what it takes to undo it, and why says what went wrong.
func (c *Progress) End(steps []Step, end State, back, why string) {
	s := steps[c.At]
	c.Ends, c.Backs, c.Under = append(c.Ends, end), append(c.Backs, back), false
	c.At++
	if end != Failed {
		return
	}
	if c.Bad++; c.Why == "" {
		c.Why = why
	}
	switch s.OnError {
	case OnContinue:
	case OnUndo:
		c.Undoing, c.At = true, c.At-1
	default:
		c.At = len(steps)
	}
}

// Undid notes that a step was undone, or could not be.
func (c *Progress) Undid(step int, why string) {
	c.Ends[step], c.At = Undone, step-1
	if why != "" {
		c.Ends[step] = Failed
		c.Why += "; and undoing: " + why
	}
}

// Resume takes a progress up again where the device died: ok is false where step At may have been done,
// and must not be done twice. A restart that was begun is taken for done.
func (c *Progress) Resume(steps []Step) (ok bool) {
	if c.Undoing || !c.Under || c.At >= len(steps) {
		return true
	}
	if steps[c.At].Do == Restart {
		c.End(steps, Done, "", "")
		return true
	}
	if steps[c.At].Again() {
		c.Under = false
		return true
	}
	return false
}
