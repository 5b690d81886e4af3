package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xproto"
)

// stage is a desktop of 1920x1080 on which scenes are played for the figures of screens.
type stage struct {
	display string
	dir     string
	stop    context.CancelFunc
	ctx     context.Context
}

// newStage starts the display server.
func newStage(ctx context.Context) (*stage, error) {
	for _, program := range []string{"Xvfb", "xterm", "xdotool"} {
		if _, err := exec.LookPath(program); err != nil {
			return nil, err
		}
	}
	dir, err := os.MkdirTemp("", "moorwatch-bench-")
	if err != nil {
		return nil, err
	}
	s := &stage{dir: dir}
	s.ctx, s.stop = context.WithCancel(ctx)
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer read.Close()
	x := s.command("Xvfb", "-displayfd", "3", "-screen", "0", "1920x1080x24", "-nolisten", "tcp", "-noreset")
	x.ExtraFiles = []*os.File{write}
	err = x.Start()
	write.Close()
	if err != nil {
		return nil, err
	}
	go x.Wait()
	n := 0
	if _, err := fmt.Fscan(read, &n); err != nil { // it tells its number once it is there
		return nil, fmt.Errorf("starting Xvfb: %w", err)
	}
	s.display = fmt.Sprintf(":%d", n)
	return s, s.start("sleep", "3600") // by which the agent finds the desktop
}

func (s *stage) close() {
	s.stop()
	os.RemoveAll(s.dir)
}

func (s *stage) command(program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(s.ctx, program, args...)
	cmd.Env = append(os.Environ(), "DISPLAY="+s.display, "LC_ALL=C.UTF-8")
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	return cmd
}

func (s *stage) xdotool(args ...string) error { return s.command("xdotool", args...).Run() }

func (s *stage) start(program string, args ...string) error {
	cmd := s.command(program, args...)
	if err := cmd.Start(); err != nil {
		return err
	}
	go cmd.Wait()
	return nil
}

// window waits for a window of a title, and returns its number.
func (s *stage) window(title string) (string, error) {
	for range 250 {
		if out, err := s.command("xdotool", "search", "--name", title).Output(); err == nil && len(strings.Fields(string(out))) > 0 {
			time.Sleep(300 * time.Millisecond) // until it is drawn
			return strings.Fields(string(out))[0], nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return "", fmt.Errorf("no window %q came", title)
}

// text writes a file of so many lines of words.
func (s *stage) text(name string, lines int) (string, error) {
	r := rand.New(rand.NewPCG(1, 2))
	words := strings.Fields("peat heather moss gorse rowan mist stone wall beck fell gate sheep track cairn bracken curlew plover bog " +
		"tarn ridge the of and on a over under by")
	var b strings.Builder
	for range lines {
		for r.IntN(14) > 0 {
			b.WriteString(words[r.IntN(len(words))] + " ")
		}
		b.WriteString("\n")
	}
	path := filepath.Join(s.dir, name)
	return path, os.WriteFile(path, []byte(b.String()), 0o644)
}

// echo has what is typed written at the right, where the pointer stands.
func (s *stage) echo() error {
	if err := s.start("xterm", "-T", "echo", "-fa", "Mono", "-fs", "11", "-geometry", "100x30+900+20", "-e", "cat"); err != nil {
		return err
	}
	if _, err := s.window("echo"); err != nil {
		return err
	}
	return s.xdotool("mousemove", "1100", "200")
}

// canvas is a window into which pictures are put.
type canvas struct {
	x      *xgb.Conn
	window xproto.Window
	gc     xproto.Gcontext
	w, h   int
	strip  []byte
}

func (s *stage) canvas(at [2]int, w, h int) (*canvas, error) {
	x, err := xgb.NewConnDisplay(s.display)
	if err != nil {
		return nil, err
	}
	root := xproto.Setup(x).DefaultScreen(x)
	c := &canvas{x: x, w: w, h: h}
	if c.window, err = xproto.NewWindowId(x); err != nil {
		return nil, err
	}
	if c.gc, err = xproto.NewGcontextId(x); err != nil {
		return nil, err
	}
	xproto.CreateWindow(x, root.RootDepth, c.window, root.Root, int16(at[0]), int16(at[1]), uint16(w), uint16(h), 0,
		xproto.WindowClassInputOutput, root.RootVisual, xproto.CwBackPixel|xproto.CwOverrideRedirect, []uint32{0, 1})
	xproto.CreateGC(x, c.gc, xproto.Drawable(c.window), 0, nil)
	xproto.MapWindow(x, c.window)
	x.Sync()
	return c, nil
}

const stripRows = 32

// put shows a picture, 0x00RRGGBB row after row.
func (c *canvas) put(pix []uint32) {
	for y := 0; y < c.h; y += stripRows {
		n := min(stripRows, c.h-y)
		c.strip = c.strip[:0]
		for _, v := range pix[y*c.w : (y+n)*c.w] {
			c.strip = append(c.strip, byte(v), byte(v>>8), byte(v>>16), 0)
		}
		xproto.PutImage(c.x, xproto.ImageFormatZPixmap, xproto.Drawable(c.window), c.gc, uint16(c.w), uint16(n), 0, int16(y), 0, 24,
			c.strip)
	}
	c.x.Sync()
}

func (c *canvas) close() { c.x.Close() }

// photograph makes a picture of many colours: hills of light with a grain, a little different each
// time.
func photograph(w, h int, turn float64) []uint32 {
	r := rand.New(rand.NewPCG(uint64(turn*1000), 7))
	pix := make([]uint32, w*h)
	for y := range h {
		v := float64(y) / float64(h)
		for x := range w {
			u := float64(x) / float64(w)
			l := 120 + 60*math.Sin(7*u+turn+3*math.Sin(4*v+turn/2)) + 40*math.Sin(11*v-turn)
			grain := float64(r.Uint32()&15) - 8
			pix[y*w+x] = uint32(clip(l+grain))<<16 | uint32(clip(l*0.9+30*u+grain))<<8 | uint32(clip(l*0.7+60*v+grain))
		}
	}
	return pix
}

func clip(v float64) float64 { return min(max(v, 0), 255) }
