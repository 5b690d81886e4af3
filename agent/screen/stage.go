package screen

import (
	"context"
	"sync"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// stage finds the stage of a desktop, or makes it.
func (s *Server) stage(desktop string) *stage {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stages == nil {
		s.stages = map[string]*stage{}
	}
	if s.stages[desktop] == nil {
		s.stages[desktop] = &stage{server: s, desktop: desktop, viewers: map[string]*viewer{}}
	}
	return s.stages[desktop]
}

// stage is one desktop with those who look at it.
type stage struct {
	server  *Server
	desktop string

	opening sync.Mutex // of the sign
	mu      sync.Mutex
	viewers map[string]*viewer
	order   []string
	hand    string // whose is on the mouse
	moved   time.Time
	rest    *time.Timer
	sign    host.Sign
}

// Times of hands.
const (
	// handHolds is how long nobody else's hand moves what one has just moved.
	handHolds = 700 * time.Millisecond
	// handRests is after how long without a move it is nobody's.
	handRests = 2 * time.Second
)

// person is whose hand it is that no viewer's is.
const person = "person"

func (t *stage) join(v *viewer) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.viewers[v.id] = v
	t.order = append(t.order, v.id)
	t.tell()
}

func (t *stage) leave(v *viewer) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.viewers, v.id)
	if t.hand == v.id {
		t.hand = ""
	}
	t.tell()
	if len(t.viewers) == 0 && t.sign != nil {
		t.sign.Close()
		t.sign = nil
	}
}

// signed returns the sign on the desktop, and opens it where there is none yet; nil where none can be.
func (t *stage) signed(ctx context.Context) host.Sign {
	signs, ok := t.server.Screens.(host.Signs)
	if !ok {
		return nil
	}
	t.opening.Lock()
	defer t.opening.Unlock()
	t.mu.Lock()
	sign := t.sign
	t.mu.Unlock()
	if sign != nil {
		return sign
	}
	sign, err := signs.Sign(ctx, t.desktop, host.SignActs{Say: t.answer, End: t.end})
	if err != nil {
		t.server.Log.Debug("no sign is shown", "desktop", t.desktop, "error", err)
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.sign = sign
	t.tell()
	return sign
}

// answer passes on what the person says.
func (t *stage) answer(text string) {
	t.mu.Lock()
	name := "the person there"
	for _, v := range t.viewers {
		v.mu.Lock()
		if d := v.screen.Desktop(); d.Name != "" {
			name = d.Name
		}
		v.mu.Unlock()
	}
	t.mu.Unlock()
	t.say(link.ScreenNote{From: person, Name: name, Text: device.CleanText(text[:min(len(text), link.MaxScreenNote)]), At: time.Now()})
}

// end tells those whom the person sees that they are to leave.
func (t *stage) end() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, v := range t.viewers {
		if v.signed {
			v.tell(link.ScreenEvent{Ended: true})
		}
	}
}

// parts are how a sign tells what a viewer does.
var parts = map[string]string{link.ScreenView: " looks at your screen.", link.ScreenShare: " sees your screen and works on it with you.",
	link.ScreenTake: " has taken over your screen."}

// changed tells all viewers how things stand.
func (t *stage) changed() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.tell()
}

func (t *stage) tell() {
	out := link.ScreenStage{Viewers: []link.ScreenViewer{}, Hand: t.hand}
	order := t.order[:0]
	for _, id := range t.order {
		if v := t.viewers[id]; v != nil {
			order = append(order, id)
			out.Viewers = append(out.Viewers, link.ScreenViewer{ID: id, Name: v.name, Mode: v.modeNow()})
		}
	}
	t.order = order
	if t.sign != nil {
		lines, held := []string{}, false
		for _, one := range out.Viewers {
			if t.viewers[one.ID].signed {
				lines = append(lines, one.Name+parts[one.Mode])
				held = held || one.Mode == link.ScreenTake
			}
		}
		t.sign.Show(lines, held)
	}
	for _, v := range t.viewers {
		v.tell(link.ScreenEvent{Stage: &out})
	}
}

// touch has somebody move something, unless another hand is on the mouse.
func (t *stage) touch(who string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	if t.hand != who && t.hand != "" && now.Sub(t.moved) < handHolds {
		return false
	}
	t.moved = now
	if t.hand != who {
		t.hand = who
		t.tell()
	}
	if t.rest == nil {
		t.rest = time.AfterFunc(handRests, t.settle)
	} else {
		t.rest.Reset(handRests)
	}
	return true
}

// settle lets the mouse be nobody's when it has rested.
func (t *stage) settle() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if left := handRests - time.Since(t.moved); left > 0 {
		t.rest.Reset(left)
		return
	}
	t.hand = ""
	t.tell()
}

// seen is told where the pointer stands though this viewer did not put it there: another viewer has,
// or the person.
func (t *stage) seen() {
	t.mu.Lock()
	by := t.hand != "" && t.hand != person && time.Since(t.moved) < handHolds
	t.mu.Unlock()
	if !by {
		t.touch(person)
	}
}

// say passes what somebody says to all viewers, and to the person.
func (t *stage) say(n link.ScreenNote) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.sign != nil {
		t.sign.Say(n)
	}
	for _, v := range t.viewers {
		v.tell(link.ScreenEvent{Note: &n})
	}
}
