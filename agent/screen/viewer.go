package screen

import (
	"context"
	"encoding/json"
	"errors"
	"image"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/screen"
)

// Times of a viewer.
const (
	mostRate = 100 // updates a second
	// pollEvery is how often at most the desktop is asked what has changed.
	pollEvery = 8 * time.Millisecond
	// linkEvery is how often it is told how the screen is sent, while it is.
	linkEvery = time.Second
	// letsGo is after how long without a message keys and buttons that are down are let go of: the
	// viewer sends one at least twice a second while it holds any.
	letsGo = 2 * time.Second
	// returns is how long a desktop that ended is waited for: a log-in screen comes instead.
	returns    = 2 * time.Minute
	returnPoll = 500 * time.Millisecond
	mostEvents = 512 // that wait to be sent
)

// viewer is one who looks at a desktop. Its run is one goroutine, which alone captures, encodes and
// sends; another reads what the viewer sends, a third waits for changes.
type viewer struct {
	server    *Server
	conn      *websocket.Conn
	open      opener
	id, name  string
	control   bool
	clipboard bool
	console   bool // it is of another computer
	signed    bool // the person is to see that this one looks
	wake      chan struct{}

	mu      sync.Mutex
	screen  host.Screen
	stage   *stage
	mode    string
	wants   string // the mode that is to be tried first
	options link.ScreenOptions
	events  []link.ScreenEvent
	acks    []ack
	stale   []image.Rectangle // parts of the desktop that must be grabbed anew
	layout  bool
	again   bool
	lost    error // why the desktop is gone
	origin  image.Point
	scale   int
	held    bool // keys or buttons are down
	noted   bool // that they may be
}

type ack struct {
	number uint64
	at     time.Time
}

func (v *viewer) nudge() {
	select {
	case v.wake <- struct{}{}:
	default:
	}
}

// tell has an event sent.
func (v *viewer) tell(e link.ScreenEvent) {
	v.mu.Lock()
	if len(v.events) < mostEvents {
		v.events = append(v.events, e)
	}
	v.mu.Unlock()
	v.nudge()
}

func (v *viewer) modeNow() string {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.mode
}

// run shows the desktop until the viewer leaves or ctx ends.
func (v *viewer) run(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go func() { cancel(v.listen(ctx)) }()
	show := &show{viewer: v, encoder: screen.NewEncoder()}
	for {
		err := v.with(ctx, show)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if !errors.Is(err, errAway) {
			return err
		}
		if err := v.await(ctx); err != nil {
			v.send(ctx, link.ScreenEvent{End: err.Error()})
			return err
		}
	}
}

// errAway is returned when a desktop has ended while it was looked at.
var errAway = errors.New("the desktop has ended")

// with shows one desktop until it ends.
func (v *viewer) with(ctx context.Context, s *show) error {
	ctx, cancel := context.WithCancel(ctx)
	stage := v.server.stage(v.screen.Desktop().ID)
	v.mu.Lock()
	v.stage = stage
	v.mu.Unlock()
	stage.join(v)
	var watching sync.WaitGroup
	watching.Go(func() { v.watch(ctx) }) // it tells the stage of the pointer
	s.sign = v.signed && stage.signed(ctx) != nil
	if v.wants != "" {
		v.setMode(v.wants)
		v.wants = ""
	}
	defer func() {
		cancel()
		v.stage.leave(v)
		watching.Wait()
		v.screen.Close()
		v.mu.Lock()
		noted := v.noted
		v.noted = false
		v.mu.Unlock()
		if noted && !v.console {
			v.server.holding(-1)
		}
	}()
	return s.run(ctx)
}

// await waits for another desktop after one ended: that of the log-in screen, or of who signs in.
func (v *viewer) await(ctx context.Context) error {
	if err := v.send(ctx,
		link.ScreenEvent{Problem: "The desktop has ended. Whatever follows it is shown as soon as it is there."}); err != nil {
		return err
	}
	deadline := time.After(returns)
	tick := time.NewTicker(returnPoll)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-deadline:
			return refuse("The desktop has ended, and no other came within two minutes.")
		case <-tick.C:
		}
		next, err := v.open(ctx, true)
		if err != nil {
			continue
		}
		v.mu.Lock()
		v.screen, v.lost, v.layout, v.again = next, nil, true, true
		v.mu.Unlock()
		return nil
	}
}

// watch waits for what changes on the desktop.
func (v *viewer) watch(ctx context.Context) {
	pace := time.NewTimer(0)
	defer pace.Stop()
	for {
		<-pace.C
		began := time.Now()
		c, err := v.screen.Wait(ctx)
		if ctx.Err() != nil {
			return
		}
		v.mu.Lock()
		v.lost = err
		v.stale = append(v.stale, c.Damage...)
		v.layout = v.layout || c.Layout
		if len(v.events) < mostEvents {
			if c.Cursor != nil {
				v.events = append(v.events, link.ScreenEvent{Cursor: c.Cursor})
			}
			if c.Clip != nil && v.clipboard {
				v.events = append(v.events, link.ScreenEvent{Clip: c.Clip})
			}
			if c.Pointer != nil && v.scale > 0 {
				at := c.Pointer.Sub(v.origin).Div(v.scale)
				v.events = append(v.events, link.ScreenEvent{Pointer: &link.ScreenPoint{X: at.X, Y: at.Y}})
			}
		}
		v.mu.Unlock()
		v.nudge()
		if c.Pointer != nil {
			v.stage.seen()
		}
		if err != nil {
			return
		}
		pace.Reset(max(pollEvery-time.Since(began), 0))
	}
}

func (v *viewer) send(ctx context.Context, e link.ScreenEvent) error {
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return v.conn.Write(ctx, websocket.MessageText, text)
}

// listen takes what the viewer sends, and returns why it ended.
func (v *viewer) listen(ctx context.Context) error {
	beat := time.AfterFunc(letsGo, v.letGo)
	defer beat.Stop()
	for {
		kind, data, err := v.conn.Read(ctx)
		if err != nil {
			return err
		}
		beat.Reset(letsGo)
		var in link.ScreenInput
		if kind != websocket.MessageText || json.Unmarshal(data, &in) != nil {
			return errors.New("the viewer sent what is no input")
		}
		if in.Drawn > 0 {
			v.mu.Lock()
			v.acks = append(v.acks, ack{in.Drawn, time.Now()})
			v.mu.Unlock()
			v.nudge()
		}
		if err := v.input(ctx, in); err != nil {
			v.tell(link.ScreenEvent{Problem: device.CleanText(err.Error())})
		}
	}
}

// letGo lets go of what is down, when the viewer is not heard of.
func (v *viewer) letGo() {
	v.mu.Lock()
	held, s := v.held, v.screen
	v.held = false
	v.mu.Unlock()
	if held {
		s.Release()
	}
}

// input does what the viewer wants.
func (v *viewer) input(ctx context.Context, in link.ScreenInput) error {
	v.mu.Lock()
	s, stage, mode, origin, scale := v.screen, v.stage, v.mode, v.origin, max(v.scale, 1)
	if in.Options != nil {
		v.options, v.layout = in.Options.Sane(), true
	}
	v.again = v.again || in.Again
	v.mu.Unlock()
	if in.Options != nil || in.Again {
		v.nudge()
	}
	if stage == nil {
		return nil
	}
	if in.Note != "" {
		stage.say(link.ScreenNote{From: v.id, Name: v.name, Text: device.CleanText(in.Note[:min(len(in.Note), link.MaxScreenNote)]),
			At: time.Now()})
	}
	if in.Mode != "" {
		return v.setMode(in.Mode)
	}
	if in.Mark != nil {
		return v.mark(ctx, stage, *in.Mark, origin, scale)
	}
	if in.Release {
		s.Release()
	}
	if mode == link.ScreenView { // hands off
		return nil
	}
	switch {
	case in.Key != nil:
		v.hold(in.Key.Down)
		return s.Press(*in.Key)
	case in.Pointer != nil:
		if !stage.touch(v.id) {
			return nil
		}
		v.hold(in.Pointer.Buttons != 0)
		return s.Point(origin.Add(image.Pt(in.Pointer.X, in.Pointer.Y).Mul(scale)), in.Pointer.Buttons)
	case in.Wheel != nil:
		if stage.touch(v.id) {
			return s.Turn(in.Wheel.X, in.Wheel.Y)
		}
	case in.Text != "":
		if len(in.Text) <= link.MaxScreenText {
			return s.Type(ctx, in.Text)
		}
	case in.Attend:
		return s.Attend()
	case in.Clip != nil:
		if !v.clipboard {
			return refuse("The clipboard is not shared here: the policy or your role does not allow it.")
		}
		return s.SetClip(*in.Clip)
	}
	return nil
}

// mark shows something by hand on the person's own screen.
func (v *viewer) mark(ctx context.Context, t *stage, in link.ScreenMark, origin image.Point, scale int) error {
	if !v.control {
		return refuse("You may look on, and not show things on this screen.")
	}
	if len(in.Points) > link.MaxMarkPoints || len(in.Text) > link.MaxMarkText || (len(in.Points) == 0 && in.Kind != link.MarkClear) {
		return refuse("That mark cannot be shown.")
	}
	sign := t.signed(ctx)
	if sign == nil {
		return refuse("This desktop shows no marks.")
	}
	out := host.Mark{By: v.id, Name: v.name, Kind: in.Kind, Text: device.CleanText(in.Text)}
	for _, p := range in.Points {
		p.X, p.Y = min(max(p.X, 0), screen.MaxSide), min(max(p.Y, 0), screen.MaxSide)
		out.Points = append(out.Points, origin.Add(image.Pt(p.X, p.Y).Mul(scale)))
	}
	sign.Mark(out)
	return nil
}

// hold remembers that something is down; it is never said that nothing is, for another key may be.
func (v *viewer) hold(down bool) {
	v.mu.Lock()
	v.held = v.held || down
	first := down && !v.noted
	v.noted = v.noted || down
	v.mu.Unlock()
	if first && !v.console {
		v.server.holding(1)
	}
}

// setMode changes how the viewer takes part.
func (v *viewer) setMode(mode string) error {
	switch mode {
	case link.ScreenView, link.ScreenShare, link.ScreenTake:
	default:
		return refuse("There is no such way to take part.")
	}
	if mode != link.ScreenView && !v.control {
		return refuse("You may look on, and not work on this screen.")
	}
	v.mu.Lock()
	was, s, stage := v.mode, v.screen, v.stage
	v.mu.Unlock()
	var err error
	switch {
	case mode == link.ScreenTake && was != mode:
		err = s.Hold(true, func() {
			v.mu.Lock()
			v.mode = link.ScreenShare
			v.mu.Unlock()
			stage.changed()
			v.tell(link.ScreenEvent{Problem: "The person at the device took their keyboard and mouse back."})
		})
	case was == link.ScreenTake && mode != was:
		err = s.Hold(false, nil)
	}
	if err != nil {
		return err
	}
	if mode == link.ScreenView {
		s.Release()
	}
	v.mu.Lock()
	v.mode = mode
	v.mu.Unlock()
	stage.changed()
	return nil
}

// refuse is an error that is told to the viewer.
func refuse(reason string) error { return &link.Problem{Status: http.StatusConflict, Reason: reason} }
