package main

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"io"
	"os/exec"
	"sync/atomic"
	"time"
	"unsafe"

	"moorwatch.example/agent/host/linux/x11"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// frames is how many changes of a scene are taken.
const frames = 90

// screenBytes measures what typing, scrolling and dragging cost, on the same frames beside PNG of the
// changed rectangles and beside a lossless video encoder.
func (b *bench) screenBytes() error {
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		return err
	}
	for _, scene := range []struct {
		name string
		play func(s *stage) (act func(n int) error, err error)
	}{
		{"typing", (*stage).typing}, {"scrolling", (*stage).scrolling}, {"dragging", (*stage).dragging},
	} {
		if err := b.scene(scene.name, scene.play); err != nil {
			return fmt.Errorf("%s: %w", scene.name, err)
		}
	}
	return nil
}

func (s *stage) typing() (func(int) error, error) {
	if err := s.start("xterm", "-T", "notes", "-fa", "Mono", "-fs", "11", "-geometry", "110x40+80+60"); err != nil {
		return nil, err
	}
	_, err := s.window("notes")
	if err == nil {
		err = s.xdotool("mousemove", "300", "300")
	}
	text := "the ridge path is closed until the wall by the tarn is mended; "
	return func(n int) error {
		key := string(text[n%len(text)])
		if key == " " {
			key = "space"
		} else if key == ";" {
			key = "semicolon"
		}
		return s.xdotool("key", key)
	}, err
}

func (s *stage) scrolling() (func(int) error, error) {
	path, err := s.text("page", 4000)
	if err != nil {
		return nil, err
	}
	if err := s.start("xterm", "-T", "page", "-fa", "Mono", "-fs", "11", "-geometry", "180x52+60+40", "-e", "less", "-X",
		path); err != nil {
		return nil, err
	}
	_, err = s.window("page")
	if err == nil {
		err = s.xdotool("mousemove", "300", "300")
	}
	return func(int) error { return s.xdotool("key", "Down") }, err
}

func (s *stage) dragging() (func(int) error, error) {
	path, err := s.text("below", 400)
	if err != nil {
		return nil, err
	}
	if err := s.start("xterm", "-T", "below", "-fa", "Mono", "-fs", "11", "-geometry", "190x56+20+20", "-e", "less", "-X",
		path); err != nil {
		return nil, err
	}
	if _, err := s.window("below"); err != nil {
		return nil, err
	}
	if err := s.start("xterm", "-T", "above", "-fa", "Mono", "-fs", "11", "-bg", "#efe8f5", "-geometry", "80x24+200+150", "-e", "sh", "-c",
		"tail -n 22 "+path+"; read x"); err != nil {
		return nil, err
	}
	id, err := s.window("above")
	return func(n int) error {
		return s.xdotool("windowmove", id, fmt.Sprint(200+7*n), fmt.Sprint(150+3*n))
	}, err
}

// scene plays a scene and encodes its frames in each way.
func (b *bench) scene(name string, play func(s *stage) (func(int) error, error)) error {
	s, err := newStage(b.ctx)
	if err != nil {
		return err
	}
	defer s.close()
	act, err := play(s)
	if err != nil {
		return err
	}
	look, err := x11.Open(link.Desktop{}, s.display, "", 0)
	if err != nil {
		return err
	}
	defer look.Close()
	size, _ := look.Layout()
	p, err := screen.NewPicture(size.X, size.Y)
	if err != nil {
		return err
	}
	video, err := newVideo(b.ctx, size)
	if err != nil {
		return err
	}
	e := screen.NewEncoder()
	before, err := screen.NewPicture(size.X, size.Y)
	if err != nil {
		return err
	}
	ours, pngs := 0, 0
	var took time.Duration
	for n := range frames {
		if n > 0 {
			if err := act(n); err != nil {
				return err
			}
		}
		changed, err := settled(b.ctx, look, p)
		if err != nil {
			return err
		}
		began := time.Now()
		for _, r := range changed {
			e.Damage(r)
		}
		update := e.Update(p, screen.Wish{Now: time.Now()})
		if n > 0 { // the first picture is no change
			ours += len(update)
			took += time.Since(began)
		}
		for _, r := range screen.Differences(before, p) {
			var out bytes.Buffer
			if err := png.Encode(&out, crop{p, r}); err != nil {
				return err
			}
			if n > 0 {
				pngs += out.Len()
			}
		}
		copy(before.Pix, p.Pix)
		if err := video.frame(p); err != nil {
			return err
		}
	}
	bytes, err := video.end()
	if err != nil {
		return err
	}
	b.figure(name+": a change", float64(ours)/frames, "B", 0.5*float64(pngs)/frames, true)
	b.figure(name+": a change, and a video's", float64(ours)/frames, "B", float64(bytes)/frames, true)
	b.figure(name+": encoding", ms(took)/frames, "ms", 16, true)
	return nil
}

// settled grabs what has changed until nothing more does for a moment.
func settled(ctx context.Context, look *x11.Screen, p *screen.Picture) (all []image.Rectangle, err error) {
	for wait := time.Second; ; wait = 60 * time.Millisecond {
		within, cancel := context.WithTimeout(ctx, wait)
		c, err := look.Wait(within)
		cancel()
		if err != nil {
			return all, ctx.Err()
		}
		for _, r := range c.Damage {
			if err := look.Grab(p, r); err != nil {
				return nil, err
			}
			all = append(all, r)
		}
	}
}

// crop is a part of a picture.
type crop struct {
	*screen.Picture
	r image.Rectangle
}

func (c crop) Bounds() image.Rectangle { return c.r }
func (c crop) Opaque() bool            { return true }

// video is an encoder of frames, whose output is counted.
type video struct {
	cmd   *exec.Cmd
	in    io.WriteCloser
	bytes atomic.Int64
	done  chan error
}

func newVideo(ctx context.Context, size image.Point) (*video, error) {
	v := &video{done: make(chan error, 1)}
	v.cmd = exec.CommandContext(ctx, "ffmpeg", "-loglevel", "error", "-f", "rawvideo", "-pix_fmt", "bgr0", "-s",
		fmt.Sprintf("%dx%d", size.X, size.Y), "-r", "60", "-i", "-",
		"-c:v", "libx264rgb", "-preset", "ultrafast", "-qp", "0", "-f", "h264", "-")
	var err error
	if v.in, err = v.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := v.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := v.cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		n, err := io.Copy(io.Discard, out)
		v.bytes.Store(n)
		v.done <- err
	}()
	return v, nil
}

func (v *video) frame(p *screen.Picture) error {
	_, err := v.in.Write(unsafe.Slice((*byte)(unsafe.Pointer(&p.Pix[0])), 4*len(p.Pix)))
	return err
}

func (v *video) end() (int64, error) {
	v.in.Close()
	if err := <-v.done; err != nil {
		return 0, err
	}
	return v.bytes.Load(), v.cmd.Wait()
}
