package steps

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/work"
)

// maxEdited is the largest file whose lines are edited.
const maxEdited = 8 << 20

// waitEvery is how often the conditions of a step that waits are looked at.
const waitEvery = time.Second

// do carries out one step, and returns what it takes to undo it.
func (r *doing) do(ctx context.Context, n int, s work.Step) (undo string, err error) {
	switch s.Do {
	case work.Run:
		return r.undoBy(s), r.program(ctx, s, s.Argv)
	case work.Script:
		argv, suffix, err := interpreter(s.Interpreter)
		if err != nil {
			return "", err
		}
		name := r.order.ID
		if !r.single {
			name += "-" + strconv.Itoa(n+1)
		}
		path := filepath.Join(r.Scratch, name+suffix)
		if err := os.WriteFile(path, []byte(s.Body), 0o600); err != nil {
			return "", fmt.Errorf("the script cannot be written: %w", err)
		}
		defer os.Remove(path)
		return r.undoBy(s), r.program(ctx, s, append(argv, path))
	case work.Copy:
		return r.copy(ctx, s)
	case work.Install:
		return r.install(ctx, s)
	case work.Uninstall:
		if r.Host.Software == nil {
			return "", errors.New("this device offers no package manager")
		}
		return "", r.Host.Software.Remove(ctx, s.Name, r.out)
	case work.Edit:
		return r.edit(s)
	case work.Set:
		return r.set(ctx, s)
	case work.Service:
		return r.service(ctx, s)
	case work.Delete:
		real, err := r.real(s.Path)
		if err != nil {
			return "", err
		}
		aside, err := clearAside(real)
		if err != nil || aside == "" {
			return "", err
		}
		return back{Put: aside, Place: real}.text(), nil
	case work.Restart:
		return "", r.restart(ctx, s)
	case work.Wait:
		return "", r.wait(ctx, s)
	case work.CheckUpdates, work.Fetch, work.Update, work.Back, work.Refresh:
		return "", r.update(ctx, s)
	}
	return "", fmt.Errorf("this agent knows no step %q: a newer one may", s.Do)
}

// program runs a program with the order's variables.
func (r *doing) program(ctx context.Context, s work.Step, argv []string) error {
	if r.Host.Runner == nil {
		return errors.New("this device runs no programs")
	}
	env := make([]string, 0, len(r.order.Env)+len(r.order.Secrets))
	for _, all := range []map[string]string{r.order.Env, r.order.Secrets} {
		for name, value := range all {
			env = append(env, name+"="+value)
		}
	}
	exit, err := r.Host.Runner.Run(ctx, link.Command{Argv: argv, Env: env}, r.out, r.out)
	if err != nil {
		return err
	}
	r.exit = &exit
	if !s.Well(exit) {
		return &badExit{exit}
	}
	return nil
}

// badExit is why a step failed whose program ended as it should not.
type badExit struct{ status int }

func (b *badExit) Error() string { return fmt.Sprintf("it ended with exit status %d", b.status) }

// OnlyExit tells whether a run failed by an exit status alone, which says enough.
func OnlyExit(err error) bool {
	var b *badExit
	return errors.As(err, &b)
}

func (r *doing) real(path string) (string, error) {
	if r.Host.Disk == nil {
		return "", errors.New("this device offers no files")
	}
	return r.Host.Disk.Real(path)
}

func (r *doing) copy(ctx context.Context, s work.Step) (string, error) {
	path, err := r.file(ctx, s.File)
	if err != nil {
		return "", err
	}
	real, err := r.real(s.To)
	if err != nil {
		return "", err
	}
	mode := fs.FileMode(0o644)
	if s.Bits != "" {
		bits, err := strconv.ParseUint(s.Bits, 8, 9)
		if err != nil {
			return "", fmt.Errorf("%q are no permission bits: write them as 0644", s.Bits)
		}
		mode = fs.FileMode(bits)
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return place(real, f, mode)
}

// file returns where a file of the package lies.
func (r *doing) file(ctx context.Context, name string) (string, error) {
	for _, f := range r.part.Files {
		if f.Name == name {
			return r.Content(ctx, f, r.out)
		}
	}
	return "", fmt.Errorf("the package has no file %s", name)
}

func (r *doing) install(ctx context.Context, s work.Step) (string, error) {
	m := r.Host.Software
	if m == nil {
		return "", errors.New("this device offers no package manager")
	}
	if !slices.Contains(m.Formats(), filepath.Ext(s.File)) {
		return "", fmt.Errorf("its package manager installs %s, and not %s", strings.Join(m.Formats(), ", "), s.File)
	}
	path, err := r.file(ctx, s.File)
	if err != nil {
		return "", err
	}
	// Package managers look at the end of the name.
	named := filepath.Join(r.Scratch, r.order.ID+"-"+s.File)
	os.Remove(named)
	if err := os.Link(path, named); err != nil {
		return "", err
	}
	defer os.Remove(named)
	undo := ""
	if name := r.software(); name != "" {
		if before, err := m.Version(ctx, name); err == nil && before == "" {
			undo = back{Remove: name}.text()
		}
	}
	return undo, m.Install(ctx, named, r.out)
}

// software is what the package manager calls the package of the part; "" where that is not known.
func (r *doing) software() string {
	if r.part.There != nil && r.part.There.Kind == work.OfSoftware {
		return r.part.There.Of
	}
	return ""
}

func (r *doing) edit(s work.Step) (string, error) {
	real, err := r.real(s.Path)
	if err != nil {
		return "", err
	}
	find, err := regexp.Compile(s.Find)
	if err != nil {
		return "", err
	}
	info, err := os.Stat(real)
	mode := fs.FileMode(0o644)
	var text []byte
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return "", err
	case info.Size() > maxEdited:
		return "", fmt.Errorf("%s has %d bytes: lines of at most 8 MiB are edited", s.Path, info.Size())
	default:
		mode = info.Mode().Perm()
		if text, err = os.ReadFile(real); err != nil {
			return "", err
		}
	}
	edited := Edited(text, find, s.Line, s.Gone)
	if bytes.Equal(edited, text) && info != nil {
		return "", nil
	}
	return place(real, bytes.NewReader(edited), mode)
}

// Edited replaces each line that is found, or removes it; where none is found, the line is added at the
// end. The ends of lines stay as they are.
func Edited(text []byte, find *regexp.Regexp, line string, gone bool) []byte {
	var out bytes.Buffer
	end, found := "\n", false
	for l := range bytes.Lines(text) {
		content := bytes.TrimRight(l, "\r\n")
		rest := l[len(content):]
		if len(rest) > 0 {
			end = string(rest)
		}
		switch {
		case !find.Match(content):
			out.Write(l)
		case gone:
		case found: // one that is there twice becomes one
		default:
			out.WriteString(line)
			out.Write(rest)
		}
		found = found || find.Match(content)
	}
	if !found && !gone {
		if b := out.Bytes(); len(b) > 0 && b[len(b)-1] != '\n' {
			out.WriteString(end)
		}
		out.WriteString(line + end)
	}
	return out.Bytes()
}

func (r *doing) service(ctx context.Context, s work.Step) (string, error) {
	if r.Host.Services == nil {
		return "", errors.New("this device offers no services")
	}
	before, err := r.Host.Services.Service(ctx, link.Service{Name: s.Name})
	if err != nil {
		return "", err
	}
	if before.State == "running" && s.Action == link.ServiceStart || before.State == "stopped" && s.Action == link.ServiceStop {
		return "", nil
	}
	o, err := r.Host.Services.Do(ctx, link.ServiceAction{Action: s.Action, Name: before.Name, Stops: before.NeededBy,
		Seconds: min(s.Limit(), 300)})
	if err != nil {
		return "", err
	}
	r.say("   %s", o.Message)
	undo := ""
	switch {
	case s.Action == link.ServiceStop:
		undo = back{Service: &link.ServiceAction{Action: link.ServiceStart, Name: before.Name}}.text()
	case before.State != "running":
		undo = back{Service: &link.ServiceAction{Action: link.ServiceStop, Name: before.Name}}.text()
	}
	return undo, nil
}

// restart restarts the device, and waits for the end of this agent.
func (r *doing) restart(ctx context.Context, s work.Step) error {
	if r.Host.Power == nil {
		return errors.New("this agent cannot restart the device")
	}
	action := link.PowerAction{Action: link.PowerRestart}
	if s.Deferrals > 0 && r.Host.People != nil {
		switch said, err := r.agreed(ctx, s); {
		case err != nil:
			return err
		case said == askedTooLate:
			r.tell("The maintenance window has ended: the restart is left to another time.")
			return nil
		case said == askedWarn:
			action.DelaySeconds, action.Message = lastCall, "Updates were installed. The computer restarts in five minutes: save your work."
		}
	}
	if _, err := r.Host.Power.Do(ctx, action); err != nil {
		return err
	}
	<-ctx.Done()
	return context.Cause(ctx)
}

// Times of asking a person, in seconds.
const (
	askStands = 600
	lastCall  = 300
)

// What comes of asking for a restart.
const (
	askedNow     = iota // they agreed, or nobody is there
	askedWarn           // it may be put off no more: they are told before
	askedTooLate        // the window has ended that it was to be done in
)

// minute is the unit of deferrals; tests shorten it.
var minute = time.Minute

// agreed asks the person at the device until they have it restarted, or may put it off no more. How often they did
// outlives the agent.
func (r *doing) agreed(ctx context.Context, s work.Step) (said int, err error) {
	wait := time.Duration(s.Defer) * minute
	for r.p.Deferred < s.Deferrals {
		there, err := r.Host.People.People(ctx)
		if err != nil || len(there.Items) == 0 {
			return askedNow, nil // who cannot be told of is not asked
		}
		left := s.Deferrals - r.p.Deferred
		last := time.Now().Add(time.Duration(left) * (wait + askStands*time.Second))
		answer, err := r.Host.People.Show(ctx, link.Message{Title: "Restart after updates", Buttons: []string{"Restart now", "Later"},
			Seconds: askStands,
			Text: fmt.Sprintf("Updates were installed that take effect after a restart. You can put it off by %s, %s. At the latest it "+
				"restarts at %s.", minutesText(s.Defer), timesText(left), last.Format("15:04"))})
		switch {
		case ctx.Err() != nil:
			return 0, context.Cause(ctx)
		case err != nil || !answer.Shown:
			r.tell("Nobody could be asked: %s", answer.Reason)
			return askedWarn, nil
		case answer.Answer == "Restart now":
			r.tell("%s has it restarted.", answer.By)
			return askedNow, nil
		}
		r.p.Deferred++
		r.tell("The restart is put off by %s, time %d of %d.", minutesText(s.Defer), r.p.Deferred, s.Deferrals)
		if err := r.save(); err != nil {
			return 0, fmt.Errorf("the journal takes nothing: %w", err)
		}
		select {
		case <-ctx.Done():
			return 0, context.Cause(ctx)
		case <-time.After(wait):
		}
		if r.shut() {
			return askedTooLate, nil
		}
	}
	return askedWarn, nil
}

func minutesText(n int) string {
	if n%60 == 0 {
		if n == 60 {
			return "an hour"
		}
		return fmt.Sprintf("%d hours", n/60)
	}
	return fmt.Sprintf("%d minutes", n)
}

func timesText(n int) string {
	if n == 1 {
		return "once more"
	}
	return fmt.Sprintf("%d times", n)
}

func (r *doing) wait(ctx context.Context, s work.Step) error {
	limit := time.NewTimer(time.Duration(s.Limit()) * time.Second)
	defer limit.Stop()
	tick := time.NewTicker(waitEvery)
	defer tick.Stop()
	for {
		if len(s.If) > 0 {
			all := true
			for _, c := range s.If {
				holds, err := r.holds(ctx, c)
				if err != nil {
					return err
				}
				all = all && holds
			}
			if all {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			if len(s.If) == 0 && errors.Is(context.Cause(ctx), errLate) {
				return nil // its time is the time limit
			}
			return context.Cause(ctx)
		case <-limit.C:
			if len(s.If) == 0 {
				return nil
			}
			return fmt.Errorf("after %d s it was still not so that %s", s.Limit(), s.If[0])
		case <-tick.C:
		}
	}
}

// interpreter is what runs a kind of script here, and how its file is to end.
func interpreter(name string) (argv []string, suffix string, err error) {
	windows := runtime.GOOS == "windows"
	switch name {
	case "sh":
		return []string{"/bin/sh"}, ".sh", nil
	case "bash":
		return []string{"bash"}, ".sh", nil
	case "python":
		if windows {
			return []string{"py", "-3"}, ".py", nil
		}
		return []string{"python3"}, ".py", nil
	case "powershell":
		if windows {
			return []string{"powershell.exe", "-NoProfile", "-NonInteractive", "-ExecutionPolicy", "Bypass", "-File"}, ".ps1", nil
		}
		return []string{"pwsh", "-NoProfile", "-NonInteractive", "-File"}, ".ps1", nil
	case "batch":
		return []string{"cmd.exe", "/d", "/c"}, ".cmd", nil
	case "applescript":
		return []string{"osascript"}, ".applescript", nil
	}
	return nil, "", fmt.Errorf("this agent knows no interpreter %q: a newer one may", name)
}

// update does a step about the system's updates.
func (r *doing) update(ctx context.Context, s work.Step) error {
	u := r.Host.Updates
	if u == nil {
		return errors.New("this device offers no updates")
	}
	switch s.Do {
	case work.CheckUpdates:
		all, err := u.Missing(ctx, true)
		if err == nil {
			r.tell("%d missing", len(all))
		}
		return err
	case work.Fetch:
		return u.Fetch(ctx, s.Updates, r.out)
	case work.Update:
		if !r.order.Shut.IsZero() { // what takes long is done first: an installation that has begun is not ended
			if err := u.Fetch(ctx, s.Updates, r.out); err != nil {
				return err
			}
			if r.shut() {
				return ErrShut
			}
		}
		return u.Install(ctx, s.Updates, r.out)
	case work.Back:
		return u.Back(ctx, s.Updates, r.out)
	}
	return u.Refresh(ctx, r.out)
}
