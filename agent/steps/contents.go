package steps

import (
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
	"time"

	"moorwatch.example/core/pack"
)

// Contents keeps files of packages by their digest. What came of one before a cut is kept, and only the
// rest is fetched.
type Contents struct {
	Dir string
	// Fetch writes the bytes of a file from an offset on to w; it is called again after a cut, and waits
	// for the service where that is away.
	Fetch func(ctx context.Context, digest string, offset int64, w Taker) error

	mu    sync.Mutex
	locks map[string]*sync.Mutex
}

// Taker takes the bytes of a file. Before them it may be told its quick digest (pack.Quick), which is
// then compared; an empty one says nothing.
type Taker interface {
	io.Writer
	Expect(quick string) error
}

// contentsKept is how long what nobody used is kept.
const contentsKept = 7 * 24 * time.Hour

// refetch is how long it waits after a cut.
const refetch = time.Second

// ErrRefused is wrapped by Fetch where it need not try again.
var ErrRefused = errors.New("the service refuses the file")

// Tidy removes what was not used for a week.
func (c *Contents) Tidy(now time.Time) {
	files, _ := os.ReadDir(c.Dir)
	for _, f := range files {
		if info, err := f.Info(); err == nil && now.Sub(info.ModTime()) > contentsKept {
			os.Remove(filepath.Join(c.Dir, f.Name()))
		}
	}
}

// Forget removes a file that is used no more.
func (c *Contents) Forget(f pack.File) { os.Remove(filepath.Join(c.Dir, f.SHA256)) }

// lock returns the lock of a digest: two runs may want the same file.
func (c *Contents) lock(digest string) *sync.Mutex {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.locks == nil {
		c.locks = map[string]*sync.Mutex{}
	}
	if c.locks[digest] == nil {
		c.locks[digest] = &sync.Mutex{}
	}
	return c.locks[digest]
}

// File returns where a file lies, after it was fetched and its digest found right.
func (c *Contents) File(ctx context.Context, f pack.File, log io.Writer) (path string, err error) {
	if !pack.Digest(f.SHA256) {
		return "", errors.New("the digest of the file is none")
	}
	mine := c.lock(f.SHA256)
	mine.Lock()
	defer mine.Unlock()
	path = filepath.Join(c.Dir, f.SHA256)
	if info, err := os.Stat(path); err == nil && info.Size() == f.Size {
		now := time.Now()
		os.Chtimes(path, now, now)
		return path, nil
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return "", err
	}
	part, err := os.OpenFile(path+".part", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", err
	}
	defer part.Close()
	have, err := part.Seek(0, io.SeekEnd)
	if err == nil && have > f.Size {
		have, err = 0, errors.Join(part.Truncate(0), rewind(part))
	}
	if err != nil {
		return "", err
	}
	if have > 0 {
		fmt.Fprintf(log, "   %s: %d of %d bytes are here already\n", f.Name, have, f.Size)
	}
	w := &taken{file: part, left: f.Size - have}
	for w.left > 0 {
		err := c.Fetch(ctx, f.SHA256, f.Size-w.left, w)
		switch {
		case w.left == 0:
		case w.err != nil:
			return "", fmt.Errorf("the file %s cannot be kept: %w", f.Name, full(w.err))
		case errors.Is(err, ErrRefused), ctx.Err() != nil:
			return "", fmt.Errorf("the file %s cannot be had: %w", f.Name, err)
		default:
			select {
			case <-ctx.Done():
				return "", context.Cause(ctx)
			case <-time.After(refetch):
			}
		}
	}
	if err := w.compare(f.SHA256); err != nil {
		os.Remove(part.Name())
		return "", fmt.Errorf("the file %s %w: it was dropped", f.Name, err)
	}
	if err := part.Sync(); err != nil {
		return "", err
	}
	return path, os.Rename(part.Name(), path)
}

func rewind(f *os.File) error { _, err := f.Seek(0, io.SeekStart); return err }

func full(err error) error {
	if strings.Contains(err.Error(), "no space") || errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("%w; what came of it is kept", err)
	}
	return err
}

// taken writes what comes to the file and into its quick digest, and no more than is left.
type taken struct {
	file  *os.File
	quick string     // as the service told it
	sum   pack.Quick // of what the file holds, once that is known
	left  int64
	err   error
}

func (t *taken) Expect(quick string) error {
	if quick == "" || t.quick != "" {
		return nil
	}
	t.quick, t.sum = quick, pack.NewQuick()
	if t.err = rewind(t.file); t.err == nil {
		_, t.err = io.Copy(t.sum, t.file)
	}
	return t.err
}

func (t *taken) Write(p []byte) (int, error) {
	if int64(len(p)) > t.left {
		return 0, errors.New("the file is longer than was said")
	}
	n, err := t.file.Write(p)
	if t.quick != "" {
		t.sum.Write(p[:n])
	}
	t.left -= int64(n)
	if err != nil {
		t.err = err
	}
	return n, err
}

// compare compares the quick digest, and where the service told none, the one that names the file.
func (t *taken) compare(named string) error {
	if t.quick != "" {
		if t.sum.String() != t.quick {
			return errors.New("is not as the service stored it")
		}
		return nil
	}
	sum := sha256.New()
	if err := rewind(t.file); err != nil {
		return err
	}
	if _, err := io.Copy(sum, t.file); err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != named {
		return fmt.Errorf("has the digest %s…, and %s… was expected", got[:12], named[:12])
	}
	return nil
}
