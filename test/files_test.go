package test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/test/wait"
)

// file makes a file of random bytes and returns it open.
func file(t *testing.T, path string, size int) *os.File {
	t.Helper()
	b := make([]byte, size)
	rand.Read(b)
	if err := os.WriteFile(path, b, 0o640); err != nil {
		t.Fatal(err)
	}
	f := must(os.Open(path))(t)
	t.Cleanup(func() { f.Close() })
	return f
}

func same(t *testing.T, a, b string) {
	t.Helper()
	if x, y := must(os.ReadFile(a))(t), must(os.ReadFile(b))(t); !bytes.Equal(x, y) {
		t.Errorf("%s and %s differ: %d and %d bytes", a, b, len(x), len(y))
	}
}

// action does a file action and returns the errors by path.
func action(t *testing.T, c *client.Client, id uuid.UUID, d link.FileAction) map[string]string {
	t.Helper()
	failed := map[string]string{}
	r, err := c.ChangeFiles(t.Context(), id, d)
	err = client.Lines(t.Context(), r, err, "before all was done", func(e link.FileEvent) (bool, error) {
		if e.Error != "" {
			failed[e.Path] = e.Error
		}
		return e.Done, nil
	})
	if err != nil {
		failed[""] = err.Error()
	}
	return failed
}

func names(t *testing.T, dir string) []string {
	t.Helper()
	var all []string
	for _, e := range must(os.ReadDir(dir))(t) {
		all = append(all, e.Name())
	}
	return all
}

func TestTransfers(t *testing.T) {
	t.Parallel()
	w := begin(t, true)
	d := w.machine(t, "van-board")
	here, there := t.TempDir(), t.TempDir()
	for _, size := range []int{0, 1, 300_000, 20_000_000} {
		f := file(t, filepath.Join(here, "a"), size)
		to := filepath.Join(there, "sub", "b")
		e, err := w.owner.Put(t.Context(), d.id, f, to, client.PutOptions{Folders: true, Replace: true})
		if err != nil {
			t.Fatal(err)
		}
		if e.Size != int64(size) || e.Bits != "0640" || !e.Modified.Equal(must(f.Stat())(t).ModTime()) {
			t.Errorf("it stands there as %+v", e)
		}
		same(t, f.Name(), to)
		back := filepath.Join(here, "c")
		if err := w.owner.Get(t.Context(), d.id, to, back, true, nil); err != nil {
			t.Fatal(err)
		}
		same(t, to, back)
	}
	if got := names(t, filepath.Join(there, "sub")); len(got) != 1 {
		t.Errorf("beside the file stands %v", got)
	}
	if got := names(t, here); len(got) != 2 {
		t.Errorf("here stands %v", got)
	}
	_, err := w.owner.Put(t.Context(), d.id, file(t, filepath.Join(here, "a"), 10), filepath.Join(there, "sub", "b"), client.PutOptions{})
	refused(t, err, http.StatusConflict, "there already")
	for path, want := range map[string]string{"/dev/zero": "a device file", there: "a folder", filepath.Join(there, "none"): "not there",
		"relative": "no whole path"} {
		if err := w.owner.Get(t.Context(), d.id, path, filepath.Join(here, "x"), true, nil); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("fetching %s: %v, want %q", path, err, want)
		}
	}
}

// An upload that was cut goes on where the device stands, also after the device's agent and the
// service were started anew; a digest that does not fit leaves nothing behind.
func TestUploadsGoOn(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	here, there := t.TempDir(), t.TempDir()
	f := file(t, filepath.Join(here, "a"), 3_000_000)
	content := must(os.ReadFile(f.Name()))(t)
	to := filepath.Join(there, "b")
	u := must(client.Made(w.owner.BeginUploadWithResponse(t.Context(), d.id, link.UploadOrder{Path: to, Size: int64(len(content))})))(t)
	id := uuid.MustParse(u.ID)
	send := func(offset int64, body io.Reader) error {
		_, err := client.Result(w.owner.SendUploadWithBodyWithResponse(t.Context(), d.id, id, &api.SendUploadParams{Offset: offset},
			"application/octet-stream", body))
		return err
	}
	pr, pw := io.Pipe()
	cut := make(chan error, 1)
	go func() { cut <- send(0, pr) }()
	pw.Write(content[:1_000_000])
	offset := func() int64 {
		return must(client.Result(w.owner.GetUploadWithResponse(t.Context(), d.id, id)))(t).Offset
	}
	w.await(t, "the device has what came", func() bool { return offset() >= 900_000 })
	pw.CloseWithError(errors.New("cut"))
	if err := <-cut; err == nil {
		t.Error("a cut upload ended well")
	}
	refused(t, send(5, bytes.NewReader(content[5:])), http.StatusConflict, "continue from there")
	if _, err := os.Stat(to); err == nil {
		t.Error("it has its name before it is whole")
	}
	_, err := client.Result(w.owner.EndUploadWithResponse(t.Context(), d.id, id, link.UploadEnd{SHA256: strings.Repeat("0", 64)}))
	refused(t, err, http.StatusConflict, "3000000 bytes")
	d.stop()
	w.Stop()
	w.start(t)
	d2 := w.rerun(t, d, "van-board")
	defer d2()
	w.await(t, "the device is back", func() bool {
		return must(w.owner.Device(t.Context(), d.id))(t).Device.Online
	})
	e, err := w.owner.Put(t.Context(), d.id, f, to, client.PutOptions{Upload: id})
	if err != nil {
		t.Fatal(err)
	}
	same(t, f.Name(), to)
	if e.Path != to {
		t.Errorf("it stands at %s", e.Path)
	}
	u = must(client.Made(w.owner.BeginUploadWithResponse(t.Context(), d.id, link.UploadOrder{Path: to + "2", Size: 5})))(t)
	id = uuid.MustParse(u.ID)
	if err := send(0, strings.NewReader("hello")); err != nil {
		t.Fatal(err)
	}
	_, err = client.Result(w.owner.EndUploadWithResponse(t.Context(), d.id, id, link.UploadEnd{SHA256: strings.Repeat("0", 64)}))
	refused(t, err, http.StatusUnprocessableEntity, "not what was sent")
	if got := names(t, there); len(got) != 1 {
		t.Errorf("there stands %v", got)
	}
}

func TestFolders(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	there := t.TempDir()
	odd := []string{"plain", "with space", "new\nline", "quote'\"", "bad\xffbytes", "-dash", strings.Repeat("n", 255), "deep/er/x"}
	put := func(names ...string) error {
		return w.owner.PutFolder(t.Context(), d.id, there, func(a *tar.Writer) error {
			for _, n := range names {
				if err := a.WriteHeader(&tar.Header{Name: n, Mode: 0o600, Size: 3, Typeflag: tar.TypeReg,
					Format: tar.FormatGNU}); err != nil {
					return err
				}
				io.WriteString(a, "abc")
			}
			return nil
		})
	}
	if err := put(odd...); err != nil {
		t.Fatal(err)
	}
	for _, n := range odd {
		if b, err := os.ReadFile(filepath.Join(there, n)); err != nil || string(b) != "abc" {
			t.Errorf("%q: %q, %v", n, b, err)
		}
	}
	listed := map[string]link.FileEntry{}
	if err := w.owner.Walk(t.Context(), d.id, there, true, func(b link.FileBatch) error {
		for _, e := range b.Entries {
			listed[e.Name] = e
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if len(listed) != len(odd)+2 || listed["deep/er/x"].Size != 3 || listed["bad\U0010ffffbytes"].Kind != link.KindFile {
		t.Errorf("the list holds %d entries: %v", len(listed), listed)
	}
	if err := w.owner.Get(t.Context(), d.id, there+"/bad\U0010ffffbytes", filepath.Join(t.TempDir(), "x"), false, nil); err != nil {
		t.Errorf("a name that is no text: %v", err)
	}
	outside := filepath.Join(filepath.Dir(there), "outside")
	if err := os.Symlink(filepath.Dir(there), filepath.Join(there, "up")); err != nil {
		t.Fatal(err)
	}
	for _, n := range []string{"../outside", "/outside", "up/outside", "a/../../outside"} {
		err := put(n)
		if _, gone := os.Stat(outside); gone == nil {
			t.Fatalf("%q left the folder", n)
		}
		if n == "/outside" {
			os.Remove(filepath.Join(there, "outside"))
		} else if err == nil {
			t.Errorf("%q was taken", n)
		}
	}
	var back []string
	if err := w.owner.GetFolder(t.Context(), d.id, there, func(h *tar.Header, _ io.Reader) error {
		back = append(back, strings.TrimPrefix(h.Name, filepath.Base(there)+"/"))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if len(back) < len(odd) {
		t.Errorf("the folder came back as %q", back)
	}
}

func TestFileActions(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(at(name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("a", "one")
	if err := syscall.Mkfifo(at("pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	os.Symlink("loop", at("loop"))
	for _, c := range []struct {
		action link.FileAction
		want   string // "" for success
	}{
		{link.FileAction{Action: link.FileMake, Paths: []string{at("folder")}}, ""},
		{link.FileAction{Action: link.FileMake, Paths: []string{at("folder")}}, "there already"},
		{link.FileAction{Action: link.FileMake, Paths: []string{at(strings.Repeat("x", 256))}}, "at most 255"},
		{link.FileAction{Action: link.FileCopy, Paths: []string{at("a")}, To: at("folder")}, ""},
		{link.FileAction{Action: link.FileCopy, Paths: []string{at("a")}, To: dir}, ""},
		{link.FileAction{Action: link.FileCopy, Paths: []string{at("folder")}, To: at("folder")}, "into itself"},
		{link.FileAction{Action: link.FileMove, Paths: []string{at("a")}, To: at("folder")}, "there already"},
		{link.FileAction{Action: link.FileRename, Paths: []string{at("a")}, To: at("b")}, ""},
		{link.FileAction{Action: link.FileRename, Paths: []string{at("none")}, To: at("c")}, "not there"},
		{link.FileAction{Action: link.FilePermit, Paths: []string{at("b")}, Bits: "0600"}, ""},
		{link.FileAction{Action: link.FilePermit, Paths: []string{at("b")}, Bits: "9"}, "no permission bits"},
		{link.FileAction{Action: link.FilePermit, Paths: []string{at("b")}, Owner: "no-such-account"}, "no account"},
		{link.FileAction{Action: link.FileRemove, Paths: []string{at("b"), at("folder")}}, ""},
		{link.FileAction{Action: link.FileRemove, Paths: []string{"/"}}, "a whole disk"},
	} {
		failed := action(t, w.owner, d.id, c.action)
		text := ""
		for _, e := range failed {
			text += e
		}
		if (c.want == "") != (text == "") || !strings.Contains(text, c.want) {
			t.Errorf("%+v: %q, want %q", c.action, text, c.want)
		}
	}
	if b, _ := os.ReadFile(at("a (2)")); string(b) != "one" {
		t.Errorf("the copy holds %q", b)
	}
	removed := must(client.Result(w.owner.ListRemovedFilesWithResponse(t.Context(), d.id)))(t).Items
	if len(removed) != 2 {
		t.Fatalf("removed: %+v", removed)
	}
	for _, r := range removed {
		if failed := action(t, w.owner, d.id, link.FileAction{Action: link.FileRestore, Paths: []string{r.ID}}); len(failed) > 0 {
			t.Error(failed)
		}
	}
	if info := must(os.Stat(at("b")))(t); info.Mode().Perm() != 0o600 {
		t.Errorf("it came back as %s", info.Mode())
	}
	for name, want := range map[string]string{"pipe": "a pipe", "loop": "in a circle", "folder": "a folder"} {
		_, err := client.Result(w.owner.ReadTextWithResponse(t.Context(), d.id, &api.ReadTextParams{Path: at(name)}))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("reading %s: %v", name, err)
		}
	}
}

func TestTexts(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	dir := t.TempDir()
	for name, c := range map[string]struct{ raw, text, encoding, end, after string }{
		"plain": {"grüß\nb\n", "grüß\nb\n", "utf-8", "lf", "grüß\nb\nmore\n"},
		"dos":   {"a\r\nb\r\n", "a\nb\n", "utf-8", "crlf", "a\r\nb\r\nmore\r\n"},
		"bom":   {"\xef\xbb\xbfa\n", "a\n", "utf-8-bom", "lf", "\xef\xbb\xbfa\nmore\n"},
		"wide":  {"\xff\xfea\x00\n\x00", "a\n", "utf-16le", "lf", "\xff\xfea\x00\n\x00m\x00o\x00r\x00e\x00\n\x00"},
		"old":   {"gr\xfc\xdf\n", "grüß\n", "iso-8859-1", "lf", "gr\xfc\xdf\nmore\n"},
	} {
		path := filepath.Join(dir, name)
		os.WriteFile(path, []byte(c.raw), 0o751)
		got := must(client.Result(w.owner.ReadTextWithResponse(t.Context(), d.id, &api.ReadTextParams{Path: path})))(t)
		if got.Text != c.text || got.Encoding != c.encoding || got.LineEnd != c.end {
			t.Errorf("%s reads as %+v", name, got)
		}
		got.Text += "more\n"
		written := must(client.Result(w.owner.WriteTextWithResponse(t.Context(), d.id, *got)))(t)
		if b := must(os.ReadFile(path))(t); string(b) != c.after || written.Version == got.Version {
			t.Errorf("%s is %q after, want %q", name, b, c.after)
		}
		if info := must(os.Stat(path))(t); info.Mode().Perm() != 0o751 {
			t.Errorf("%s has %s after", name, info.Mode())
		}
		_, err := client.Result(w.owner.WriteTextWithResponse(t.Context(), d.id, *got))
		refused(t, err, http.StatusConflict, "changed meanwhile")
	}
	got := must(client.Result(w.owner.ReadTextWithResponse(t.Context(), d.id, &api.ReadTextParams{Path: filepath.Join(dir, "old")})))(t)
	got.Text = "Ω"
	_, err := client.Result(w.owner.WriteTextWithResponse(t.Context(), d.id, *got))
	refused(t, err, http.StatusUnprocessableEntity, "iso-8859-1")
	os.WriteFile(filepath.Join(dir, "binary"), []byte{1, 0, 2}, 0o644)
	_, err = client.Result(w.owner.ReadTextWithResponse(t.Context(), d.id, &api.ReadTextParams{Path: filepath.Join(dir, "binary")}))
	refused(t, err, http.StatusUnsupportedMediaType, "no text")
	sum := sha256.Sum256([]byte{1, 0, 2})
	digest := api.GetFileParamsDigest("sha256")
	e := must(client.Result(w.owner.GetFileWithResponse(t.Context(), d.id,
		&api.GetFileParams{Path: filepath.Join(dir, "binary"), Digest: &digest})))(t)
	if e.Digest != hex.EncodeToString(sum[:]) {
		t.Errorf("its digest is %s", e.Digest)
	}
}

func TestFollowAFile(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	d := w.machine(t, "van-board")
	path := filepath.Join(t.TempDir(), "log")
	os.WriteFile(path, []byte("one\ntwo err\nthree err\n"), 0o644)
	ctx, cancel := context.WithTimeout(t.Context(), soon)
	defer cancel()
	var all []string
	step := 0
	r, err := w.owner.FollowFile(ctx, d.id, link.Follow{Path: path, Filter: "err", Back: 2})
	err = client.Lines(ctx, r, err, "while it was followed", func(l link.Lines) (bool, error) {
		all = append(all, l.Lines...)
		if l.Note != "" {
			all = append(all, "note")
		}
		switch {
		case step == 0 && len(l.Lines) == 0:
			step = 1
			f := must(os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0))(t)
			f.WriteString("four\nfive err\n")
			f.Close()
		case step == 1 && len(l.Lines) > 0:
			step = 2
			os.Rename(path, path+".1")
			os.WriteFile(path, []byte("six err\n"), 0o644)
		}
		return strings.Contains(strings.Join(all, " "), "six"), nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(all, ","); got != "two err,three err,five err,note,six err" {
		t.Errorf("followed: %s", got)
	}
}

// cutter passes connections on and cuts every one of them again and again.
func cutter(t *testing.T, to string, every time.Duration) (address string) {
	t.Helper()
	l := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer near.Close()
				far, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				time.AfterFunc(every, func() { near.Close(); far.Close() })
				go func() { io.Copy(far, near); far.Close() }()
				// Slow enough that the file does not fit between two cuts.
				b := make([]byte, 16<<10)
				for {
					n, err := far.Read(b)
					if n > 0 {
						if _, err := near.Write(b[:n]); err != nil {
							return
						}
						wait.Pause(t, time.Millisecond)
					}
					if err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// Files come through a network that cuts the device's link again and again, whole and unaltered.
func TestTransfersThroughCuts(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	dir, id := w.enrol(t, "tarn-ridge-3")
	redirect(t, dir, "http://"+cutter(t, strings.TrimPrefix(w.Service.URL, "http://"), 2500*time.Millisecond))
	stop := w.rerun(t, &running{id: id, dir: dir}, "tarn-ridge-3")
	defer stop()
	w.await(t, "it is online with facts", func() bool {
		d := must(w.owner.Device(t.Context(), id))(t)
		return d.Device.Online && d.Facts != nil && d.Facts.OS != ""
	})
	here, there := t.TempDir(), t.TempDir()
	f := file(t, filepath.Join(here, "a"), 25_000_000)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	if _, err := w.owner.Put(ctx, id, f, filepath.Join(there, "b"), client.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	same(t, f.Name(), filepath.Join(there, "b"))
	if err := w.owner.Get(ctx, id, filepath.Join(there, "b"), filepath.Join(here, "c"), false, nil); err != nil {
		t.Fatal(err)
	}
	same(t, f.Name(), filepath.Join(here, "c"))
}
