//go:build linux

package files_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"moorwatch.example/contract/link"
)

// attacker is the number of an account without any rights.
const attacker = 54321

// hammered is how long each operation is raced against.
func hammered() time.Duration {
	if testing.Short() {
		return time.Second
	}
	return 10 * time.Second
}

// race is a folder of a user who swaps a folder in it for a link to one of root, all the time, while root
// works there for somebody.
type race struct {
	*place
	home, vault, safe string // the user's, what only root may see, and where root puts what it was asked for
	before            string
}

func begins(t *testing.T) *race {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("an agent that is not root may do no more than who attacks it")
	}
	f, at := begin(t)
	for dir := at(""); dir != "/" && strings.HasPrefix(dir, os.TempDir()+"/"); dir = filepath.Dir(dir) {
		os.Chmod(dir, 0o755)
	}
	r := &race{place: f, home: at("home"), vault: at("vault"), safe: at("safe")}
	for dir, mode := range map[string]fs.FileMode{r.home: 0o755, r.vault: 0o700, r.safe: 0o700} {
		r.must(t, os.Mkdir(dir, mode))
	}
	r.fill(t, r.vault, "the secret", 0)
	r.fill(t, filepath.Join(r.home, "real"), "a note", attacker)
	r.must(t, os.Chown(r.home, attacker, attacker))
	r.before = r.snapshot(t)
	swap, away := filepath.Join(r.home, "swap"), filepath.Join(r.home, "real")
	r.must(t, os.Symlink(r.vault, swap+".link"))
	r.must(t, os.Lchown(swap+".link", attacker, attacker))
	stop, over := make(chan struct{}), sync.WaitGroup{}
	over.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			// Now the folder, now the link stands under the name.
			syscall.Rename(away, swap)
			syscall.Rename(swap, away)
			syscall.Rename(swap+".link", swap)
			syscall.Rename(swap, swap+".link")
		}
	})
	t.Cleanup(func() { close(stop); over.Wait() })
	return r
}

func (r *race) must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// fill puts a folder with two files into place.
func (r *race) fill(t *testing.T, dir, text string, owner int) {
	t.Helper()
	r.must(t, os.MkdirAll(filepath.Join(dir, "deep"), 0o700))
	for _, name := range []string{"f.txt", "deep/g.txt"} {
		r.must(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	r.must(t, filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, owner, owner)
	}))
}

func (r *race) context() context.Context { return context.Background() }

// action does an action, whatever comes of it.
func (r *race) action(d link.FileAction) {
	r.Change(r.context(), d, func(link.FileEvent) error { return nil })
}

// snapshot tells all of the vault: names, bits, owners and bytes.
func (r *race) snapshot(t *testing.T) string {
	t.Helper()
	var out strings.Builder
	r.must(t, filepath.WalkDir(r.vault, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		s := info.Sys().(*syscall.Stat_t)
		text := []byte(nil)
		if info.Mode().IsRegular() {
			text, err = os.ReadFile(path)
		}
		fmt.Fprintf(&out, "%s %s %d:%d %q\n", strings.TrimPrefix(path, r.vault), info.Mode(), s.Uid, s.Gid, text)
		return err
	}))
	return out.String()
}

// leaked tells which file, in what root was asked to make, holds what only root may see and belongs to
// somebody else, or was copied from where the user's things are.
func (r *race) leaked() (path string) {
	for _, dir := range []string{r.safe, r.disk.top} {
		filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				if text, err := os.ReadFile(at); err == nil && string(text) == "the secret" {
					path = at
				}
			}
			return nil
		})
	}
	return path
}

// Finding 2: while the agent worked in a user's folder as root, the user put a link in the place of a
// folder on the way, and got what only root may see, or had it changed.
func TestLinksPutInTheWay(t *testing.T) {
	for name, do := range map[string]func(r *race, n int){
		"copy": func(r *race, n int) {
			to := filepath.Join(r.safe, fmt.Sprint(n))
			os.Mkdir(to, 0o700)
			r.action(link.FileAction{Action: link.FileCopy, Paths: []string{r.home}, To: to})
			r.action(link.FileAction{Action: link.FileCopy, Paths: []string{filepath.Join(r.home, "swap")}, To: to})
			r.action(link.FileAction{Action: link.FileCopy, Paths: []string{filepath.Join(r.home, "swap", "f.txt")}, To: to})
		},
		"copy into": func(r *race, n int) {
			r.action(link.FileAction{Action: link.FileCopy, Paths: []string{"/etc/hostname"}, To: filepath.Join(r.home, "swap"),
				Replace: true})
		},
		"permit": func(r *race, n int) {
			for _, path := range []string{r.home, filepath.Join(r.home, "swap"), filepath.Join(r.home, "swap", "f.txt")} {
				r.action(link.FileAction{Action: link.FilePermit, Paths: []string{path}, Owner: fmt.Sprint(attacker),
					Group: fmt.Sprint(attacker), Bits: "0777", Deep: path != filepath.Join(r.home, "swap", "f.txt")})
			}
		},
		"make": func(r *race, n int) {
			r.action(link.FileAction{Action: link.FileMake, Paths: []string{filepath.Join(r.home, "swap", fmt.Sprint(n))}})
		},
		"move": func(r *race, n int) {
			r.action(link.FileAction{Action: link.FileRename, Paths: []string{filepath.Join(r.home, "swap", "f.txt")},
				To: filepath.Join(r.home, "swap", "h.txt")})
			r.action(link.FileAction{Action: link.FileRename, Paths: []string{filepath.Join(r.home, "swap", "h.txt")},
				To: filepath.Join(r.home, "swap", "f.txt")})
		},
		"remove": func(r *race, n int) {
			r.action(link.FileAction{Action: link.FileRemove, Paths: []string{filepath.Join(r.home, "swap", "deep")}})
		},
		"save": func(r *race, n int) {
			path := filepath.Join(r.home, "swap", "f.txt")
			for _, text := range []string{"a note", "the secret"} {
				sum := sha256.Sum256([]byte(text))
				r.WriteText(r.context(), link.TextFile{Path: path, Encoding: "utf-8", LineEnd: "lf", Text: "changed",
					Version: hex.EncodeToString(sum[:])})
			}
			r.WriteText(r.context(), link.TextFile{Path: filepath.Join(r.home, "swap", fmt.Sprint(n)), Encoding: "utf-8", LineEnd: "lf",
				Text: "new"})
		},
		"upload": func(r *race, n int) {
			text := "uploaded"
			u, err := r.Begin(r.context(), link.UploadOrder{Path: filepath.Join(r.home, "swap", "f.txt"), Size: int64(len(text)),
				Replace: true})
			if err != nil {
				return
			}
			r.Continue(u.ID, 0, func(w io.Writer) error { _, err := io.WriteString(w, text); return err })
			sum := sha256.Sum256([]byte(text))
			if _, err := r.Finish(r.context(), u.ID, link.UploadEnd{SHA256: hex.EncodeToString(sum[:])}); err != nil {
				r.Drop(r.context(), u.ID)
			}
		},
		"unpack": func(r *race, n int) {
			var b bytes.Buffer
			w := tar.NewWriter(&b)
			w.WriteHeader(&tar.Header{Name: "deep/x.txt", Typeflag: tar.TypeReg, Size: 1, Mode: 0o644})
			w.Write([]byte("x"))
			w.Close()
			r.Unpack(r.context(), filepath.Join(r.home, "swap"), &b)
		},
	} {
		t.Run(strings.ReplaceAll(name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			r := begins(t)
			n := 0
			for began := time.Now(); time.Since(began) < hammered(); n++ {
				do(r, n)
				if now := r.snapshot(t); now != r.before {
					t.Fatalf("after %d rounds what only root may change is\n%s\nand was\n%s", n, now, r.before)
				}
				if path := r.leaked(); path != "" {
					t.Fatalf("after %d rounds %s holds what only root may see", n, path)
				}
			}
			t.Logf("%d rounds", n)
		})
	}
}

// Finding 2: a recoverable place that somebody planted on a disk that everybody may write to was taken,
// and root's own folder behind it changed.
func TestPlantedRecoverablePlace(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("an agent that is not root may do no more than who attacks it")
	}
	for name, plant := range map[string]func(t *testing.T, r *race, bin string) error{
		"linked": func(_ *testing.T, r *race, bin string) error { return os.Symlink(r.vault, bin) },
		"foreign": func(_ *testing.T, r *race, bin string) error {
			return errors.Join(os.Mkdir(bin, 0o700), os.Chown(bin, attacker, attacker))
		},
		"open to all": func(_ *testing.T, r *race, bin string) error {
			return errors.Join(os.Mkdir(bin, 0o700), os.Chmod(bin, 0o777))
		},
		"linked within": func(_ *testing.T, r *race, bin string) error {
			return errors.Join(os.Mkdir(bin, 0o700), os.Symlink(r.vault, filepath.Join(bin, "files")))
		},
	} {
		t.Run(strings.ReplaceAll(name, " ", "-"), func(t *testing.T) {
			r := begins(t)
			r.must(t, plant(t, r, filepath.Join(r.disk.top, ".Trash-0")))
			victim := filepath.Join(r.safe, "victim")
			write(t, victim, "still here")
			if why := r.told(t, link.FileAction{Action: link.FileRemove, Paths: []string{victim}}); why == "" {
				t.Error("something was removed to a place that somebody planted")
			}
			holds(t, victim, "still here")
			if now := r.snapshot(t); now != r.before {
				t.Errorf("what only root may change is\n%s\nand was\n%s", now, r.before)
			}
		})
	}
}

// Finding 8: the agent's own folder, with the key by which the device proves what it is, is closed to
// every tool, also by a link and from above.
func TestAgentsOwnFolderIsClosed(t *testing.T) {
	f, at := begin(t)
	key := filepath.Join(f.dir, "identity.json")
	write(t, key, "the key")
	if err := os.Symlink(f.dir, at("way")); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{key, at("way/identity.json")} {
		if _, err := f.Open(path, 0); err == nil || !strings.Contains(err.Error(), "closed to every tool") {
			t.Errorf("reading %s: %v", path, err)
		}
		if _, err := f.Entry(t.Context(), link.FilePath{Path: path, Digest: "sha256"}); err == nil {
			t.Errorf("the digest of %s was told", path)
		}
		for _, d := range []link.FileAction{{Action: link.FileCopy, To: at("")}, {Action: link.FileMove, To: at("")},
			{Action: link.FileRemove}, {Action: link.FilePermit, Bits: "0666"}} {
			d.Paths = []string{path}
			if why := f.told(t, d); !strings.Contains(why, "closed to every tool") {
				t.Errorf("%s of %s: %q", d.Action, path, why)
			}
		}
	}
	if err := f.List(t.Context(), link.FilePath{Path: f.dir}, func(link.FileBatch) error { return nil }); err == nil {
		t.Error("it was listed")
	}
	above := filepath.Dir(f.dir)
	if why := f.told(t, link.FileAction{Action: link.FileCopy, Paths: []string{above}, To: at("")}); why == "" {
		t.Error("a folder was copied into itself")
	}
	d, err := f.Archive(t.Context(), []string{above}, link.ArchiveTar)
	if err != nil {
		t.Fatal(err)
	}
	if all, err := io.ReadAll(d); err != nil || strings.Contains(string(all), "the key") {
		t.Errorf("an archive from above holds the key: %v", err)
	}
	holds(t, key, "the key")
}
