//go:build unix

package place

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

const stranger = 54321

func lay(t *testing.T) string {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err == nil {
		err = errors.Join(os.MkdirAll(filepath.Join(dir, "a/b"), 0o755), os.WriteFile(filepath.Join(dir, "a/b/f"), []byte("text"), 0o640),
			os.Symlink("b", filepath.Join(dir, "a/own")), os.Symlink(dir+"/a/b", filepath.Join(dir, "abs")),
			os.Symlink("loop", filepath.Join(dir, "loop")))
	}
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestWalk(t *testing.T) {
	dir := lay(t)
	for _, c := range []struct{ path, parent, name string }{
		{"a/b/f", "a/b", "f"}, {"a/own/f", "a/b", "f"}, {"abs/f", "a/b", "f"}, {"a/../abs/../b/f", "b", "f"}, {"abs", "", "abs"},
	} {
		d, name, err := Parent(dir + "/" + c.path)
		if c.parent == "b" { // Clean takes .. by the letter, as package os's users expect of filepath
			if err == nil {
				t.Errorf("%s was found", c.path)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.path, err)
			continue
		}
		if d.Path(name) != filepath.Join(dir, c.parent, c.name) {
			t.Errorf("%s is %s", c.path, d.Path(name))
		}
		d.Close()
	}
	d, name, err := Final(dir + "/abs")
	if err != nil || d.Path(name) != dir+"/a/b" {
		t.Errorf("the end of a link: %v, %v", name, err)
	}
	if _, _, err := Parent("relative"); !errors.Is(err, fs.ErrInvalid) {
		t.Errorf("a path that is not whole: %v", err)
	}
	if _, _, err := Final(dir + "/loop"); !errors.Is(err, syscall.ELOOP) {
		t.Errorf("a circle: %v", err)
	}
	if _, err := Open(dir + "/a/b/f"); !errors.Is(err, syscall.ENOTDIR) {
		t.Errorf("a file as a folder: %v", err)
	}
	made, err := Make(dir+"/new/below", 0o700)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := made.Info(); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("what was made: %v, %v", info, err)
	}
	top, name, err := Parent("/")
	if err != nil || name != "." || top.Path(name) != "/" {
		t.Errorf("the top: %q, %v", name, err)
	}
}

// A link that a stranger made leads to what is theirs, and nowhere else.
func TestLinksOfStrangers(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make a stranger's link")
	}
	dir := lay(t)
	for _, err := range []error{os.Symlink(dir+"/a/b", dir+"/theirs"), os.Lchown(dir+"/theirs", stranger, stranger)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, path := range []string{"theirs/f", "theirs"} {
		if _, _, err := Final(dir + "/" + path); !errors.Is(err, ErrLink) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if _, _, err := Parent(dir + "/theirs"); err != nil {
		t.Errorf("the link itself: %v", err)
	}
	if err := errors.Join(os.Chown(dir+"/a/b", stranger, stranger), os.Chown(dir+"/a/b/f", stranger, stranger)); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Final(dir + "/theirs/f"); err != nil {
		t.Errorf("what is theirs: %v", err)
	}
}

func TestDirTakesNoLinks(t *testing.T) {
	dir := lay(t)
	d, err := Open(dir + "/a")
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if _, err := d.Sub("own"); err == nil {
		t.Error("a link was opened as a folder")
	}
	if _, _, err := d.File("own", os.O_RDONLY, 0); err == nil {
		t.Error("a link was opened as a file")
	}
	if _, _, err := d.File("b", os.O_CREATE|os.O_WRONLY, 0o600); !errors.Is(err, fs.ErrExist) {
		t.Errorf("something was made where something stands: %v", err)
	}
	b, err := d.Sub("b")
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if err := errors.Join(b.Chmod("f", 0o600), Rename(b, "f", d, "g")); err != nil {
		t.Fatal(err)
	}
	if info, err := d.Stat("g"); err != nil || info.Mode().Perm() != 0o600 || info.Size() != 4 {
		t.Errorf("what was moved: %v, %v", info, err)
	}
	if err := syscall.Mkfifo(dir+"/a/pipe", 0o600); err != nil {
		t.Fatal(err)
	}
	f, info, err := d.File("pipe", os.O_RDONLY, 0) // does not wait
	if err != nil || info.Mode()&fs.ModeNamedPipe == 0 {
		t.Fatalf("a pipe: %v, %v", info, err)
	}
	f.Close()
	n := 0
	if err := d.Entries(func(string, fs.FileInfo) error { n++; return nil }); err != nil || n != 4 {
		t.Errorf("%d entries, %v", n, err)
	}
}
