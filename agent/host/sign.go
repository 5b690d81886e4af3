package host

import (
	"context"
	"image"
	"io"

	"moorwatch.example/contract/link"
)

// Signs shows the people at desktops who works with them. Screens that can do so implement it.
type Signs interface {
	// Sign opens a sign on a desktop of those that Desktops lists. What the person does with it calls
	// acts, from any goroutine.
	Sign(ctx context.Context, desktop string, acts SignActs) (Sign, error)
	// Marks tells whether its signs show marks.
	Marks() bool
}

// SignActs are what a person does with a sign.
type SignActs struct {
	Say func(text string) // they say something, of at most link.MaxScreenNote bytes
	End func()            // they end the session
}

// Sign is what the person at a desktop sees of those who look at it. Its methods are called from any
// goroutine, and return before what they do is seen.
type Sign interface {
	io.Closer
	// Show tells who is there, in words, and whether the person's own keyboard and mouse rest; without
	// lines nothing is shown, but marks still are.
	Show(lines []string, held bool)
	// Say shows what somebody says.
	Say(n link.ScreenNote)
	// Mark shows, or takes away, what somebody points at or draws, in the desktop's pixels.
	Mark(m Mark)
}

// Mark is something that is shown on a desktop by hand.
type Mark struct {
	By     string // a viewer's id
	Name   string
	Kind   string // of link.ScreenMark
	Points []image.Point
	Text   string
}
