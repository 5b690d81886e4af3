//go:build linux

package x11

import (
	"net/http"
	"sync"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xfixes"
	"github.com/jezek/xgb/xproto"

	"moorwatch.example/contract/link"
)

// clipboard offers what a viewer put on the desktop's clipboard, and reads what is put on it there
// (Inter-Client Communication Conventions Manual 2.0, 2). It holds one text or PNG at a time; what it
// offers goes with the session that put it there.
type clipboard struct {
	x    *xgb.Conn
	own  xproto.Window
	atom map[string]xproto.Atom

	mu      sync.Mutex
	offered *link.ScreenClip
	coming  []byte // what is read piece by piece
	pieces  bool
}

// clipAtoms are the names that are used.
var clipAtoms = []string{"CLIPBOARD", "TARGETS", "UTF8_STRING", "STRING", "TEXT", "text/plain;charset=utf-8", "image/png", "INCR",
	"MOORWATCH_CLIP"}

func (c *clipboard) begin(x *xgb.Conn, own xproto.Window) {
	c.x, c.own, c.atom = x, own, map[string]xproto.Atom{}
	for _, name := range clipAtoms {
		if a, err := xproto.InternAtom(x, false, uint16(len(name)), name).Reply(); err == nil {
			c.atom[name] = a.Atom
		}
	}
	xfixes.SelectSelectionInput(x, own, c.atom["CLIPBOARD"], xfixes.SelectionEventMaskSetSelectionOwner)
}

// SetClip implements host.Screen.
func (s *Screen) SetClip(clip link.ScreenClip) error {
	c := &s.clip
	if len(clip.Text) > link.MaxScreenText || len(clip.PNG) > link.MaxScreenImage {
		return &link.Problem{Status: http.StatusRequestEntityTooLarge, Reason: "That is too much for the clipboard: copy it as a file."}
	}
	c.mu.Lock()
	c.offered = &clip
	c.mu.Unlock()
	return xproto.SetSelectionOwnerChecked(c.x, c.own, c.atom["CLIPBOARD"], xproto.TimeCurrentTime).Check()
}

// event takes an event of the server, and returns what was put on the clipboard.
func (c *clipboard) event(e xgb.Event) *link.ScreenClip {
	switch e := e.(type) {
	case xfixes.SelectionNotifyEvent:
		if e.Owner != c.own && e.Owner != 0 {
			c.ask("TARGETS")
		}
	case xproto.SelectionClearEvent:
		c.mu.Lock()
		c.offered = nil
		c.mu.Unlock()
	case xproto.SelectionRequestEvent:
		c.answer(e)
	case xproto.SelectionNotifyEvent:
		if e.Property != 0 && e.Requestor == c.own {
			return c.take(e.Target)
		}
	case xproto.PropertyNotifyEvent:
		if e.Window == c.own && e.State == xproto.PropertyNewValue && e.Atom == c.atom["MOORWATCH_CLIP"] {
			c.mu.Lock()
			pieces := c.pieces
			c.mu.Unlock()
			if pieces {
				return c.piece()
			}
		}
	}
	return nil
}

func (c *clipboard) ask(target string) {
	xproto.ConvertSelection(c.x, c.own, c.atom["CLIPBOARD"], c.atom[target], c.atom["MOORWATCH_CLIP"], xproto.TimeCurrentTime)
}

// property reads what the owner has put at our window, and takes it from there.
func (c *clipboard) property() (*xproto.GetPropertyReply, []byte) {
	p, err := xproto.GetProperty(c.x, true, c.own, c.atom["MOORWATCH_CLIP"], xproto.GetPropertyTypeAny, 0, link.MaxScreenImage/4).Reply()
	if err != nil {
		return nil, nil
	}
	return p, p.Value
}

// take takes an answer: what forms there are, or the content in one of them.
func (c *clipboard) take(target xproto.Atom) *link.ScreenClip {
	p, value := c.property()
	if p == nil {
		return nil
	}
	if target == c.atom["TARGETS"] {
		offers := map[xproto.Atom]bool{}
		for ; len(value) >= 4; value = value[4:] {
			offers[xproto.Atom(xgb.Get32(value))] = true
		}
		for _, form := range []string{"UTF8_STRING", "image/png", "STRING"} {
			if offers[c.atom[form]] {
				c.ask(form)
				break
			}
		}
		return nil
	}
	if p.Type == c.atom["INCR"] { // it comes in pieces, each once the one before was taken
		c.mu.Lock()
		c.pieces, c.coming = true, nil
		c.mu.Unlock()
		return nil
	}
	return c.clip(p.Type, value)
}

func (c *clipboard) piece() *link.ScreenClip {
	p, value := c.property()
	if p == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(value) > 0 && len(c.coming)+len(value) <= link.MaxScreenImage {
		c.coming = append(c.coming, value...)
		return nil
	}
	all := c.coming
	c.pieces, c.coming = false, nil
	if len(value) > 0 {
		return nil // more than is taken
	}
	return c.clip(p.Type, all)
}

func (c *clipboard) clip(form xproto.Atom, value []byte) *link.ScreenClip {
	switch {
	case len(value) == 0:
		return nil
	case form == c.atom["image/png"]:
		return &link.ScreenClip{PNG: value}
	case len(value) > link.MaxScreenText:
		return nil
	case form == c.atom["STRING"]: // Latin-1
		runes := make([]rune, len(value))
		for i, b := range value {
			runes[i] = rune(b)
		}
		return &link.ScreenClip{Text: string(runes)}
	}
	return &link.ScreenClip{Text: string(value)}
}

// mostProperty is how much is written to another's window at once: the least that every server takes
// in one request, less its header.
const mostProperty = 256<<10 - 64

// answer gives what is offered to a program that asks for it.
func (c *clipboard) answer(e xproto.SelectionRequestEvent) {
	c.mu.Lock()
	offered := c.offered
	c.mu.Unlock()
	property := e.Property
	if property == 0 {
		property = e.Target
	}
	text := []string{"UTF8_STRING", "text/plain;charset=utf-8", "TEXT", "STRING"}
	write := func(form xproto.Atom, format byte, value []byte) {
		for mode := byte(xproto.PropModeReplace); ; mode = xproto.PropModeAppend {
			n := min(len(value), mostProperty)
			xproto.ChangeProperty(c.x, mode, e.Requestor, property, form, format, uint32(n/(int(format)/8)), value[:n])
			if value = value[n:]; len(value) == 0 {
				return
			}
		}
	}
	done := false
	switch {
	case offered == nil:
	case e.Target == c.atom["TARGETS"]:
		forms := text
		if offered.PNG != nil {
			forms = []string{"image/png"}
		}
		var list []byte
		for _, form := range append([]string{"TARGETS"}, forms...) {
			var b [4]byte
			xgb.Put32(b[:], uint32(c.atom[form]))
			list = append(list, b[:]...)
		}
		write(xproto.AtomAtom, 32, list)
		done = true
	case e.Target == c.atom["image/png"] && offered.PNG != nil:
		write(e.Target, 8, offered.PNG)
		done = true
	case offered.PNG == nil:
		for _, form := range text {
			if e.Target == c.atom[form] {
				write(c.atom["UTF8_STRING"], 8, []byte(offered.Text))
				done = true
			}
		}
	}
	if !done {
		property = 0
	}
	notify := xproto.SelectionNotifyEvent{Time: e.Time, Requestor: e.Requestor, Selection: e.Selection, Target: e.Target,
		Property: property}
	xproto.SendEvent(c.x, false, e.Requestor, 0, string(notify.Bytes()))
}
