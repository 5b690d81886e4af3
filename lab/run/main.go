// Command run boots a lab of six machines beside a running demo, enrols them there at a site of their own, and
// does to them what it is told on its standard input. It needs root.
//
//	go run ./lab/run -demo demo-data
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"moorwatch.example/agent/identity"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/demo"
	"moorwatch.example/lab"
)

const machines = 6

func main() {
	dir := flag.String("demo", "demo-data", "the demo's `folder`")
	bin := flag.String("bin", "bin", "`folder` of the built programs")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *dir, *bin); err != nil {
		fmt.Fprintln(os.Stderr, "lab:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, dir, bin string) error {
	var a demo.Access
	text, err := os.ReadFile(filepath.Join(dir, "demo.json"))
	if err == nil {
		err = json.Unmarshal(text, &a)
	}
	if err != nil {
		return fmt.Errorf("the lab joins a running demo: start make demo first: %w", err)
	}
	c, err := client.New(client.Options{URL: a.URL, Token: a.Token})
	if err != nil {
		return err
	}
	if _, err := client.Made(c.AddSiteWithResponse(ctx, api.NewSite{Organisation: "Larkmoor Libraries", Site: "Lab"})); err != nil {
		if p, ok := err.(*client.Problem); !ok || p.Status != 409 {
			return err
		}
	}
	l, err := lab.New(ctx, lab.Options{Agent: filepath.Join(bin, "moor-agent"), Service: a.URL,
		Enrol: func(ctx context.Context, name, dir string) error {
			t, err := client.Made(c.AddEnrolmentTokenWithResponse(ctx,
				api.NewEnrolmentToken{Organisation: "Larkmoor Libraries", Site: "Lab"}))
			if err == nil {
				_, err = identity.Enrol(ctx, dir, a.URL, t.Secret, device.Facts{HostName: name})
			}
			return err
		}})
	if err != nil {
		return err
	}
	defer l.Close()
	if _, err := client.Result(c.ImportFeedWithBodyWithResponse(ctx, "Lab", nil, "application/octet-stream",
		strings.NewReader(lab.Advisory))); err != nil {
		return err
	}
	all := map[string]*lab.Machine{}
	began := time.Now()
	for i := range machines {
		name := fmt.Sprintf("lab-%d", i+1)
		if all[name], err = l.Start(ctx, name); err != nil {
			return err
		}
	}
	fmt.Printf("%d machines boot; they are at %s/devices, of the site Lab. It took %s.\nSay: publish, which offers them newer packages; "+
		"resign, which signs those with a key that they do not know; cut, join, kill or reset with a machine's name; quit.\n", machines,
		a.URL, time.Since(began).Round(time.Second))
	lines := make(chan string)
	go func() {
		defer close(lines)
		for s := bufio.NewScanner(os.Stdin); s.Scan(); {
			lines <- s.Text()
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return nil
		case line, ok := <-lines:
			words := strings.Fields(line)
			switch {
			case !ok || slices.Equal(words, []string{"quit"}):
				return nil
			case len(words) == 0:
				continue
			}
			if err := do(ctx, l, all, words); err != nil {
				fmt.Println(err)
				continue
			}
			fmt.Println("Done.")
		}
	}
}

func do(ctx context.Context, l *lab.Lab, all map[string]*lab.Machine, words []string) error {
	switch words[0] {
	case "publish":
		return l.Publish(ctx)
	case "resign":
		return l.Resign(ctx)
	}
	if len(words) != 2 || all[words[1]] == nil {
		return fmt.Errorf("name one machine of lab-1 to lab-%d", machines)
	}
	switch m := all[words[1]]; words[0] {
	case "cut":
		return m.Cut(ctx)
	case "join":
		return m.Join(ctx)
	case "kill":
		return m.Kill()
	case "reset":
		return m.Reset(ctx)
	}
	return fmt.Errorf("there is no %q: there are publish, resign, cut, join, kill, reset and quit", words[0])
}
