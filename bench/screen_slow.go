package main

import (
	"context"
	"fmt"
	"image"
	"slices"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// screenSlow measures typing over 2 Mbit/s and 100 ms while a video plays in another window.
func (b *bench) screenSlow() error {
	w, s, err := b.screened()
	if err != nil {
		return err
	}
	defer s.close()
	narrow, err := newSlow(w.listen, 2e6/8, 100*time.Millisecond)
	if err != nil {
		return err
	}
	defer narrow.Close()
	id, stop, err := w.agentAt(b.ctx, "https://"+narrow.Addr().String())
	if err != nil {
		return err
	}
	defer stop()
	if err := s.echo(); err != nil {
		return err
	}
	end, err := s.video(image.Rect(0, 540, 960, 1080))
	if err != nil {
		return err
	}
	defer end()
	took, most, err := typed(b.ctx, w.client, id, s.display, image.Rect(900, 0, 1920, 530))
	if err != nil {
		return err
	}
	b.figure("key to pixels at 2 Mbit/s, p50", quantile(took, 0.5), "ms", 250, true)
	b.figure("key to pixels at 2 Mbit/s, p95", quantile(took, 0.95), "ms", 250, true)
	b.figure("and its last quarter to its first", most, "", 1.5, true)
	return nil
}

// typed types, and measures until each key changes what is shown of an area; growth is how much longer
// that took at the end than at the beginning.
func typed(ctx context.Context, c *client.Client, id uuid.UUID, display string, area image.Rectangle) (took []float64, growth float64,
	err error) {
	v, err := c.Screen(ctx, id, client.ScreenOptions{Desktop: display})
	if err != nil {
		return nil, 0, err
	}
	defer v.Close()
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	changed := make(chan time.Time, 1)
	failed := make(chan error, 1)
	go func() {
		before := &screen.Picture{}
		for {
			e, err := v.Next(ctx)
			if err != nil {
				failed <- err
				return
			}
			if e != nil {
				continue
			}
			now := v.Picture().Scaled(area, 1)
			if !slices.Equal(before.Pix, now.Pix) {
				before = now
				select {
				case changed <- time.Now():
				default:
				}
			}
		}
	}()
	pause := time.NewTimer(6 * time.Second) // until the first picture is there, and the video plays
	const keys = 80
	for n := range keys {
		for still := false; !still; { // what the key before it changes is all there
			select {
			case <-pause.C:
				still = true
			case <-changed:
				if n > 0 {
					pause.Reset(300 * time.Millisecond)
				}
			case err := <-failed:
				return nil, 0, err
			}
		}
		began := time.Now()
		key := string(rune('a' + n%26))
		for _, down := range []bool{true, false} {
			if err := v.Send(ctx, link.ScreenInput{Key: &link.ScreenKey{Key: key, Code: "Key", Down: down}}); err != nil {
				return nil, 0, err
			}
		}
		select {
		case at := <-changed:
			took = append(took, ms(at.Sub(began)))
		case err := <-failed:
			return nil, 0, err
		case <-time.After(5 * time.Second):
			return nil, 0, fmt.Errorf("key %d changed nothing within 5 s", n)
		}
		pause.Reset(300 * time.Millisecond)
	}
	return took, median(slices.Clone(took[3*keys/4:])) / median(slices.Clone(took[:keys/4])), nil
}

// video plays thirty pictures a second in a window.
func (s *stage) video(at image.Rectangle) (func(), error) {
	c, err := s.canvas([2]int{at.Min.X, at.Min.Y}, at.Dx(), at.Dy())
	if err != nil {
		return nil, err
	}
	var pictures [][]uint32
	for i := range 12 {
		pictures = append(pictures, photograph(at.Dx(), at.Dy(), 0.15*float64(i)))
	}
	ctx, cancel := context.WithCancel(s.ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(time.Second / 30)
		defer tick.Stop()
		for i := 0; ; i++ {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				c.put(pictures[i%len(pictures)])
			}
		}
	}()
	return func() { cancel(); <-done; c.close() }, nil
}
