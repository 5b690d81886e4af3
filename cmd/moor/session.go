package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/health"
)

func runCommand() *cli.Command {
	return &cli.Command{
		Name:      "run",
		Usage:     "run a command at a device, unseen by its user",
		ArgsUsage: "NAME -- COMMAND [ARGUMENT ...]",
		Description: "Both outputs are printed as they come. Ctrl+C ends the command at the device. The exit status\n" +
			"is the command's; 125 means that moor itself failed.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "line", Usage: "give the command to the device's own interpreter, for pipes and wildcards"},
			&cli.DurationFlag{Name: "timeout", Value: link.DefaultTimeout, Usage: "end the command after this time, at most 24h"},
			&cli.Int64Flag{Name: "output-limit", Value: link.DefaultOutputLimit, Usage: "end the command after so many bytes of output"},
		},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			argv := c.Args().Tail()
			if len(argv) > 0 && argv[0] == "--" {
				argv = argv[1:]
			}
			if len(argv) == 0 {
				return errors.New("which command? moor run NAME -- COMMAND")
			}
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			order := link.Command{Argv: argv, Line: c.Bool("line"), Order: uuid.NewString(),
				TimeoutSeconds: int(c.Duration("timeout").Seconds()), OutputLimitBytes: c.Int64("output-limit")}
			exit, err := k.Run(ctx, d.ID, order, shown(os.Stdout), shown(os.Stderr))
			if ctx.Err() != nil {
				return context.Canceled
			}
			if err == nil && exit != 0 {
				return exitStatus(exit)
			}
			return err
		},
	}
}

func shellCommand() *cli.Command {
	return &cli.Command{
		Name:        "shell",
		Usage:       "open a shell at a device, unseen by its user",
		ArgsUsage:   "NAME",
		Description: "A lost connection is made again for five minutes, with what was printed meanwhile.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "as", Usage: "as this `PERSON`"},
			&cli.StringFlag{Name: "program", Usage: "this `INTERPRETER` of the device"}},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			in, out := int(os.Stdin.Fd()), int(os.Stdout.Fd())
			size := link.TerminalSize{Columns: 80, Rows: 24}
			if w, h, err := term.GetSize(out); err == nil {
				size = link.TerminalSize{Columns: w, Rows: h}.Sane()
			}
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			o := client.ShellOptions{Size: size, ID: uuid.New(), Person: c.String("as"), Program: c.String("program")}
			conn, err := k.ShellWith(ctx, d.ID, o)
			if err != nil {
				return err
			}
			if term.IsTerminal(in) {
				before, err := term.MakeRaw(in)
				if err != nil {
					return fmt.Errorf("setting the terminal to raw: %w", err)
				}
				defer term.Restore(in, before)
			}
			t := &terminal{conn: conn}
			defer func() { t.current().Close(websocket.StatusNormalClosure, "") }() // what is closed so, ends
			go follow(ctx, t, out)
			go typed(ctx, t)
			return t.live(ctx, func(ctx context.Context, from int64) (*websocket.Conn, error) {
				o.From = from
				return k.ShellWith(ctx, d.ID, o)
			}, d.Name)
		},
	}
}

// terminal is a shell whose connection is made again when it is lost.
type terminal struct {
	mu   sync.Mutex
	conn *websocket.Conn
	read int64 // bytes of all that the shell printed
}

func (t *terminal) current() *websocket.Conn {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.conn
}

// live prints what the shell prints until it ends, joining it again after a lost connection.
func (t *terminal) live(ctx context.Context, again func(ctx context.Context, from int64) (*websocket.Conn, error), name string) error {
	for {
		err := t.printed(ctx)
		if !errors.Is(err, errLost) || ctx.Err() != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "\r\n[the connection to %s was lost; joining its shell again]\r\n", name)
		deadline := time.Now().Add(link.ShellLinger)
		for {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Second):
			}
			conn, err := again(ctx, t.read)
			if err == nil {
				t.mu.Lock()
				t.conn = conn
				t.mu.Unlock()
				break
			}
			if time.Now().After(deadline) {
				return fmt.Errorf("the shell at %s was lost: %w", name, err)
			}
		}
	}
}

// follow tells the shell when this terminal's size changes.
func follow(ctx context.Context, t *terminal, out int) {
	changes := make(chan os.Signal, 1)
	if sizeChanged != nil {
		signal.Notify(changes, sizeChanged)
		defer signal.Stop(changes)
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-changes:
			if w, h, err := term.GetSize(out); err == nil {
				size := link.TerminalSize{Columns: w, Rows: h}.Sane()
				text, _ := json.Marshal(link.ShellEvent{Resize: &size})
				t.current().Write(ctx, websocket.MessageText, text)
			}
		}
	}
}

// typed sends what is typed; the end of the input is Ctrl+D.
func typed(ctx context.Context, t *terminal) {
	b := make([]byte, 4096)
	for {
		n, err := os.Stdin.Read(b)
		if n > 0 {
			t.current().Write(ctx, websocket.MessageBinary, b[:n]) // what is typed into a lost connection is lost
		}
		if errors.Is(err, io.EOF) {
			t.current().Write(ctx, websocket.MessageBinary, []byte{4})
		}
		if err != nil {
			return
		}
	}
}

// errLost ends a connection that can be made again.
var errLost = errors.New("the connection was lost")

// printed prints what the shell prints, and returns how it ended.
func (t *terminal) printed(ctx context.Context) error {
	conn := t.current()
	for {
		kind, data, err := conn.Read(ctx)
		if err != nil {
			return errLost
		}
		if kind == websocket.MessageBinary {
			t.read += int64(len(data))
			if _, err := os.Stdout.Write(data); err != nil {
				return err
			}
			continue
		}
		var e link.ShellEvent
		if err := json.Unmarshal(data, &e); err != nil {
			continue
		}
		switch {
		case e.Begin != nil:
			t.read = *e.Begin
		case e.Error != "":
			return errLost
		case e.Exit != nil && *e.Exit != 0:
			return exitStatus(*e.Exit)
		case e.Exit != nil:
			return nil
		}
	}
}

func linkTestCommand() *cli.Command {
	return &cli.Command{
		Name:          "link-test",
		Usage:         "measure the link to a device: the time of a call, and bytes a second",
		ArgsUsage:     "NAME",
		Flags:         []cli.Flag{&cli.Int64Flag{Name: "bytes", Value: 16 << 20, Usage: "how much the device sends, at most 4 GiB"}},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			if _, _, err := k.LinkBytes(ctx, d.ID, 0); err != nil { // opens the connections
				return err
			}
			_, call, err := k.LinkBytes(ctx, d.ID, 0)
			if err != nil {
				return err
			}
			n := c.Int64("bytes")
			_, all, err := k.LinkBytes(ctx, d.ID, n)
			if err != nil {
				return err
			}
			fmt.Printf("%s: a call takes %s; %s came in %s, %s/s\n", d.Name, call.Round(10*time.Microsecond),
				health.Bytes(n), all.Round(time.Millisecond), health.Bytes(int64(float64(n)/all.Seconds())))
			return nil
		},
	}
}
