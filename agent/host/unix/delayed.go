//go:build unix

package unix

import (
	"fmt"
	"net/http"
	"sync"
	"time"

	"moorwatch.example/contract/link"
)

// Delayed is a power action that comes after a while, and may be called off until then.
type Delayed struct {
	mu      sync.Mutex
	waiting *time.Timer
	what    string
}

// grace lets the answer reach the service before the network goes.
const grace = time.Second

// After has do done after the action's delay, in place of what was to come before. word says what the
// computer does then, such as restarts.
func (p *Delayed) After(d link.PowerAction, word string, do func()) link.Outcome {
	delay := Delay(d)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.waiting != nil {
		p.waiting.Stop()
	}
	p.what = d.Action
	p.waiting = time.AfterFunc(max(delay, grace), do)
	if delay > 0 {
		return link.Outcome{Message: fmt.Sprintf("It %s in %s.", word, delay)}
	}
	return link.Outcome{Message: fmt.Sprintf("It %s now.", word)}
}

// Cancel calls off what was to come.
func (p *Delayed) Cancel() (link.Outcome, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.waiting == nil || !p.waiting.Stop() {
		return link.Outcome{}, &link.Problem{Status: http.StatusConflict, Reason: "Nothing was to come."}
	}
	p.waiting = nil
	return link.Outcome{Message: "It goes on running: the " + p.what + " was called off."}, nil
}

// Delay is an action's delay within its bounds.
func Delay(d link.PowerAction) time.Duration {
	return time.Duration(min(max(d.DelaySeconds, 0), 3600)) * time.Second
}
