package job

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"

	"moorwatch.example/uplink"
)

// contents keeps the files of packages in a folder, each under its digest, encrypted under a key of its own. What is not
// whole yet, or whose digest was not compared, has .part behind its name.
type contents struct {
	dir string

	mu      sync.Mutex
	sending map[string]bool // digests that somebody sends now
}

// partsKept is how long what is not whole is kept, and unusedKept what no package brings.
const (
	partsKept  = 7 * 24 * time.Hour
	unusedKept = 30 * 24 * time.Hour
)

func (c *contents) path(digest string) string { return filepath.Join(c.dir, digest[:2], digest) }

// have is how many bytes of a file are there.
func (c *contents) have(digest string) int64 {
	for _, path := range []string{c.path(digest), c.path(digest) + ".part"} {
		if info, err := os.Stat(path); err == nil {
			return info.Size()
		}
	}
	return 0
}

// remove removes a file, whole or not.
func (c *contents) remove(digest string) {
	os.Remove(c.path(digest))
	os.Remove(c.path(digest) + ".part")
}

// claim has one at a time send a file.
func (c *contents) claim(digest string) (release func(), ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.sending[digest] {
		return nil, false
	}
	c.sending[digest] = true
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.sending, digest)
	}, true
}

var (
	errOffset = errors.New("the store stands elsewhere")
	errDigest = errors.New("the file has another digest")
	errLarge  = errors.New("the file is longer than was said")
)

// filePurpose is what the key of a file is sealed for.
func filePurpose(digest string) string { return "content " + digest }

// newFileKey makes the key of a file, sealed.
func (c *Service) newFileKey(digest string) []byte {
	return c.files.Seal(string(secret.NewKey()), filePurpose(digest))
}

// fileKey opens the key of a file; nil for one that is not encrypted.
func (c *Service) fileKey(ctx context.Context, digest string) ([]byte, error) {
	sealed, err := c.store.contentKey(ctx, digest)
	if err != nil || sealed == nil {
		return nil, err
	}
	key, err := c.files.Open(sealed, filePurpose(digest))
	return []byte(key), err
}

// plain reads a file that stands at an offset.
func plain(f io.Reader, key []byte, offset int64) (io.Reader, error) {
	if key == nil {
		return f, nil
	}
	return secret.Reader(f, key, offset)
}

// take writes bytes of a file from an offset on. Once all are there the digest is compared; what has
// another is dropped.
// Of what is whole it returns the quick digest too.
func (c *contents) take(digest string, key []byte, size, offset int64, r io.Reader) (quick string, whole bool, err error) {
	path := c.path(digest)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", false, err
	}
	f, err := os.OpenFile(path+".part", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", false, err
	}
	defer f.Close()
	if end, err := f.Seek(0, io.SeekEnd); err != nil || end != offset {
		return "", false, errors.Join(errOffset, err)
	}
	to := io.Writer(f)
	if key != nil {
		if to, err = secret.Writer(f, key, offset); err != nil {
			return "", false, err
		}
	}
	n, err := io.Copy(to, io.LimitReader(r, size-offset))
	if err != nil || offset+n < size {
		return "", false, err
	}
	if more, _ := r.Read(make([]byte, 1)); more > 0 {
		return "", false, errors.Join(errLarge, os.Remove(f.Name()))
	}
	sum, second := sha256.New(), pack.NewQuick()
	var all io.Reader
	if _, err = f.Seek(0, io.SeekStart); err == nil {
		all, err = plain(f, key, 0)
	}
	if err == nil {
		_, err = io.Copy(io.MultiWriter(sum, second), all)
	}
	if err != nil {
		return "", false, err
	}
	if hex.EncodeToString(sum.Sum(nil)) != digest {
		return "", false, errors.Join(errDigest, os.Remove(f.Name()))
	}
	if err := f.Sync(); err != nil {
		return "", false, err
	}
	return second.String(), true, os.Rename(f.Name(), path)
}

// ListContents lists the content store: GET /contents.
func (c *Service) ListContents(g *gin.Context, in api.ListContentsParams) {
	front.List(g, in.Cursor, in.Limit, named{}, func(ctx context.Context, after named, limit int) ([]api.Content, error) {
		all, err := c.store.contents(ctx, after, limit)
		for i := range all {
			all[i].Have = c.contents.have(all[i].Sha256)
		}
		return all, err
	}, func(x api.Content) named { return named{x.Name, x.Sha256} },
		func(items []api.Content, next *string) any { return api.ContentPage{Items: items, Next: next} })
}

// AddContent begins to take a file, or tells how much of it is there: POST /contents.
func (c *Service) AddContent(g *gin.Context) {
	in, ok := front.Bind[api.NewContent](g)
	if !ok {
		return
	}
	x, err := c.store.addContent(g.Request.Context(), in, device.CleanText(in.Name), front.CallerOf(g).Email, c.newFileKey(in.Sha256))
	if err == nil && x.Size != in.Size {
		err = front.Problem(http.StatusConflict, "The store has a file of this digest with another size.",
			fmt.Sprintf("It has %d bytes: read the file's digest anew.", x.Size))
	}
	if !c.done(g, "content.add", fmt.Sprintf("%s, %d bytes, %s", x.Name, x.Size, in.Sha256), err) {
		return
	}
	x.Have = c.contents.have(in.Sha256)
	g.JSON(http.StatusCreated, x)
}

// SendContent takes bytes of a file: PUT /contents/{sha256}.
func (c *Service) SendContent(g *gin.Context, digest string, in api.SendContentParams) {
	front.Serve(g, func() error {
		ctx := g.Request.Context()
		x, err := c.store.content(ctx, digest)
		if db.Missing(err) {
			err = front.NotFound("file of this digest that was begun")
		}
		if err != nil {
			return err
		}
		release, ok := c.contents.claim(digest)
		if !ok {
			return front.Problem(http.StatusConflict, "Somebody sends this file already.", "Wait until they are done.")
		}
		defer release()
		whole := x.Whole
		if !whole {
			var quick string
			var key []byte
			if key, err = c.fileKey(ctx, digest); err == nil {
				quick, whole, err = c.contents.take(digest, key, x.Size, in.Offset, g.Request.Body)
			}
			switch {
			case err == nil && whole:
				err = c.store.wholeContent(ctx, digest, quick)
			case errors.Is(err, errDigest), errors.Is(err, errLarge):
				// Other bytes are never encrypted under the same key.
				err = errors.Join(err, c.store.setContentKey(ctx, digest, c.newFileKey(digest)))
			}
		}
		x.Have = c.contents.have(digest)
		switch {
		case errors.Is(err, errOffset):
			err = front.Problem(http.StatusConflict, "The store stands elsewhere.",
				fmt.Sprintf("It has %d bytes: go on from there.", x.Have))
		case errors.Is(err, errDigest):
			err = front.Problem(http.StatusUnprocessableEntity, "The file that came has another digest.",
				"It was dropped: it changed while it was read, or was damaged on the way. Send it again.")
		case errors.Is(err, errLarge):
			err = front.Problem(http.StatusUnprocessableEntity, "The file is longer than was said.",
				"It was dropped. Begin anew with its size and digest.")
		}
		if err != nil {
			return err
		}
		x.Whole = whole
		g.JSON(http.StatusOK, x)
		return nil
	})
}

// RemoveContent removes a file that no package brings: DELETE /contents/{sha256}.
func (c *Service) RemoveContent(g *gin.Context, digest string) {
	name, users, err := c.store.removeContent(g.Request.Context(), digest)
	switch {
	case db.Missing(err):
		err = front.NotFound("file of this digest")
	case err == nil && len(users) > 0:
		err = front.Problem(http.StatusConflict, "The file is brought by "+strings.Join(users, ", ")+".", "Change or remove that first.")
	case err == nil:
		c.contents.remove(digest)
	}
	if c.done(g, "content.remove", name+", "+digest, err) {
		g.Status(http.StatusNoContent)
	}
}

// serveContent sends a device a file that a run brings of which it was told: GET /contents/{digest}.
func (c *Service) serveContent(w http.ResponseWriter, r *http.Request) {
	digest := strings.TrimPrefix(r.URL.Path, link.Contents)
	offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
	if !pack.Digest(digest) || err != nil || offset < 0 {
		http.Error(w, "a file is named by its digest and an offset", http.StatusBadRequest)
		return
	}
	id := hub.Device(r)
	if !c.brings(id, digest) {
		http.Error(w, "no run that this device was told of brings this file", http.StatusForbidden)
		return
	}
	f, bytes, quick, err := c.openContent(r.Context(), digest, offset)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		http.Error(w, "the file is not in the store any more", http.StatusNotFound)
		return
	case errors.Is(err, secret.ErrKey): // it never will be
		http.Error(w, "the file cannot be read with the service's keys: send it to the store again", http.StatusNotFound)
		return
	case err != nil:
		http.Error(w, "the store cannot be read", http.StatusServiceUnavailable)
		return
	}
	defer f.Close()
	if quick != "" {
		w.Header().Set(link.QuickDigest, quick)
	}
	stream, err := uplink.AcceptBulk(w, r)
	if err != nil {
		return
	}
	// The device compares the digest of the whole file by itself, not that of what is sent now.
	if _, err := uplink.SendBulk(r.Context(), stream, c.hub.Gate(id), bytes, func() []byte { return nil }); err != nil {
		slog.Debug("a file of a package was not sent to its end", "device", id, "error", err)
	}
}

// openContent opens a file of the store for reading from an offset on. Quick is its quick digest, "" where it has none.
// The caller closes f.
func (c *Service) openContent(ctx context.Context, digest string, offset int64) (f *os.File, bytes io.Reader, quick string, err error) {
	if quick, err = c.store.quickDigest(ctx, digest); err != nil {
		return nil, nil, "", err
	}
	key, err := c.fileKey(ctx, digest)
	if err != nil {
		return nil, nil, "", err
	}
	if f, err = os.Open(c.contents.path(digest)); err != nil {
		return nil, nil, "", err
	}
	if _, err = f.Seek(offset, io.SeekStart); err == nil {
		bytes, err = plain(f, key, offset)
	}
	if err != nil {
		return nil, nil, "", errors.Join(err, f.Close())
	}
	return f, bytes, quick, nil
}

// brings tells whether a run of a device, of which it was told, brings a file.
func (c *Service) brings(id uuid.UUID, digest string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, r := range c.schedule.At(id) {
		if o := c.open[r.Job.ID]; o != nil && !r.SentAt.IsZero() && slices.Contains(o.files, digest) {
			return true
		}
	}
	return false
}

// tidyContents removes what no package brings, and what was never whole.
func (c *Service) tidyContents(ctx context.Context) error {
	gone, err := c.store.unusedContents(ctx, time.Now().Add(-unusedKept), time.Now().Add(-partsKept))
	for _, digest := range gone {
		c.contents.remove(digest)
	}
	return err
}
