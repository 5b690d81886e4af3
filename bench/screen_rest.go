package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
)

// Durations and counts of the figures of many screens, and of one where nothing happens.
const (
	restFor   = 15 * time.Second
	sessions  = 10
	wallOf    = 100
	wallEvery = 5 * time.Second
)

// screenRest measures what an idle screen costs, what ten that scroll cost the service, and a wall.
func (b *bench) screenRest() error {
	w, s, err := b.screened()
	if err != nil {
		return err
	}
	defer s.close()
	id, stop, err := w.agentAt(b.ctx, w.url)
	if err != nil {
		return err
	}
	defer stop()
	ctx, cancel := context.WithCancel(b.ctx)
	defer cancel()
	watch := watchers{ctx: ctx, client: w.client, device: id, display: s.display}
	defer watch.end()
	if err := watch.join(1); err != nil {
		return err
	}
	time.Sleep(5 * time.Second) // the first picture is there, and the agent has told of itself
	cpu, bytes, err := watch.spend(w.pids[id], restFor)
	if err != nil {
		return err
	}
	b.figure("idle screen, the agent's core", 100*cpu, "%", 1, true)
	b.figure("idle screen, sent", bytes, "B/s", 1000, true)

	path, err := s.text("page", 4000)
	if err != nil {
		return err
	}
	if err := s.start("xterm", "-T", "scrolling", "-fa", "Mono", "-fs", "11", "-geometry", "100x44+20+20", "-e", "sh", "-c",
		`while read line; do echo "$line"; sleep 0.05; done < `+path); err != nil {
		return err
	}
	if _, err := s.window("scrolling"); err != nil {
		return err
	}
	if err := watch.join(sessions - 1); err != nil {
		return err
	}
	time.Sleep(2 * time.Second)
	before := watch.updates.Load()
	if cpu, _, err = watch.spend(w.service.Process.Pid, restFor); err != nil {
		return err
	}
	b.figure("ten screens, the service's core", 100*cpu, "%", 50, true)
	// Twenty lines a second come in each: less than half of that is no relaying worth the name.
	b.figure("ten screens, pictures of each", float64(watch.updates.Load()-before)/sessions/restFor.Seconds(), "/s", 10, false)
	watch.end()
	return b.wall(w)
}

// watchers are viewers of one desktop.
type watchers struct {
	ctx            context.Context
	client         *client.Client
	device         uuid.UUID
	display        string
	all            []*client.Screen
	running        sync.WaitGroup
	bytes, updates atomic.Int64
}

func (w *watchers) join(n int) error {
	for range n {
		s, err := w.client.Screen(w.ctx, w.device, client.ScreenOptions{Desktop: w.display, Mode: "view"})
		if err != nil {
			return err
		}
		w.all = append(w.all, s)
		w.running.Go(func() {
			for last := int64(0); ; last = s.Bytes {
				e, err := s.Next(w.ctx)
				if err != nil {
					return
				}
				if e == nil {
					w.updates.Add(1)
				}
				w.bytes.Add(s.Bytes - last)
			}
		})
	}
	return nil
}

func (w *watchers) end() {
	for _, s := range w.all {
		s.Close()
	}
	w.all = nil
	w.running.Wait()
}

// spend measures what part of a core a process uses for a while, and what comes to the viewers in bytes
// a second.
func (w *watchers) spend(pid int, during time.Duration) (core, bytes float64, err error) {
	before, err := cpuOf(pid)
	if err != nil {
		return 0, 0, err
	}
	sent, began := w.bytes.Load(), time.Now()
	time.Sleep(during)
	after, err := cpuOf(pid)
	took := time.Since(began).Seconds()
	return (after - before).Seconds() / took, float64(w.bytes.Load()-sent) / took, err
}

// cpuOf is the time that a process has used (proc_pid_stat(5)), in ticks of 10 ms.
func cpuOf(pid int) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(text), ") ")
	f := strings.Fields(rest)
	if len(f) < 13 {
		return 0, fmt.Errorf("/proc/%d/stat is %q", pid, text)
	}
	user, err := strconv.Atoi(f[11])
	if err != nil {
		return 0, err
	}
	system, err := strconv.Atoi(f[12])
	return time.Duration(user+system) * 10 * time.Millisecond, err
}

// wall measures what the small pictures of many screens cost, each asked for as the console does.
func (b *bench) wall(w *world) error {
	if err := w.fleet(b.ctx, "wall", sim.Laptop, wallOf); err != nil {
		return err
	}
	var ids []uuid.UUID
	for range 40 { // the list follows within a quarter of a second
		ids = ids[:0]
		for d, err := range w.client.Devices(b.ctx, "online && name.startsWith('wall-')") {
			if err != nil {
				return err
			}
			ids = append(ids, d.ID)
		}
		if len(ids) == wallOf {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if len(ids) != wallOf {
		return fmt.Errorf("%d of %d screens are there", len(ids), wallOf)
	}
	if _, err := client.Made(w.client.AddConsentRuleWithResponse(b.ctx,
		api.NewConsentRule{Scope: health.Scope{Kind: health.Everywhere}, Tool: new("wall"), Mode: "silent"})); err != nil {
		return err
	}
	tags := make([]string, wallOf)
	turn := func(known bool) (bytes float64, err error) {
		for i, id := range ids {
			in := api.GetScreenPictureParams{}
			if known {
				in.IfNoneMatch = &tags[i]
			}
			answer, err := w.client.GetScreenPicture(b.ctx, id, &in)
			if err != nil {
				return 0, err
			}
			n, err := io.Copy(io.Discard, answer.Body)
			answer.Body.Close()
			if err != nil {
				return 0, err
			}
			if answer.StatusCode != http.StatusOK && (!known || answer.StatusCode != http.StatusNotModified) {
				return 0, fmt.Errorf("a picture: %s", answer.Status)
			}
			tags[i] = answer.Header.Get("ETag")
			bytes += float64(n)
		}
		return bytes / 1000 / wallEvery.Seconds(), nil
	}
	all, err := turn(false)
	if err != nil {
		return err
	}
	b.figure("a wall of 100, all of which change", all, "kB/s", 200, true)
	tick := time.NewTicker(wallEvery)
	defer tick.Stop()
	const turns = 4
	rest := 0.0
	for range turns {
		<-tick.C
		changed, err := turn(true)
		if err != nil {
			return err
		}
		rest += changed / turns
	}
	b.figure("a wall of 100, as they are", rest, "kB/s", 200, true)
	return nil
}
