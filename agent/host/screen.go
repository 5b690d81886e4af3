package host

import (
	"context"
	"image"
	"io"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// Screens shows desktops and works on them. What cannot be done is a *link.Problem.
type Screens interface {
	// Desktops lists the desktops of the computer, the one that is worked on first; one that cannot
	// be looked at says why.
	Desktops(ctx context.Context) (link.DesktopList, error)
	// Open begins to look at a desktop; "" is the first that can be looked at.
	Open(ctx context.Context, desktop string) (Screen, error)
	// LetGo lets go of whatever an agent that was killed may have left pressed on any desktop.
	LetGo()
}

// Screen is an open desktop, as one viewer has it. Wait and Grab are called from one goroutine, the
// rest from any. Close ends a Wait, and lets go of every key and button that is down.
type Screen interface {
	io.Closer
	Desktop() link.Desktop
	// Layout tells the size of the whole desktop, and its monitors.
	Layout() (size image.Point, monitors []link.Monitor)
	// Wait returns when something is different from when it returned last; at first at once, with
	// all of it. What came while nobody waited comes together. An error other than ctx's means that
	// the desktop is gone.
	Wait(ctx context.Context) (ScreenChange, error)
	// Grab copies a part of the desktop as it is now to the same place of a picture of its size.
	Grab(into *screen.Picture, r image.Rectangle) error
	// Press presses or lets go of a key; Point places the pointer and its buttons within the
	// desktop; Turn turns the wheel by steps; Type types a text. Attend is Ctrl+Alt+Del.
	Press(k link.ScreenKey) error
	Point(at image.Point, buttons int) error
	Turn(right, down int) error
	Type(ctx context.Context, text string) error
	Attend() error
	// Release lets go of every key and button that this Screen holds down.
	Release()
	// SetClip puts something on the desktop's clipboard.
	SetClip(c link.ScreenClip) error
	// Hold keeps the person's own keyboard and mouse from the desktop, or lets them again. back,
	// which is called once from any goroutine, tells that the person took them back by the gesture
	// that is told to them.
	Hold(held bool, back func()) error
}

// ScreenChange is what has changed on a desktop.
type ScreenChange struct {
	Damage  []image.Rectangle
	Layout  bool // its size or its monitors
	Cursor  *link.ScreenCursor
	Pointer *image.Point // where it stands, when not Point has put it there
	Clip    *link.ScreenClip
}
