package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

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
			exit, err := k.Run(ctx, d.ID, order, os.Stdout, os.Stderr)
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
		Name:          "shell",
		Usage:         "open a shell at a device, unseen by its user",
		ArgsUsage:     "NAME",
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
			conn, err := k.Shell(ctx, d.ID, size)
			if err != nil {
				return err
			}
			defer conn.CloseNow()
			if term.IsTerminal(in) {
				before, err := term.MakeRaw(in)
				if err != nil {
					return fmt.Errorf("setting the terminal to raw: %w", err)
				}
				defer term.Restore(in, before)
			}
			go follow(ctx, conn, out)
			go typed(ctx, conn)
			return printed(ctx, conn, d.Name)
		},
	}
}

// follow tells the shell when this terminal's size changes.
func follow(ctx context.Context, conn *websocket.Conn, out int) {
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
				conn.Write(ctx, websocket.MessageText, text)
			}
		}
	}
}

// typed sends what is typed; the end of the input is Ctrl+D.
func typed(ctx context.Context, conn *websocket.Conn) {
	b := make([]byte, 4096)
	for {
		n, err := os.Stdin.Read(b)
		if n > 0 && conn.Write(ctx, websocket.MessageBinary, b[:n]) != nil {
			return
		}
		if errors.Is(err, io.EOF) {
			conn.Write(ctx, websocket.MessageBinary, []byte{4})
		}
		if err != nil {
			return
		}
	}
}

// printed prints what the shell prints, and returns how it ended.
func printed(ctx context.Context, conn *websocket.Conn, name string) error {
	for {
		kind, data, err := conn.Read(ctx)
		if err != nil {
			return fmt.Errorf("the connection to the service was lost, and the shell at %s with it", name)
		}
		if kind == websocket.MessageBinary {
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
		case e.Error != "":
			return errors.New(e.Error)
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
