package main

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
	"moorwatch.example/uplink"
)

// transfer measures files both ways through agent and service, each in a process of its own,
// against TLS alone; small files; and the memory that a large file takes.
func (b *bench) transfer() error {
	w, id, dir, err := b.inMemory()
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	source := filepath.Join(dir, "source")
	if err := noiseFile(source, gibibyte); err != nil {
		return err
	}
	server, fingerprint, err := ownAuthority()
	if err != nil {
		return err
	}
	var raw, put, get []float64
	for range 3 {
		r, err := overTLS(server, uplink.Pinned(fingerprint))
		if err != nil {
			return err
		}
		p, err := w.putOnce(b.ctx, id, source, filepath.Join(dir, "there"))
		if err != nil {
			return err
		}
		began := time.Now()
		if err := w.client.Get(b.ctx, id, source, filepath.Join(dir, "here"), true, nil); err != nil {
			return err
		}
		raw, put, get = append(raw, r), append(put, gibibyte/p.Seconds()), append(get, gibibyte/time.Since(began).Seconds())
	}
	b.figure("file to device", median(put)/1e6, "MB/s", 0.33*median(raw)/1e6, false)
	b.figure("file from device", median(get)/1e6, "MB/s", 0.33*median(raw)/1e6, false)
	disk := filepath.Join(w.dir, "files")
	if err := os.MkdirAll(disk, 0o755); err != nil {
		return err
	}
	if err := b.large(w, id, disk); err != nil {
		return err
	}
	if err := b.small(w, id, dir); err != nil {
		return err
	}
	return b.listing(w, id, dir)
}

// inMemory is local with a folder in memory, so that what is measured is the way and not this
// machine's disk, which a transfer waits for before it calls a file whole. The caller removes it.
func (b *bench) inMemory() (w *world, id uuid.UUID, dir string, err error) {
	if w, id, err = b.local(); err == nil {
		dir, err = os.MkdirTemp("/dev/shm", "moorwatch-bench-")
	}
	return w, id, dir, err
}

func noiseFile(path string, size int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	b := make([]byte, 1<<20)
	for i := range b {
		b[i] = byte(i * 7 >> 3)
	}
	for range size / int64(len(b)) {
		if _, err := f.Write(b); err != nil {
			return err
		}
	}
	return f.Close()
}

func (w *world) putOnce(ctx context.Context, id uuid.UUID, from, to string) (time.Duration, error) {
	f, err := os.Open(from)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	began := time.Now()
	_, err = w.client.Put(ctx, id, f, to, client.PutOptions{Replace: true})
	return time.Since(began), err
}

// large sends 10 GB, of a file with holes, both ways, and looks at what service and agent hold
// meanwhile.
func (b *bench) large(w *world, id uuid.UUID, dir string) error {
	const size = 10_000_000_000
	source := filepath.Join(dir, "large")
	f, err := os.Create(source)
	if err == nil {
		err = f.Truncate(size)
		f.Close()
	}
	if err != nil {
		return err
	}
	agent, err := pidOf("moor-agent")
	if err != nil {
		return err
	}
	pids := map[string]int{"service": w.service.Process.Pid, "agent": agent}
	held := func(pid int) float64 { n, _ := resident(pid); return n / (1 << 20) }
	before := map[string]float64{}
	for name, pid := range pids {
		before[name] = held(pid)
	}
	most := map[string]float64{}
	ctx, stop := context.WithCancel(b.ctx)
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		for ctx.Err() == nil {
			for name, pid := range pids {
				most[name] = max(most[name], held(pid)-before[name])
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
	_, err = w.putOnce(b.ctx, id, source, filepath.Join(dir, "there"))
	if err == nil {
		err = w.client.Get(b.ctx, id, source, filepath.Join(dir, "here"), true, nil)
	}
	stop()
	<-watched
	for _, name := range []string{"large", "there", "here"} {
		os.Remove(filepath.Join(dir, name))
	}
	if err != nil {
		return err
	}
	b.figure("service memory for a 10 GB file", most["service"], "MiB", 32, true)
	b.figure("agent memory for a 10 GB file", most["agent"], "MiB", 32, true)
	return nil
}

func pidOf(name string) (int, error) {
	out, err := exec.Command("pgrep", "-n", "-x", name).Output()
	if err != nil {
		return 0, fmt.Errorf("finding %s: %w", name, err)
	}
	return strconv.Atoi(strings.TrimSpace(string(out)))
}

const smallFiles = 100_000

// small sends a folder of small files.
func (b *bench) small(w *world, id uuid.UUID, dir string) error {
	began := time.Now()
	text := strings.Repeat("moor ", 200)
	err := w.client.PutFolder(b.ctx, id, filepath.Join(dir, "small"), func(t *tar.Writer) error {
		for i := range smallFiles {
			h := &tar.Header{Typeflag: tar.TypeReg, Name: fmt.Sprintf("%03d/%05d.txt", i/1000, i), Mode: 0o644, Size: int64(len(text))}
			if err := t.WriteHeader(h); err != nil {
				return err
			}
			if _, err := io.WriteString(t, text); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	b.figure("small files to device", smallFiles/time.Since(began).Seconds(), "/s", 2000, false)
	began = time.Now()
	n := 0
	err = w.client.GetFolder(b.ctx, id, filepath.Join(dir, "small"), func(h *tar.Header, r io.Reader) error {
		if h.Typeflag == tar.TypeReg {
			n++
		}
		_, err := io.Copy(io.Discard, r)
		return err
	})
	if err == nil && n != smallFiles {
		err = fmt.Errorf("%d of %d files came", n, smallFiles)
	}
	b.figure("small files from device", smallFiles/time.Since(began).Seconds(), "/s", 2000, false)
	return err
}

// listing reads a folder of 100,000 entries.
func (b *bench) listing(w *world, id uuid.UUID, dir string) error {
	flat := filepath.Join(dir, "flat")
	if err := hundredThousand(flat); err != nil {
		return err
	}
	began, n := time.Now(), 0
	if err := w.client.Walk(b.ctx, id, flat, false, func(l link.FileBatch) error { n += len(l.Entries); return nil }); err != nil {
		return err
	}
	if n != 100_000 {
		return fmt.Errorf("%d entries came", n)
	}
	b.figure("list of 100,000 entries", time.Since(began).Seconds(), "s", 1, true)
	return nil
}

// slowly measures transfers over slow links, and a shell beside one.
func (b *bench) slowly() error {
	w, err := b.begin()
	if err != nil {
		return err
	}
	for _, l := range []struct {
		name string
		rate float64 // bytes a second
		trip time.Duration
		size int64
	}{{"100 Mbit/s, 80 ms", 12.5e6, 80 * time.Millisecond, 250_000_000}, {"2 Mbit/s", 250e3, 80 * time.Millisecond, 5_000_000}} {
		s, err := newSlow(w.listen, l.rate, l.trip)
		if err != nil {
			return err
		}
		err = b.over(w, s, l.name, l.size)
		s.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) over(w *world, s *slow, name string, size int64) error {
	id, end, err := w.agentAt(b.ctx, "https://"+s.Addr().String())
	if err != nil {
		return err
	}
	defer end()
	dir, err := os.MkdirTemp(w.dir, "slow-")
	if err != nil {
		return err
	}
	source := filepath.Join(dir, "source")
	if err := noiseFile(source, size); err != nil {
		return err
	}
	info, err := os.Stat(source)
	if err != nil {
		return err
	}
	took, err := w.putOnce(b.ctx, id, source, filepath.Join(dir, "there"))
	if err != nil {
		return err
	}
	b.figure("file to device at "+name, float64(info.Size())/took.Seconds()/s.rate, "of it", 0.9, false)
	began := time.Now()
	if err := w.client.Get(b.ctx, id, source, filepath.Join(dir, "here"), true, nil); err != nil {
		return err
	}
	b.figure("file from device at "+name, float64(info.Size())/time.Since(began).Seconds()/s.rate, "of it", 0.9, false)
	if s.rate > 1e6 {
		return nil
	}
	return b.besideBulk(w, s, id, source, dir)
}

// besideBulk types at a shell while files go both ways over the same slow link, one at a time.
func (b *bench) besideBulk(w *world, s *slow, id uuid.UUID, source, dir string) error {
	conn, write, read, err := b.shellAt(w, id)
	if err != nil {
		return err
	}
	defer conn.CloseNow()
	var all []time.Duration
	for _, send := range []func(ctx context.Context) error{
		func(ctx context.Context) error {
			_, err := w.putOnce(ctx, id, source, filepath.Join(dir, "there"))
			return err
		},
		func(ctx context.Context) error {
			return w.client.Get(ctx, id, source, filepath.Join(dir, "again"), true, nil)
		},
	} {
		ctx, stop := context.WithCancel(b.ctx)
		done := make(chan error, 1)
		go func() { done <- send(ctx) }()
		for began := time.Now(); time.Since(began) < 8*time.Second; {
			typed := time.Now()
			if err := echo(write, read); err != nil {
				stop()
				return err
			}
			all = append(all, time.Since(typed))
			time.Sleep(20 * time.Millisecond)
		}
		stop()
		<-done
	}
	slices.Sort(all)
	b.figure("keystroke beside a file at 2 Mbit/s", ms(percentile(all, .99)), "ms", ms(s.trip)+60, true)
	return nil
}

// agentAt enrols this machine once more and runs its agent against an address of the service.
func (w *world) agentAt(ctx context.Context, url string) (uuid.UUID, func(), error) {
	token, err := w.enrolmentToken(ctx, 1)
	if err != nil {
		return uuid.Nil, nil, err
	}
	dir, err := os.MkdirTemp(w.dir, "agent-")
	if err != nil {
		return uuid.Nil, nil, err
	}
	program := filepath.Join(w.bin, "moor-agent")
	enrol := exec.Command(program, "enrol", "--dir", dir, "--service", url, "--token-file", "-")
	enrol.Stdin = strings.NewReader(token)
	if out, err := enrol.CombinedOutput(); err != nil {
		return uuid.Nil, nil, fmt.Errorf("%w: %s", err, out)
	}
	cmd := exec.Command(program, "run", "--dir", dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	for d, err := range w.client.Devices(ctx, "online") { // so that the one that comes is known
		if err != nil {
			return uuid.Nil, nil, err
		}
		w.seen[d.ID] = true
	}
	if err := cmd.Start(); err != nil {
		return uuid.Nil, nil, err
	}
	end := func() { cmd.Process.Kill(); cmd.Wait() }
	for range 400 {
		for d, err := range w.client.Devices(ctx, "online && 'files' in capabilities") {
			if err == nil && !w.seen[d.ID] {
				w.seen[d.ID], w.pids[d.ID] = true, cmd.Process.Pid
				return d.ID, end, nil
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	end()
	return uuid.Nil, nil, fmt.Errorf("the agent at %s does not connect", url)
}
