package helper

import (
	"bytes"
	"context"
	"image"
	"io"
	"testing"
	"time"

	"moorwatch.example/core/screen"
)

// hostilePipe is a helper that answers what it likes: it runs as the person whose session it is in, who may have put
// another program in its place.
type hostilePipe struct{ io.Reader }

func (hostilePipe) Write(p []byte) (int, error) { return len(p), nil }
func (hostilePipe) Close() error                { return nil }

// FuzzHelper has the agent, which is root, read the answers of such a helper.
func FuzzHelper(f *testing.F) {
	f.Add([]byte("\x05\xff\x81\x03\x01\x01"))
	f.Fuzz(func(t *testing.T, answers []byte) {
		c := NewClient(hostilePipe{bytes.NewReader(answers)})
		defer c.Close()
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		c.Desktops(ctx)
		if s, err := c.Open(ctx, "x"); err == nil {
			s.Layout()
			into, err := screen.NewPicture(64, 48)
			if err != nil {
				t.Fatal(err)
			}
			s.Grab(into, image.Rect(0, 0, 64, 48))
		}
	})
}
