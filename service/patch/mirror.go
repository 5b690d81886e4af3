package patch

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// feedName is what a feed may be called, as the contract says.
var feedName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._ -]{0,59}$`)

// mirrorEvery is how often it is looked whether a mirror changed.
const mirrorEvery = 5 * time.Minute

// keepMirror imports what changes in the folder that mirrors feeds of advisories, until ctx ends.
func (c *Service) keepMirror(ctx context.Context) {
	tick := time.NewTicker(mirrorEvery)
	defer tick.Stop()
	for {
		if err := c.Mirror(ctx, c.mirror); err != nil && ctx.Err() == nil {
			slog.Warn("feeds of advisories cannot be imported from the mirror; trying again in five minutes", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Mirror imports what changed in a folder that mirrors feeds of advisories: each file in it, and each folder with all
// that is below it, is a feed of that name, whole. What goes from the folder stays until somebody forgets the feed.
func (c *Service) Mirror(ctx context.Context, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("the mirror of advisories cannot be read: %w", err)
	}
	var bad []error
	for _, e := range entries {
		name := strings.TrimSuffix(strings.TrimSuffix(e.Name(), ".gz"), filepath.Ext(strings.TrimSuffix(e.Name(), ".gz")))
		if e.IsDir() {
			name = e.Name()
		}
		if strings.HasPrefix(e.Name(), ".") || !feedName.MatchString(name) {
			continue
		}
		path := filepath.Join(dir, e.Name())
		stamp, err := stampOf(path)
		if err != nil {
			bad = append(bad, err)
			continue
		}
		if known, err := c.store.mirrored(ctx, name); err != nil || known == stamp {
			bad = append(bad, err)
			continue
		}
		if err := c.mirrorOne(ctx, name, path); err != nil {
			slog.Warn("a mirrored feed cannot be imported; trying again when it changes", "feed", name, "error", err)
		}
		bad = append(bad, c.store.setMirrored(ctx, name, stamp)) // what cannot be read is not read again and again
	}
	return errors.Join(bad...)
}

func (c *Service) mirrorOne(ctx context.Context, name, path string) error {
	body, err := open(path)
	if err != nil {
		return err
	}
	defer body.Close()
	f, err := c.Import(ctx, name, "mirror", true, body)
	if err == nil {
		slog.Info("a mirrored feed was imported", "feed", name, "advisories", f.Advisories, "exploited", f.Exploited, "refused", f.Refused)
	}
	return err
}

// open reads a file, or all files of a folder as a zip that is made meanwhile.
func open(path string) (io.ReadCloser, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return os.Open(path)
	}
	out, in := io.Pipe()
	go func() {
		z := zip.NewWriter(in)
		err := z.AddFS(os.DirFS(path))
		in.CloseWithError(errors.Join(err, z.Close()))
	}()
	return out, nil
}

// stampOf changes when a file does, or any below a folder.
func stampOf(path string) (string, error) {
	var newest time.Time
	var size, n int64
	err := filepath.WalkDir(path, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if info.Mode().IsRegular() {
			size, n = size+info.Size(), n+1
		}
		if info.ModTime().After(newest) {
			newest = info.ModTime()
		}
		return nil
	})
	return fmt.Sprintf("%d %d %d", newest.UnixNano(), size, n), err
}
