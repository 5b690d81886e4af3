package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"os/exec"
	"slices"
	"time"

	"github.com/coder/websocket"
	"github.com/creack/pty"
	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/uplink"
)

// percentile of sorted times, 0 to 1.
func percentile(sorted []time.Duration, p float64) time.Duration {
	return sorted[min(int(p*float64(len(sorted))), len(sorted)-1)]
}

// times repeats something and returns how long each took, sorted. The first tenth is not counted.
func times(n int, once func() error) ([]time.Duration, error) {
	var all []time.Duration
	for i := range n + n/10 {
		began := time.Now()
		if err := once(); err != nil {
			return nil, err
		}
		if i >= n/10 {
			all = append(all, time.Since(began))
		}
	}
	slices.Sort(all)
	return all, nil
}

// call measures one HTTP call to a device over its link, against a bare round trip on loopback.
func (b *bench) call() error {
	server, fingerprint, err := ownAuthority()
	if err != nil {
		return err
	}
	bare, err := bareRoundTrip()
	if err != nil {
		return err
	}
	calls, err := calls(b.ctx, server, fingerprint)
	if err != nil {
		return err
	}
	b.figure("call over the link, median", ms(percentile(calls, .5)), "ms", ms(percentile(bare, .5))+0.3, true)
	return nil
}

func bareRoundTrip() ([]time.Duration, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			io.Copy(struct{ io.Writer }{c}, struct{ io.Reader }{c})
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		return nil, err
	}
	defer c.Close()
	b := make([]byte, 1)
	return times(5000, func() error {
		if _, err := c.Write(b); err != nil {
			return err
		}
		_, err := io.ReadFull(c, b)
		return err
	})
}

func calls(ctx context.Context, server *tls.Config, fingerprint string) ([]time.Duration, error) {
	l, err := connect(ctx, server, fingerprint)
	if err != nil {
		return nil, err
	}
	defer l.close()
	go http.Serve(l.device.Listener(), http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "ok") }))
	client := &http.Client{Transport: uplink.Transport(func(ctx context.Context, _ string) (net.Conn, error) {
		return l.service.Open(ctx)
	})}
	return times(5000, func() error {
		answer, err := client.Get("http://device/")
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		_, err = io.Copy(io.Discard, answer.Body)
		return err
	})
}

// bulk measures a gibibyte from an agent through the service to a client, each in a process of its
// own, against TLS alone.
func (b *bench) bulk() error {
	w, id, err := b.local()
	if err != nil {
		return err
	}
	server, fingerprint, err := ownAuthority()
	if err != nil {
		return err
	}
	var raw, through []float64
	for range 3 {
		r, err := overTLS(server, uplink.Pinned(fingerprint))
		if err != nil {
			return err
		}
		_, took, err := w.client.LinkBytes(b.ctx, id, gibibyte)
		if err != nil {
			return err
		}
		raw, through = append(raw, r), append(through, gibibyte/took.Seconds())
	}
	b.figure("agent to client throughput", median(through)/1e6, "MB/s", 0.33*median(raw)/1e6, false)
	return nil
}

// shell measures from a keystroke to its echo, through the service and the agent to a terminal
// and back, against a terminal alone; then the same while the device sends at full speed.
func (b *bench) shell() error {
	w, id, err := b.local()
	if err != nil {
		return err
	}
	bare, err := bareEcho()
	if err != nil {
		return err
	}
	conn, write, read, err := b.shellAt(w, id)
	if err != nil {
		return err
	}
	defer conn.CloseNow()
	quiet, err := times(2000, func() error { return echo(write, read) })
	if err != nil {
		return err
	}
	b.figure("keystroke to echo, p50", ms(percentile(quiet, .5)), "ms", ms(percentile(bare, .5))+1, true)
	b.figure("keystroke to echo, p99", ms(percentile(quiet, .99)), "ms", ms(percentile(bare, .99))+5, true)
	ctx, stop := context.WithCancel(b.ctx)
	sending := make(chan error, 1)
	go func() {
		for ctx.Err() == nil {
			if _, _, err := w.client.LinkBytes(ctx, id, gibibyte); err != nil && ctx.Err() == nil {
				sending <- err
				return
			}
		}
		sending <- nil
	}()
	time.Sleep(300 * time.Millisecond)
	busy, err := times(500, func() error { return echo(write, read) })
	stop()
	if err := errors.Join(err, <-sending); err != nil {
		return err
	}
	b.figure("keystroke to echo beside bulk, p99", ms(percentile(busy, .99)), "ms", 25, true)
	return nil
}

// shellAt opens a shell whose terminal only echoes, and returns what types into it and reads from it.
func (b *bench) shellAt(w *world, id uuid.UUID) (conn *websocket.Conn, write func([]byte) error, read func() ([]byte, error), err error) {
	if conn, err = w.client.Shell(b.ctx, id, link.TerminalSize{Columns: 80, Rows: 24}); err != nil {
		return nil, nil, nil, err
	}
	read = func() ([]byte, error) {
		_, data, err := conn.Read(b.ctx)
		return data, err
	}
	write = func(p []byte) error { return conn.Write(b.ctx, websocket.MessageBinary, p) }
	return conn, write, read, quieten(write, read)
}

// quieten has a shell give its terminal to cat, whose echo is the terminal's own.
func quieten(write func([]byte) error, read func() ([]byte, error)) error {
	if err := write([]byte("printf 'rea%s\\n' dy; exec cat\n")); err != nil {
		return err
	}
	for all := []byte(nil); !bytes.Contains(all, []byte("ready\r\n")); {
		data, err := read()
		if err != nil {
			return err
		}
		all = append(all, data...)
	}
	time.Sleep(200 * time.Millisecond)
	return nil
}

// echo types a character and waits for it.
func echo(write func([]byte) error, read func() ([]byte, error)) error {
	if err := write([]byte("m")); err != nil {
		return err
	}
	for {
		data, err := read()
		if err != nil {
			return err
		}
		if bytes.IndexByte(data, 'm') >= 0 {
			return nil
		}
	}
}

func bareEcho() ([]time.Duration, error) {
	cmd := exec.Command("/bin/cat")
	f, err := pty.Start(cmd)
	if err != nil {
		return nil, err
	}
	defer func() { f.Close(); cmd.Wait() }()
	buffer := make([]byte, 4096)
	return times(2000, func() error {
		return echo(func(p []byte) error { _, err := f.Write(p); return err }, func() ([]byte, error) {
			n, err := f.Read(buffer)
			return buffer[:n], err
		})
	})
}
