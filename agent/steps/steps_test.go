//go:build unix

package steps

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/sim"
	"moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/work"
)

// desk is a device that runs real programs, with files below a folder and simulated services.
func desk(t *testing.T) (h host.Host, dir string) {
	t.Helper()
	dir = t.TempDir()
	h = sim.Device{Name: "hay-kiosk", Kind: sim.Kiosk, Seed: 3, Dir: dir}.Host(time.Now)
	h.Runner = unix.Runner{}
	if _, err := h.Disk.Real("/"); err != nil { // which fills it
		t.Fatal(err)
	}
	return h, dir
}

func doer(t *testing.T, h host.Host) *Doer {
	place := t.TempDir()
	return &Doer{Host: h, Scratch: t.TempDir(), Content: func(_ context.Context, f pack.File, _ io.Writer) (string, error) {
		path := filepath.Join(place, f.Name)
		return path, os.WriteFile(path, []byte("content of "+f.Name+"\nversion=2\n"), 0o600)
	}}
}

func do(t *testing.T, d *Doer, p *Progress, parts ...link.RunPart) (out string, err error) {
	t.Helper()
	var b bytes.Buffer
	_, err = d.Do(t.Context(), link.RunOrder{ID: "1b4e28ba-2fa1-11d2-883f-0016d3cca427", Parts: parts,
		Env: map[string]string{"WORD": "heather"}}, p, func() error { return nil }, &b)
	return b.String(), err
}

func read(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		return "none"
	}
	return string(b)
}

// Every kind of step is done; conditions pass some over; a package that is there is not installed again,
// and one whose steps end without it being there has failed.
func TestEveryStep(t *testing.T) {
	h, dir := desk(t)
	d := doer(t, h)
	for _, line := range []string{"etc/a.conf:x=0\ny=1\nx=2\n", "srv/old/file:gone"} {
		path, text, _ := strings.Cut(line, ":")
		os.MkdirAll(filepath.Dir(filepath.Join(dir, path)), 0o755)
		os.WriteFile(filepath.Join(dir, path), []byte(text), 0o640)
	}
	part := link.RunPart{Name: "Screen", Version: "2",
		There: &pack.There{Condition: work.Condition{Kind: work.OfFile, Of: "/srv/screen.conf"}, Pattern: `version=(\S+)`},
		Files: []pack.File{{Name: "screen.conf"}, {Name: "catalogue-fonts_1.4_all.deb"}},
		Steps: []work.Step{
			{Do: work.Script, Interpreter: "sh", Body: "echo \"$WORD\"\nexit 3\n", Exits: []int{3}},
			{Do: work.Run, Argv: []string{"echo", "plain"}},
			{Do: work.Run, Argv: []string{"false"}, If: []work.Condition{{Kind: work.OfSystem, Is: "windows"}}},
			{Do: work.Copy, File: "screen.conf", To: "/srv/screen.conf", Bits: "0600",
				If: []work.Condition{{Kind: work.OfSpace, Of: "/srv/new/place", Is: "1"},
					{Kind: work.OfFile, Of: "/srv/screen.conf", Not: true}}},
			{Do: work.Install, File: "catalogue-fonts_1.4_all.deb",
				If: []work.Condition{{Kind: work.OfSoftware, Of: "catalogue-fonts", Not: true}}},
			{Do: work.Uninstall, Name: "tzdata"},
			{Do: work.Edit, Path: "/etc/a.conf", Find: "^x=", Line: "x=9"},
			{Do: work.Set, Path: "kernel/vm/swappiness", Value: "10"},
			{Do: work.Service, Name: "catalogue-screen.service", Action: "restart",
				If: []work.Condition{{Kind: work.OfService, Of: "catalogue-screen.service"}, {Kind: work.OfSignedIn, Not: true}}},
			{Do: work.Delete, Path: "/srv/old"},
			{Do: work.Wait, Seconds: 30, If: []work.Condition{{Kind: work.OfSetting, Of: "kernel/vm/swappiness", Is: "10"},
				{Kind: work.OfSoftware, Of: "catalogue-fonts", Is: "1.4"}}},
			{Do: work.Wait, Seconds: 1},
		}}
	out, err := do(t, d, &Progress{}, part)
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, want := range []string{"heather\n", "plain\n", "skipped: it asks that the system is windows", "Setting up catalogue-fonts (1.4)",
		"Removing tzdata", "== 12/12 Wait", "== Screen is there, in version 2"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	if got := read(t, dir+"/etc/a.conf"); got != "x=9\ny=1\n" {
		t.Errorf("the file is %q", got)
	}
	if info, err := os.Stat(dir + "/srv/screen.conf"); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	if info, err := os.Stat(dir + "/etc/a.conf"); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("its permissions are %v, %v", info.Mode(), err)
	}
	if read(t, dir+"/srv/old/file") != "none" {
		t.Error("what was to be deleted is there")
	}
	if v, err := h.Software.Version(t.Context(), "tzdata"); v != "" || err != nil {
		t.Errorf("tzdata is there: %s %v", v, err)
	}
	if out, err := do(t, d, &Progress{}, part); err != nil || !strings.Contains(out, "== Screen is there already, in version 2") ||
		strings.Contains(out, "plain") {
		t.Errorf("again: %v\n%s", err, out)
	}
	part.Version = "3"
	if out, err := do(t, d, &Progress{}, part); err != nil || !strings.Contains(out, "plain") {
		t.Errorf("a newer version: %v\n%s", err, out)
	}
	gone := link.RunPart{Name: "Screen", There: part.There, Remove: true, Steps: []work.Step{{Do: work.Run, Argv: []string{"true"}}}}
	if _, err := do(t, d, &Progress{}, gone); !errors.Is(err, ErrFailed) || !strings.Contains(err.Error(), "there still") {
		t.Errorf("what is there still was removed: %v", err)
	}
	gone.Steps = []work.Step{{Do: work.Delete, Path: "/srv/screen.conf"}}
	if _, err := do(t, d, &Progress{}, gone); err != nil || read(t, dir+"/srv/screen.conf") != "none" {
		t.Errorf("it was not removed: %v", err)
	}
	if out, err := do(t, d, &Progress{}, gone); err != nil || !strings.Contains(out, "is not there") {
		t.Errorf("removed twice: %v\n%s", err, out)
	}
}

// A step that fails has all that was done before it undone, the last first, so that the device is as it
// was.
func TestUndone(t *testing.T) {
	h, dir := desk(t)
	d := doer(t, h)
	os.MkdirAll(dir+"/srv/keep", 0o755)
	os.WriteFile(dir+"/srv/keep/file", []byte("kept"), 0o600)
	os.WriteFile(dir+"/srv/old.conf", []byte("old\n"), 0o600)
	os.WriteFile(dir+"/srv/a.conf", []byte("x=0\n"), 0o600)
	was, _, err := readSetting(t.Context(), h, "kernel/vm/swappiness")
	if err != nil {
		t.Fatal(err)
	}
	part := link.RunPart{Name: "Broken", Files: []pack.File{{Name: "old.conf"}, {Name: "new.conf"}, {Name: "catalogue-fonts_1.4_all.deb"}},
		Steps: []work.Step{
			{Do: work.Copy, File: "old.conf", To: "/srv/old.conf"}, {Do: work.Copy, File: "new.conf", To: "/srv/new.conf"},
			{Do: work.Edit, Path: "/srv/a.conf", Find: "^x=", Line: "x=1"}, {Do: work.Edit, Path: "/srv/a.conf", Find: "^y=", Line: "y=1"},
			{Do: work.Set, Path: "kernel/vm/swappiness", Value: "1"}, {Do: work.Delete, Path: "/srv/keep"},
			{Do: work.Service, Name: "catalogue-screen.service", Action: "stop"},
			{Do: work.Run, Argv: []string{"touch", dir + "/mark"}, Undo: []string{"rm", dir + "/mark"}},
			{Do: work.Run, Argv: []string{"sh", "-c", "exit 4"}, OnError: work.OnUndo},
		}}
	p := &Progress{}
	out, err := do(t, d, p, part)
	if !errors.Is(err, ErrFailed) || !strings.Contains(err.Error(), "step 9, Run sh -c exit 4: it ended with exit status 4") {
		t.Fatalf("%v\n%s", err, out)
	}
	for path, want := range map[string]string{"/srv/old.conf": "old\n", "/srv/new.conf": "none", "/srv/a.conf": "x=0\n",
		"/srv/keep/file": "kept", "/mark": "none"} {
		if got := read(t, dir+path); got != want {
			t.Errorf("%s is %q, and was %q", path, got, want)
		}
	}
	if now, _, _ := readSetting(t.Context(), h, "kernel/vm/swappiness"); now.Value != was.Value {
		t.Errorf("the setting is %s, and was %s", now.Value, was.Value)
	}
	if s, _ := h.Services.Service(t.Context(), link.Service{Name: "catalogue-screen.service"}); s.State != "running" {
		t.Errorf("the service is %s", s.State)
	}
	left, _ := filepath.Glob(dir + "/srv/" + asidePrefix + "*")
	if len(left) > 0 {
		t.Errorf("%v are left", left)
	}
}

// A run that is cut at any step and taken up again comes to the same end, and does nothing twice that must
// not be.
func TestTakenUpAgain(t *testing.T) {
	for stop := range 5 {
		t.Run(fmt.Sprint(stop), func(t *testing.T) {
			h, dir := desk(t)
			d := doer(t, h)
			log := dir + "/log"
			part := link.RunPart{Name: "Steps", Files: []pack.File{{Name: "a.conf"}}, Steps: []work.Step{
				{Do: work.Run, Argv: []string{"sh", "-c", "echo one >> " + log}}, {Do: work.Copy, File: "a.conf", To: "/srv/a.conf"},
				{Do: work.Run, Argv: []string{"sh", "-c", "echo two >> " + log}}}}
			order := link.RunOrder{ID: "1b4e28ba-2fa1-11d2-883f-0016d3cca427", Parts: []link.RunPart{part}}
			var kept Progress
			saves := 0
			cut := errors.New("the power is cut")
			p := kept
			_, err := d.Do(t.Context(), order, &p, func() error {
				if saves == stop {
					return cut
				}
				saves++
				kept = p
				kept.Steps.Ends, kept.Steps.Backs = append([]work.State(nil), p.Steps.Ends...), append([]string(nil), p.Steps.Backs...)
				return nil
			}, io.Discard)
			if !errors.Is(err, cut) {
				t.Fatal(err)
			}
			if err := kept.Recover(t.Context(), h, order); err != nil {
				// It died after a program that must not run twice, and before that was noted.
				if !errors.Is(err, ErrMidway) || (stop != 1 && stop != 5) {
					t.Fatal(err)
				}
				return
			}
			if _, err := d.Do(t.Context(), order, &kept, func() error { return nil }, io.Discard); err != nil {
				t.Fatal(err)
			}
			if got := read(t, log); got != "one\ntwo\n" {
				t.Errorf("it did %q", got)
			}
		})
	}
}

func TestEdited(t *testing.T) {
	find := regexp.MustCompile("^a=")
	for _, c := range []struct {
		text, line string
		gone       bool
		want       string
	}{
		{"", "a=1", false, "a=1\n"}, {"b=2", "a=1", false, "b=2\na=1\n"}, {"a=0\r\nb=2\r\n", "a=1", false, "a=1\r\nb=2\r\n"},
		{"b=2\r\n", "a=1", false, "b=2\r\na=1\r\n"},
		{"a=0\na=3\nb=2\n", "a=1", false, "a=1\nb=2\n"}, {"a=0\nb=2\n", "", true, "b=2\n"}, {"a=0", "a=1", false, "a=1"},
		{"", "", true, ""},
	} {
		got := string(Edited([]byte(c.text), find, c.line, c.gone))
		if got != c.want {
			t.Errorf("%q with %q: %q", c.text, c.line, got)
		}
		if again := string(Edited([]byte(got), find, c.line, c.gone)); again != got {
			t.Errorf("%q: again it becomes %q", c.text, again)
		}
	}
}

// A file is fetched once, the rest alone after a cut, and one with another digest is dropped: whether the
// service tells the quick digest or none.
func TestContents(t *testing.T) {
	whole := bytes.Repeat([]byte("moorland "), 50_000)
	sum := sha256.Sum256(whole)
	f := pack.File{Name: "big.bin", SHA256: hex.EncodeToString(sum[:]), Size: int64(len(whole))}
	quick := pack.NewQuick()
	quick.Write(whole)
	t.Run("named", func(t *testing.T) { contents(t, whole, f, "", "has the digest") })
	t.Run("quick", func(t *testing.T) { contents(t, whole, f, quick.String(), "is not as the service stored it") })
}

func contents(t *testing.T, whole []byte, f pack.File, quick, wrong string) {
	var offsets []int64
	fetched := 0
	c := &Contents{Dir: t.TempDir(), Fetch: func(_ context.Context, _ string, offset int64, w Taker) error {
		offsets = append(offsets, offset)
		if err := w.Expect(quick); err != nil {
			return err
		}
		n := min(200_000, len(whole)-int(offset))
		k, err := w.Write(whole[offset:][:n])
		fetched += k
		if err == nil && int(offset)+n < len(whole) {
			err = errors.New("cut")
		}
		return err
	}}
	var log bytes.Buffer
	path, err := c.File(t.Context(), f, &log)
	if err != nil || fetched != len(whole) || len(offsets) != 3 || offsets[2] != 400_000 {
		t.Fatalf("%v, %v, %d bytes", err, offsets, fetched)
	}
	if got := read(t, path); got != string(whole) {
		t.Error("it is another file")
	}
	if _, err := c.File(t.Context(), f, &log); err != nil || fetched != len(whole) {
		t.Errorf("it is fetched again: %v, %d", err, fetched)
	}
	c.Forget(f)
	os.WriteFile(path+".part", whole[:300_000], 0o600)
	if _, err := c.File(t.Context(), f, &log); err != nil || fetched != 2*len(whole)-300_000 ||
		!strings.Contains(log.String(), "300000 of 450000 bytes are here already") {
		t.Errorf("%v, %d bytes, %s", err, fetched, log.String())
	}
	c.Forget(f)
	os.WriteFile(path+".part", append([]byte("x"), whole[1:300_000]...), 0o600)
	if _, err := c.File(t.Context(), f, &log); err == nil || !strings.Contains(err.Error(), wrong) {
		t.Errorf("a wrong digest: %v", err)
	}
	if _, err := os.Stat(path + ".part"); err == nil {
		t.Error("what has a wrong digest is kept")
	}
	c.Fetch = func(context.Context, string, int64, Taker) error {
		return fmt.Errorf("%w: no such file", ErrRefused)
	}
	if _, err := c.File(t.Context(), f, &log); !errors.Is(err, ErrRefused) {
		t.Errorf("a refusal: %v", err)
	}
	os.Chtimes(c.Dir+"/x", time.Time{}, time.Time{})
	os.WriteFile(c.Dir+"/old", nil, 0o600)
	os.Chtimes(c.Dir+"/old", time.Now().Add(-10*24*time.Hour), time.Now().Add(-10*24*time.Hour))
	if c.Tidy(time.Now()); read(t, c.Dir+"/old") != "none" {
		t.Error("what nobody used is kept")
	}
}

// slowly offers one update, which takes a while to fetch.
type slowly struct {
	host.Updates
	fetch     time.Duration
	installed int
}

func (s *slowly) Fetch(ctx context.Context, _ []work.Version, _ io.Writer) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(s.fetch):
		return nil
	}
}

func (s *slowly) Install(context.Context, []work.Version, io.Writer) error { s.installed++; return nil }
func (s *slowly) Refresh(context.Context, io.Writer) error {
	return errors.New("a refresh after the window")
}

// Nothing is begun after the end of the window that an order is to be done in, and what is left is told.
func TestWindowEnds(t *testing.T) {
	update := work.Step{Do: work.Update, Updates: []work.Version{{Source: "apt", Name: "moss", Version: "2"}}}
	fast, touch := work.Step{Do: work.Refresh}, work.Step{Do: work.Script, Interpreter: "sh", Body: "echo touched"}
	for name, c := range map[string]struct {
		steps     []work.Step
		fetch     time.Duration
		left      time.Duration // of the window
		installed int
		shut      bool
		said      string
	}{
		"over already":        {[]work.Step{update}, 0, -time.Second, 0, true, ""},
		"over after fetching": {[]work.Step{update, fast}, 300 * time.Millisecond, 100 * time.Millisecond, 0, true, ""},
		"long enough":         {[]work.Step{update, touch}, 0, time.Hour, 1, false, "touched"},
		"over before other steps": {[]work.Step{touch, update, touch}, 300 * time.Millisecond, 100 * time.Millisecond, 0, false,
			"its maintenance window ended"},
		"over before it takes effect": {[]work.Step{{Do: work.Script, Interpreter: "sh", Body: "sleep 0.4"}, fast}, 0,
			200 * time.Millisecond, 0, false, "has ended: step 2"},
	} {
		h, _ := desk(t)
		u := &slowly{Updates: h.Updates, fetch: c.fetch}
		h.Updates = u
		var b bytes.Buffer
		o := link.RunOrder{ID: "1b4e28ba-2fa1-11d2-883f-0016d3cca427", Parts: []link.RunPart{{Name: "x", Steps: c.steps}},
			Shut: time.Now().Add(c.left)}
		_, err := doer(t, h).Do(t.Context(), o, &Progress{}, func() error { return nil }, &b)
		said := b.String()
		if err != nil {
			said += err.Error()
		}
		if errors.Is(err, ErrShut) != c.shut || u.installed != c.installed || !strings.Contains(said, c.said) {
			t.Errorf("%s: %v, %d installed, said %s", name, err, u.installed, said)
		}
	}
}

// asked is a person who answers as they are told to, and a computer that notes how it is restarted.
type asked struct {
	there   bool
	answers []string // "" is none
	texts   []string
	actions []link.PowerAction
	restart func()
}

func (a *asked) People(context.Context) (l link.PresenceList, err error) {
	if a.there {
		l.Items = []link.Presence{{Name: "wren", Kind: "console", Graphic: true}}
	}
	return l, nil
}

func (a *asked) Show(_ context.Context, m link.Message) (link.MessageAnswer, error) {
	answer := a.answers[len(a.texts)]
	a.texts = append(a.texts, m.Text)
	if answer == "hidden" {
		return link.MessageAnswer{Reason: "there is no display"}, nil
	}
	return link.MessageAnswer{Shown: true, Answer: answer, By: "wren"}, nil
}

func (a *asked) Clip(context.Context, link.Clip) (link.Outcome, error) { return link.Outcome{}, nil }

func (a *asked) Do(_ context.Context, d link.PowerAction) (link.Outcome, error) {
	a.actions = append(a.actions, d)
	a.restart()
	return link.Outcome{}, nil
}

// A person may put a restart off as often as they are told, and no more; nobody who is not there is waited for.
func TestRestartIsAsked(t *testing.T) {
	minute = 20 * time.Millisecond
	t.Cleanup(func() { minute = time.Minute })
	for name, c := range map[string]struct {
		there    bool
		deferred int // before the agent was restarted
		answers  []string
		shut     time.Duration
		asked    int
		delay    int
		restarts int
	}{
		"nobody there":           {false, 0, nil, 0, 0, 0, 1},
		"now":                    {true, 0, []string{"Restart now"}, 0, 1, 0, 1},
		"later, then now":        {true, 0, []string{"Later", "Restart now"}, 0, 2, 0, 1},
		"no answer is later":     {true, 0, []string{"", "", "Later"}, 0, 3, 300, 1},
		"after the agent's end":  {true, 2, []string{"Later"}, 0, 1, 300, 1},
		"cannot be shown":        {true, 0, []string{"hidden"}, 0, 1, 300, 1},
		"put off past a window":  {true, 0, []string{"Later"}, 30 * time.Millisecond, 1, 0, 0},
		"agreed within a window": {true, 0, []string{"Restart now"}, time.Hour, 1, 0, 1},
	} {
		h, _ := desk(t)
		ctx, stop := context.WithCancel(t.Context())
		a := &asked{there: c.there, answers: c.answers, restart: stop}
		h.People, h.Power = a, a
		o := link.RunOrder{ID: "1b4e28ba-2fa1-11d2-883f-0016d3cca427",
			Parts: []link.RunPart{{Name: "x", Steps: []work.Step{{Do: work.Restart, Deferrals: 3, Defer: 2}}}}}
		if c.shut > 0 {
			o.Shut = time.Now().Add(c.shut)
		}
		p := &Progress{Deferred: c.deferred}
		doer(t, h).Do(ctx, o, p, func() error { return nil }, io.Discard)
		stop()
		if len(a.texts) != c.asked || len(a.actions) != c.restarts || c.restarts > 0 && a.actions[0].DelaySeconds != c.delay {
			t.Errorf("%s: asked %q, restarted by %+v", name, a.texts, a.actions)
		}
	}
}
