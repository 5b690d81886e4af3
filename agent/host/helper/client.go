package helper

import (
	"context"
	"image"
	"io"
	"net/http"
	"net/rpc"
	"unsafe"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// Client is the agent's end: a Desk, Talker and Signer that a helper serves. It may be used by many goroutines at once.
type Client struct{ rpc *rpc.Client }

var _ interface {
	Desk
	Talker
	Signer
} = (*Client)(nil)

// NewClient uses a helper at the other end of a pipe.
func NewClient(pipe io.ReadWriteCloser) *Client { return &Client{rpc.NewClient(pipe)} }

// Close ends the helper.
func (c *Client) Close() error { return c.rpc.Close() }

// call calls the helper; when ctx ends its answer is not waited for.
func call[T any](ctx context.Context, c *Client, method string, in any) (T, error) {
	var out Answer[T]
	pending := c.rpc.Go("Desk."+method, in, &out, make(chan *rpc.Call, 1))
	select {
	case <-pending.Done:
		if pending.Error != nil {
			var none T
			return none, &link.Problem{Status: http.StatusBadGateway, Reason: "The helper in the person's session has ended: " +
				pending.Error.Error() + "."}
		}
		return out.Value, out.error()
	case <-ctx.Done():
		var none T
		return none, context.Cause(ctx)
	}
}

// Desktops implements host.Screens.
func (c *Client) Desktops(ctx context.Context) (link.DesktopList, error) {
	return call[link.DesktopList](ctx, c, "Desktops", None{})
}

// LetGo implements host.Screens.
func (c *Client) LetGo() { call[None](context.Background(), c, "LetGo", None{}) }

// Show implements Talker.
func (c *Client) Show(ctx context.Context, m link.Message) (link.MessageAnswer, error) {
	return call[link.MessageAnswer](ctx, c, "Show", m)
}

// Clip implements Talker.
func (c *Client) Clip(ctx context.Context, clip link.Clip) (link.Outcome, error) {
	return call[link.Outcome](ctx, c, "Clip", clip)
}

// Lock implements Talker.
func (c *Client) Lock() error {
	_, err := call[None](context.Background(), c, "Lock", None{})
	return err
}

// Open implements host.Screens.
func (c *Client) Open(ctx context.Context, desktop string) (host.Screen, error) {
	o, err := call[Opened](ctx, c, "Open", desktop)
	if err != nil {
		return nil, err
	}
	return &far{client: c, opened: o}, nil
}

// far is a screen that a helper has open.
type far struct {
	client *Client
	opened Opened
}

func (f *far) do(in Input) error {
	in.ID = f.opened.ID
	_, err := call[None](context.Background(), f.client, "Input", in)
	return err
}

func (f *far) Desktop() link.Desktop { return f.opened.Desktop }

func (f *far) Layout() (image.Point, []link.Monitor) {
	l, _ := call[Sized](context.Background(), f.client, "Layout", f.opened.ID)
	return l.Size, l.Monitors
}

func (f *far) Wait(ctx context.Context) (host.ScreenChange, error) {
	for {
		c, err := call[Changed](ctx, f.client, "Wait", f.opened.ID)
		if err != nil || !c.None {
			return c.ScreenChange, err
		}
	}
}

func (f *far) Grab(into *screen.Picture, r image.Rectangle) error {
	if r = r.Intersect(into.Bounds()); r.Empty() {
		return nil
	}
	b, err := call[[]byte](context.Background(), f.client, "Grab", Part{f.opened.ID, r})
	if err != nil {
		return err
	}
	if len(b) != 4*r.Dx()*r.Dy() {
		return nil // it is being laid out anew, which is told next
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		row := into.Pix[y*into.W+r.Min.X : y*into.W+r.Max.X]
		n := copy(unsafe.Slice((*byte)(unsafe.Pointer(&row[0])), 4*len(row)), b)
		b = b[n:]
	}
	return nil
}

func (f *far) Press(k link.ScreenKey) error { return f.do(Input{Key: &k}) }

func (f *far) Point(at image.Point, buttons int) error {
	return f.do(Input{Point: &at, Buttons: buttons})
}

func (f *far) Turn(right, down int) error { return f.do(Input{Turn: &image.Point{X: right, Y: down}}) }

func (f *far) Type(ctx context.Context, text string) error {
	_, err := call[None](ctx, f.client, "Input", Input{ID: f.opened.ID, Text: text})
	return err
}

func (f *far) Attend() error                      { return f.do(Input{Attend: true}) }
func (f *far) Release()                           { f.do(Input{Release: true}) }
func (f *far) SetClip(clip link.ScreenClip) error { return f.do(Input{Clip: &clip}) }

func (f *far) Hold(held bool, back func()) error {
	if err := f.do(Input{Hold: &held}); err != nil || !held {
		return err
	}
	go func() {
		for {
			taken, err := call[bool](context.Background(), f.client, "Back", f.opened.ID)
			if err != nil {
				return // the screen is closed
			}
			if taken {
				back()
				return
			}
		}
	}()
	return nil
}

func (f *far) Close() error {
	_, err := call[None](context.Background(), f.client, "Close", f.opened.ID)
	return err
}

// Sign implements Signer.
func (c *Client) Sign(ctx context.Context, desktop string, acts host.SignActs) (host.Sign, error) {
	id, err := call[int](ctx, c, "Sign", desktop)
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			a, err := call[Act](context.Background(), c, "Acts", id)
			switch {
			case err != nil:
				return // the sign is closed
			case a.End:
				acts.End()
			case a.Say != "":
				acts.Say(a.Say)
			}
		}
	}()
	return farSign{c, id}, nil
}

// farSign is a sign that a helper shows.
type farSign struct {
	client *Client
	id     int
}

// show has it show something; what a sign shows is waited for by nobody.
func (f farSign) show(in Showing) {
	in.ID = f.id
	f.client.rpc.Go("Desk.Showing", in, &Answer[None]{}, make(chan *rpc.Call, 1))
}

func (f farSign) Show(lines []string, held bool) { f.show(Showing{Lines: lines, Held: held}) }
func (f farSign) Say(n link.ScreenNote)          { f.show(Showing{Note: &n}) }
func (f farSign) Mark(m host.Mark)               { f.show(Showing{Mark: &m}) }
func (f farSign) Close() error {
	f.show(Showing{Close: true})
	return nil
}
