package screen

import (
	"context"
	"image"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/coder/websocket"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// show is what one viewer is shown: the desktop as it was grabbed, the view made of it, and how much
// of that has been sent.
type show struct {
	viewer  *viewer
	encoder *screen.Encoder
	sign    bool // the person sees who looks
	pace    screen.Pace
	full    *screen.Picture // the desktop
	view    *screen.Picture // what the viewer wants of it
	area    image.Rectangle // of the desktop that the view shows
	hidden  []image.Rectangle
	scale   int
	colours string
	fewer   bool // colours, and coarse, the scale, as the link has them
	coarse  int
	narrow  time.Time // since when the link is too narrow for how it is made
	wrote   time.Time // the last update
	next    time.Time // before which no update is sent
	told    time.Time // when it was told how it goes
	bytes   int
	frames  int
	quality int
}

// run sends the desktop until it ends, or the viewer leaves.
func (s *show) run(ctx context.Context) error {
	v := s.viewer
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-v.wake:
		case <-timer.C:
		}
		wait, err := s.step(ctx, time.Now())
		if err != nil {
			return err
		}
		if wait >= 0 {
			timer.Reset(wait)
		}
	}
}

// slowTrip is the way to a viewer from which on what seldom changes does not wait for the rest.
const slowTrip = 60 * time.Millisecond

// never is a wait for nothing but news.
const never = time.Duration(-1)

// step sends what is to be sent now, and tells how long to wait for more.
func (s *show) step(ctx context.Context, now time.Time) (time.Duration, error) {
	v := s.viewer
	v.mu.Lock()
	events, acks, stale, options := v.events, v.acks, v.stale, v.options
	layout, again, lost, desktop := v.layout, v.again, v.lost, v.screen
	v.events, v.acks, v.stale, v.layout, v.again = nil, nil, nil, false, false
	v.mu.Unlock()
	for _, a := range acks {
		s.pace.Drawn(a.number, a.at)
	}
	if lost != nil {
		return never, errAway
	}
	if again {
		s.encoder.Forget()
	}
	if layout || s.full == nil {
		size, _ := desktop.Layout()
		if s.full == nil || s.full.W != size.X || s.full.H != size.Y {
			full, err := screen.NewPicture(size.X, size.Y)
			if err != nil {
				return never, err
			}
			s.full, stale = full, []image.Rectangle{full.Bounds()}
		}
		events = append([]link.ScreenEvent{{Begin: s.arrange(options)}}, events...)
		stale = append(stale, s.area) // what was outside the view was not grabbed
	}
	for _, e := range events {
		if err := v.send(ctx, e); err != nil {
			return never, err
		}
	}
	keep := func() { // for later
		v.mu.Lock()
		v.stale = append(stale, v.stale...)
		v.mu.Unlock()
	}
	if options.Pause {
		keep()
		return never, nil
	}
	if err := s.tell(ctx, now); err != nil {
		return never, err
	}
	if s.adapt(now) {
		v.mu.Lock()
		v.layout = true
		v.mu.Unlock()
		v.nudge()
	}
	room, full := s.pace.Room(), false
	if room == 0 {
		room, full = s.pace.Extra(), true
	}
	if room == 0 {
		keep()
		return never, nil // until more is drawn
	}
	if early := s.next.Sub(now); early > 0 {
		keep()
		return early, nil
	}
	for _, r := range gathered(stale) {
		if r = r.Intersect(s.area); r.Empty() {
			continue
		}
		if err := desktop.Grab(s.full, r); err != nil {
			return never, errAway
		}
		s.render(r)
	}
	s.quality = options.Quality
	switch {
	case options.Quality > 100:
		s.quality = 0
	case options.Quality == 0:
		s.quality = s.pace.Quality()
	}
	update := s.encoder.Update(s.view, screen.Wish{Now: now, Budget: room, Quality: s.quality, Calm: s.pace.Trip() > slowTrip, Only: full,
		Beside: beside, Workers: workers})
	if update != nil {
		s.pace.Sent(s.encoder.Number(), len(update), time.Now())
		if err := v.conn.Write(ctx, websocket.MessageBinary, update); err != nil {
			return never, err
		}
		s.wrote = now
		s.bytes += len(update)
		s.frames++
		rate := options.Rate
		if rate == 0 {
			rate = mostRate
		}
		s.next = now.Add(time.Second / time.Duration(rate))
	}
	changes, exact := s.encoder.Pending()
	switch {
	case full:
		return never, nil // until more is drawn, or something else changes
	case changes:
		return max(time.Until(s.next), 0), nil
	case !exact.IsZero():
		return max(time.Until(exact), time.Until(s.next), 0), nil
	case s.bytes > 0, s.fewer, s.coarse > 1:
		return linkEvery, nil // to tell that it is still, and to show it as it is
	}
	return never, nil
}

// Times of a link that is too narrow for all of the picture.
const (
	narrowFor = 3 * time.Second // until it is made coarser
	stillFor  = 2 * time.Second // without a change, until it is shown as it is
)

// adapt makes the picture coarser for a link that stays too narrow, and tells whether it is to be
// arranged anew. What is still is shown as it is.
func (s *show) adapt(now time.Time) bool {
	fewer, coarse := s.pace.Coarse(s.fewer, max(s.coarse, 1))
	if now.Sub(s.wrote) > stillFor {
		fewer, coarse = false, 1
	}
	switch {
	case fewer == s.fewer && coarse == max(s.coarse, 1):
		s.narrow = time.Time{}
		return false
	case (fewer || coarse > 1) && s.narrow.IsZero():
		s.narrow = now
		return false
	case (fewer || coarse > 1) && now.Sub(s.narrow) < narrowFor:
		return false
	}
	s.fewer, s.coarse, s.narrow = fewer, coarse, time.Time{}
	return true
}

// arrange makes the view that a viewer wants of the desktop, and what it is told of it.
func (s *show) arrange(options link.ScreenOptions) *link.ScreenBegin {
	v := s.viewer
	_, monitors := v.screen.Layout()
	whole := s.full.Bounds()
	s.area, s.hidden = whole, nil
	chosen := image.Rectangle{}
	for _, m := range monitors {
		r := image.Rect(m.X, m.Y, m.X+m.Width, m.Y+m.Height).Intersect(whole)
		if slices.Contains(options.Monitors, m.Name) {
			chosen = chosen.Union(r)
		} else {
			s.hidden = append(s.hidden, r)
		}
	}
	if chosen.Empty() {
		s.hidden = nil
	} else {
		s.area = chosen
	}
	s.scale, s.colours = options.Scale, options.Colours
	if s.scale == 0 {
		s.scale = max(s.coarse, 1)
		if options.Width > 0 {
			s.scale = min(max(s.scale, s.area.Dx()/options.Width), mostScale)
		}
	}
	if s.colours == "" && s.fewer {
		s.colours = link.ColoursFewer
	}
	if s.colours == link.ColoursAll {
		s.colours = ""
	}
	w, h := (s.area.Dx()+s.scale-1)/s.scale, (s.area.Dy()+s.scale-1)/s.scale
	if s.view = s.full; s.scale > 1 || s.colours != "" || s.area != whole {
		s.view = &screen.Picture{W: w, H: h, Pix: make([]uint32, w*h)}
	}
	s.render(s.area)
	s.encoder.Damage(image.Rect(0, 0, w, h))
	v.mu.Lock()
	v.origin, v.scale = s.area.Min, s.scale
	v.mu.Unlock()
	out := &link.ScreenBegin{Viewer: v.id, Desktop: v.screen.Desktop(), Monitors: monitors, X: s.area.Min.X, Y: s.area.Min.Y,
		Scale: s.scale, Control: v.control, Clipboard: v.clipboard, Signed: s.sign}
	if signs, ok := v.server.Screens.(host.Signs); ok && signs.Marks() && !v.console {
		out.Marks = v.control
	}
	return out
}

// render brings a part of the view up to date with the desktop.
func (s *show) render(r image.Rectangle) {
	r = r.Sub(s.area.Min)
	part := image.Rect(r.Min.X/s.scale, r.Min.Y/s.scale, (r.Max.X+s.scale-1)/s.scale,
		(r.Max.Y+s.scale-1)/s.scale).Intersect(s.view.Bounds())
	if part.Empty() {
		return
	}
	s.encoder.Damage(part)
	if s.view == s.full {
		return
	}
	s.full.ScaleInto(s.view, s.area.Min, s.scale, part)
	switch s.colours {
	case link.ColoursFewer:
		s.view.Fewer(part)
	case link.ColoursGrey:
		s.view.Grey(part)
	}
	for _, h := range s.hidden {
		h = h.Sub(s.area.Min)
		s.view.Blank(image.Rect(h.Min.X/s.scale, h.Min.Y/s.scale, h.Max.X/s.scale, h.Max.Y/s.scale).Intersect(part))
	}
}

// tell tells about once a second how the screen is sent, while it is.
func (s *show) tell(ctx context.Context, now time.Time) error {
	since := now.Sub(s.told)
	if since < linkEvery || s.bytes == 0 {
		return nil
	}
	e := link.ScreenLink{BytesPerSecond: float64(s.bytes) / since.Seconds(), LinkPerSecond: s.pace.Rate(),
		TripSeconds:   s.pace.Trip().Seconds(),
		FramesASecond: float64(s.frames) / since.Seconds(), Quality: s.quality, Scale: s.scale, Colours: s.colours}
	if s.told.IsZero() {
		e.BytesPerSecond, e.FramesASecond = float64(s.bytes), float64(s.frames)
	}
	s.told, s.bytes, s.frames = now, 0, 0
	return s.viewer.send(ctx, link.ScreenEvent{Link: &e})
}

// mostScale is how many times smaller a picture is sent at most by itself.
const mostScale = 8

// mostParts is how many parts of a desktop are grabbed one by one.
const mostParts = 12

// gathered joins parts into fewer where grabbing them one by one would cost more.
func gathered(parts []image.Rectangle) []image.Rectangle {
	var all image.Rectangle
	sum := 0
	for _, r := range parts {
		all = all.Union(r)
		sum += r.Dx() * r.Dy()
	}
	if len(parts) > mostParts || sum >= all.Dx()*all.Dy() {
		if all.Empty() {
			return nil
		}
		return []image.Rectangle{all}
	}
	return parts
}

// workers is how many photographs are made side by side: a viewer is not to take all of a computer.
var workers = min(runtime.NumCPU(), 3)

// beside calls do for all numbers below n, side by side.
func beside(n int, do func(i int)) {
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() { do(i) })
	}
	all.Wait()
}
