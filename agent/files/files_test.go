package files_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/agent/files"
	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/native"
	"moorwatch.example/contract/link"
	"moorwatch.example/test/scratch"
)

// system is the disk of the system that the tests run on, with a recoverable place of their own.
type system struct {
	host.Disk
	top string
}

func (s system) Top(string) (string, error) { return s.top, nil }

// place is the files of this system, with what an agent keeps of them.
type place struct {
	*files.Files
	disk system
	dir  string
}

// again is the place as the next agent finds it.
func (p *place) again() { p.Files = files.New(p.disk, p.dir) }

// begin returns the files of this system, and a folder to work in.
func begin(t *testing.T) (f *place, at func(name string) string) {
	t.Helper()
	dir := scratch.Dir(t)
	work := filepath.Join(dir, "work")
	for _, d := range []string{work, filepath.Join(dir, "agent"), filepath.Join(dir, "top")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	disk := system{native.New().Disk, filepath.Join(dir, "top")}
	f = &place{disk: disk, dir: filepath.Join(dir, "agent")}
	f.again()
	return f, func(name string) string { return filepath.Join(work, name) }
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func holds(t *testing.T, path, want string) {
	t.Helper()
	if b, err := os.ReadFile(path); err != nil || string(b) != want {
		t.Errorf("%s holds %q, %v; want %q", filepath.Base(path), b, err, want)
	}
}

// told returns what is said of the first path that an action could not be done to, and "" otherwise.
func (f *place) told(t *testing.T, d link.FileAction) (why string) {
	t.Helper()
	if err := f.Change(t.Context(), d, func(e link.FileEvent) error {
		if why == "" {
			why = e.Error
		}
		return nil
	}); err != nil {
		return err.Error()
	}
	return why
}

// same tells whether the disk of the tests knows no capitals.
func same(at func(string) string) bool {
	os.WriteFile(at("capitals"), nil, 0o600)
	_, err := os.Stat(at("CAPITALS"))
	os.Remove(at("capitals"))
	return err == nil
}

func TestActions(t *testing.T) {
	f, at := begin(t)
	write(t, at("a"), "one")
	for i, c := range []struct {
		action link.FileAction
		want   string // "" for success
	}{
		{link.FileAction{Action: link.FileMake, Paths: []string{at("folder")}}, ""},
		{link.FileAction{Action: link.FileMake, Paths: []string{at("folder")}}, "there already"},
		{link.FileAction{Action: link.FileMake, Paths: []string{"folder"}}, "no whole path"},
		{link.FileAction{Action: link.FileMake, Paths: []string{at(strings.Repeat("x", 256))}}, "at most 255"},
		{link.FileAction{Action: link.FileCopy, Paths: []string{at("a")}, To: at("folder")}, ""},
		{link.FileAction{Action: link.FileCopy, Paths: []string{at("folder")}, To: at("folder")}, "into itself"},
		{link.FileAction{Action: link.FileMove, Paths: []string{at("folder")}, To: at("folder")}, "into itself"},
		{link.FileAction{Action: link.FileMove, Paths: []string{at("a")}, To: at("folder")}, "there already"},
		{link.FileAction{Action: link.FileMove, Paths: []string{at("a")}, To: at("folder"), Replace: true}, ""},
		{link.FileAction{Action: link.FileRename, Paths: []string{at("none")}, To: at("c")}, "not there"},
		{link.FileAction{Action: link.FileRename, Paths: []string{at("folder/a")}, To: at("b")}, ""},
		{link.FileAction{Action: link.FileRename, Paths: []string{at("b")}, To: at("B")}, ""},
		{link.FileAction{Action: link.FileCopy, Paths: []string{at("B")}, To: at("B")}, "no folder"},
		{link.FileAction{Action: link.FileRemove, Paths: []string{at("B"), at("folder")}}, ""},
		{link.FileAction{Action: link.FileRemove, Paths: []string{f.disk.top}}, "a whole disk"},
	} {
		if why := f.told(t, c.action); (why == "") != (c.want == "") || !strings.Contains(why, c.want) {
			t.Errorf("action %d: %q, want %q", i, why, c.want)
		}
	}
	if places, _ := filepath.Glob(filepath.Join(f.disk.top, ".Trash-*")); len(places) != 1 {
		t.Errorf("recoverable places: %v", places)
	} else if info, err := os.Stat(places[0]); err != nil || runtime.GOOS != "windows" && info.Mode().Perm() != 0o700 {
		t.Errorf("others look into what was removed: %v %v", info.Mode(), err)
	}
	list, err := f.Removed(t.Context(), struct{}{})
	if err != nil || len(list.Items) != 3 {
		t.Fatalf("removed: %+v %v", list, err)
	}
	for _, r := range list.Items {
		if filepath.Base(r.Path) == "a" { // what stood in the way
			if why := f.told(t, link.FileAction{Action: link.FilePurge, Paths: []string{r.ID}}); why != "" {
				t.Error(why)
			}
		}
	}
	// The agent may have died since.
	f.again()
	for _, r := range list.Items {
		why := f.told(t, link.FileAction{Action: link.FileRestore, Paths: []string{r.ID}})
		if gone := filepath.Base(r.Path) == "a"; gone != strings.Contains(why, "not among what was removed") || !gone && why != "" {
			t.Errorf("restoring %s: %q", r.Path, why)
		}
	}
	holds(t, at("B"), "one")
	if list, _ := f.Removed(t.Context(), struct{}{}); len(list.Items) > 0 {
		t.Errorf("still removed: %+v", list)
	}
}

// A folder is not copied into itself by a name that only looks like another.
func TestIntoItself(t *testing.T) {
	f, at := begin(t)
	if err := os.MkdirAll(at("Data/below"), 0o755); err != nil {
		t.Fatal(err)
	}
	into := []string{at("Data/below")}
	if same(at) {
		into = append(into, at("DATA/below"))
	}
	os.Symlink(at("Data/below"), at("aside"))
	if info, err := os.Stat(at("aside")); err == nil && info.IsDir() { // not every Windows lets one make links
		into = append(into, at("aside"))
	}
	for _, to := range into {
		for _, action := range []string{link.FileCopy, link.FileMove} {
			if why := f.told(t, link.FileAction{Action: action, Paths: []string{at("Data")}, To: to}); !strings.Contains(why,
				"into itself") {
				t.Errorf("%s into %s: %q", action, to, why)
			}
		}
	}
	if left, err := os.ReadDir(at("Data/below")); err != nil || len(left) > 0 {
		t.Errorf("left there: %v %v", left, err)
	}
}

// elsewhereFolder is a folder on another disk.
func elsewhereFolder(t *testing.T) string {
	t.Helper()
	parent := "/dev/shm"
	if runtime.GOOS == "windows" {
		parent = `Z:\tmp`
	}
	dir, err := os.MkdirTemp(parent, "moor-files-")
	if err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func TestMoveToAnotherDisk(t *testing.T) {
	f, at := begin(t)
	to := elsewhereFolder(t)
	if err := os.MkdirAll(at("tree/deep"), 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, at("tree/deep/x"), "text")
	long := time.Date(2024, 2, 29, 12, 0, 0, 0, time.UTC)
	if err := os.Chtimes(at("tree/deep/x"), long, long); err != nil {
		t.Fatal(err)
	}
	if why := f.told(t, link.FileAction{Action: link.FileMove, Paths: []string{at("tree")}, To: to}); why != "" {
		t.Fatal(why)
	}
	there := filepath.Join(to, "tree", "deep", "x")
	holds(t, there, "text")
	if info, err := os.Stat(there); err != nil || !info.ModTime().Equal(long) {
		t.Errorf("it is of %v, %v", info.ModTime(), err)
	}
	if _, err := os.Lstat(at("tree")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it stays: %v", err)
	}
	if left, _ := os.ReadDir(to); len(left) != 1 {
		t.Errorf("left there: %v", left)
	}
}

// What the agent reads can be renamed, replaced and removed by the person at the device.
func TestReadingHoldsNobodyUp(t *testing.T) {
	f, at := begin(t)
	write(t, at("log"), "before\n")
	d, err := f.Open(at("log"), 0)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if err := os.Rename(at("log"), at("log.1")); err != nil {
		t.Errorf("renamed: %v", err)
	}
	if err := os.Remove(at("log.1")); err != nil {
		t.Errorf("removed: %v", err)
	}
	if b, err := io.ReadAll(d); err != nil || string(b) != "before\n" {
		t.Errorf("read: %q %v", b, err)
	}
}

// A log that is followed is turned over, and read on.
func TestFollowATurnedLog(t *testing.T) {
	f, at := begin(t)
	write(t, at("log"), "one\ntwo\n")
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
	defer stop()
	lines := make(chan link.Lines, 16)
	ended := make(chan error, 1)
	go func() {
		ended <- f.Follow(ctx, link.Follow{Path: at("log"), Back: 1}, func(l link.Lines) error { lines <- l; return nil })
	}()
	next := func(want link.Lines) {
		t.Helper()
		select {
		case l := <-lines:
			if !reflect.DeepEqual(l, want) {
				t.Errorf("got %+v, want %+v", l, want)
			}
		case err := <-ended:
			t.Fatalf("it ended: %v", err)
		}
	}
	next(link.Lines{Lines: []string{"two"}})
	next(link.Lines{})
	if err := os.Rename(at("log"), at("log.1")); err != nil {
		t.Fatal(err)
	}
	write(t, at("log"), "three\n")
	next(link.Lines{Note: "The file began anew."})
	next(link.Lines{Lines: []string{"three"}})
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
}

// On Windows a program can keep a file to itself: that is what is told, and nothing is lost.
func TestHeldFile(t *testing.T) {
	if runtime.GOOS != "windows" {
		t.Skip("every program may open a file here")
	}
	f, at := begin(t)
	write(t, at("held"), "theirs")
	read, err := f.ReadText(t.Context(), link.FilePath{Path: at("held")})
	if err != nil {
		t.Fatal(err)
	}
	held, err := os.Open(at("held"))
	if err != nil {
		t.Fatal(err)
	}
	read.Text = "ours"
	_, refused := f.WriteText(t.Context(), read)
	for what, why := range map[string]string{
		"renamed": f.told(t, link.FileAction{Action: link.FileRename, Paths: []string{at("held")}, To: at("other")}),
		"removed": f.told(t, link.FileAction{Action: link.FileRemove, Paths: []string{at("held")}}),
		"written": refused.Error(),
	} {
		if !strings.Contains(why, "is kept by") {
			t.Errorf("%s: %q", what, why)
		}
	}
	held.Close()
	holds(t, at("held"), "theirs")
	if _, err := f.WriteText(t.Context(), read); err != nil {
		t.Error(err)
	}
	holds(t, at("held"), "ours")
}

// Access lists are changed entry by entry where the system has them, and refused where it has not.
func TestAccess(t *testing.T) {
	f, at := begin(t)
	write(t, at("a"), "one")
	let := func(who, may string, deep bool) string {
		return f.told(t, link.FileAction{Action: link.FilePermit, Paths: []string{at("a")}, Who: who, May: may, Deep: deep})
	}
	const guests = "S-1-5-32-546"
	for _, wrong := range [][2]string{{"", link.MayRead}, {guests, ""}, {guests, "fly"}} {
		if why := let(wrong[0], wrong[1], false); !strings.Contains(why, "what it may do: nothing, read") {
			t.Errorf("%v: %q", wrong, why)
		}
	}
	if why := let(guests, link.MayRead, true); !strings.Contains(why, "set at the folder alone") {
		t.Errorf("below: %q", why)
	}
	if runtime.GOOS != "windows" {
		if why := let(guests, link.MayRead, false); !strings.Contains(why, "permission bits") {
			t.Errorf("%q", why)
		}
		return
	}
	// Of the entries Wine keeps what Unix has bits for: that one was changed is told by what everybody may.
	for may, want := range map[string]string{link.MayRead: "Everyone may read, run",
		link.MayChange: "Everyone may read, write, run, remove"} {
		if why := let("S-1-1-0", may, false); why != "" {
			t.Fatalf("%s: %s", may, why)
		}
		if e, err := f.Entry(t.Context(), link.FilePath{Path: at("a")}); err != nil || !slices.Contains(e.Access, want) {
			t.Errorf("%s: %q %v, want %q", may, e.Access, err, want)
		}
	}
	if why := let("nobody-of-this-name", link.MayRead, false); !strings.Contains(why, "there is no account") {
		t.Errorf("nobody: %q", why)
	}
	if why := let("S-1-5-18", link.MayNothing, false); !strings.Contains(why, "keep itself out") {
		t.Errorf("the agent's own: %q", why)
	}
}

func TestUploads(t *testing.T) {
	f, at := begin(t)
	text := strings.Repeat("0123456789", 100)
	order := link.UploadOrder{Path: at("new/folder/file"), Size: int64(len(text)), Folders: true}
	if _, err := f.Begin(t.Context(), link.UploadOrder{Path: at("new/folder/file"), Size: 1}); err == nil {
		t.Error("begun in a folder that is not there")
	}
	u, err := f.Begin(t.Context(), order)
	if err != nil {
		t.Fatal(err)
	}
	send := func(offset int64, text string) error {
		return f.Continue(u.ID, offset, func(w io.Writer) error { _, err := io.WriteString(w, text); return err })
	}
	if err := send(0, text[:400]); err != nil {
		t.Fatal(err)
	}
	f.again() // the agent died
	if s, err := f.State(t.Context(), u.ID); err != nil || s.Offset != 400 {
		t.Fatalf("after a restart: %+v %v", s, err)
	}
	if err := send(300, text[300:]); err == nil || !strings.Contains(err.Error(), "continue from there") {
		t.Errorf("from elsewhere: %v", err)
	}
	if err := send(400, text[400:]); err != nil {
		t.Fatal(err)
	}
	if err := send(1000, "!"); err == nil || !strings.Contains(err.Error(), "announced") {
		t.Errorf("too much: %v", err)
	}
	sum := sha256.Sum256([]byte(text))
	if e, err := f.Finish(t.Context(), u.ID, link.UploadEnd{SHA256: hex.EncodeToString(sum[:])}); err != nil || e.Size != 1000 {
		t.Fatalf("finished: %+v %v", e, err)
	}
	holds(t, at("new/folder/file"), text)

	// The answer was lost on its way, and the agent died after it gave it: who asks again is told the same.
	for range 2 {
		if e, err := f.Finish(t.Context(), u.ID, link.UploadEnd{SHA256: hex.EncodeToString(sum[:])}); err != nil || e.Size != 1000 {
			t.Errorf("finished again: %+v %v", e, err)
		}
		if s, err := f.State(t.Context(), u.ID); err != nil || s.Offset != 1000 {
			t.Errorf("state of a finished one: %+v %v", s, err)
		}
		if err := send(1000, ""); err == nil || !strings.Contains(err.Error(), "finished") {
			t.Errorf("continued after its end: %v", err)
		}
		if _, err := f.Finish(t.Context(), u.ID, link.UploadEnd{SHA256: strings.Repeat("0", 64)}); err == nil ||
			!strings.Contains(err.Error(), "another SHA-256") {
			t.Errorf("finished as something else: %v", err)
		}
		f.again()
	}
	f.Tidy(time.Now().Add(2 * time.Hour))
	if _, err := f.State(t.Context(), u.ID); err == nil {
		t.Error("a finished upload is remembered for ever")
	}
	holds(t, at("new/folder/file"), text)

	if _, err := f.Begin(t.Context(), order); err == nil || !strings.Contains(err.Error(), "there already") {
		t.Errorf("over another: %v", err)
	}
	order.Replace = true
	if u, err = f.Begin(t.Context(), order); err != nil {
		t.Fatal(err)
	}
	if err := send(0, strings.Repeat("x", 1000)); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Finish(t.Context(), u.ID, link.UploadEnd{SHA256: hex.EncodeToString(sum[:])}); err == nil ||
		!strings.Contains(err.Error(), "not what was sent") {
		t.Errorf("other bytes: %v", err)
	}
	holds(t, at("new/folder/file"), text)

	if u, err = f.Begin(t.Context(), order); err != nil {
		t.Fatal(err)
	}
	f.Tidy(time.Now().Add(6 * 24 * time.Hour))
	if _, err := f.State(t.Context(), u.ID); err != nil {
		t.Errorf("given up too early: %v", err)
	}
	f.Tidy(time.Now().Add(8 * 24 * time.Hour))
	if left, _ := os.ReadDir(at("new/folder")); len(left) != 1 {
		t.Errorf("left: %v", left)
	}
}

func TestUnpackWhatLeadsOut(t *testing.T) {
	f, at := begin(t)
	names := []string{"../out", "a/../../out", "/../out"}
	if runtime.GOOS == "windows" {
		names = append(names, `..\out`, `C:\out`, `C:out`, `\out`, "CON", "a/nul.txt", "x:stream", "ends.")
	}
	for _, name := range names {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: 3, Typeflag: tar.TypeReg}); err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, "abc")
		w.Close()
		if _, err := f.Unpack(t.Context(), at("into"), &b); err == nil && name != "/../out" { // that is /out, of which the / is dropped
			t.Errorf("%q was taken", name)
		}
	}
	if _, err := os.Lstat(at("out")); err == nil {
		t.Error("one left the folder")
	}
}

// An archive of a few hundred bytes does not fill a disk.
func TestUnpackHoles(t *testing.T) {
	if _, err := exec.LookPath("tar"); err != nil || runtime.GOOS != "linux" {
		t.Skip("no GNU tar")
	}
	f, at := begin(t)
	write(t, at("holes"), "")
	if err := os.Truncate(at("holes"), 1<<30); err != nil {
		t.Fatal(err)
	}
	for _, format := range []string{"gnu", "posix"} {
		out, err := exec.Command("tar", "-C", at(""), "-S", "--format="+format, "-cf", "-", "holes").Output()
		if err != nil {
			t.Fatal(err)
		}
		if made, err := f.Unpack(t.Context(), at("into"), bytes.NewReader(out)); err == nil ||
			!strings.Contains(err.Error(), "without holes") {
			t.Errorf("%s, of %d bytes: %+v %v", format, len(out), made, err)
		}
	}
}
