package patch

import (
	"archive/zip"
	"bufio"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path"
	"slices"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/advisory"
	"moorwatch.example/core/device"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// ListAdvisories lists what is known of the fleet's software: GET /advisories.
func (c *Service) ListAdvisories(g *gin.Context, in api.ListAdvisoriesParams) {
	view, err := c.fleet.View(g.Request.Context(), front.CallerOf(g), see)
	if err != nil {
		front.Fail(g, err)
		return
	}
	front.List(g, in.Cursor, in.Limit, ranked{}, func(ctx context.Context, after ranked, limit int) ([]api.Advisory, error) {
		return c.store.advisories(ctx, view, in, after, limit)
	}, func(a api.Advisory) ranked {
		return ranked{a.Exploited != nil, a.Score, a.Devices, a.ID}
	}, func(items []api.Advisory, next *string) any { return api.AdvisoryPage{Items: items, Next: next} })
}

// GetAdvisory shows one: GET /advisories/{advisory}.
func (c *Service) GetAdvisory(g *gin.Context, name string) {
	front.Read(g, func(ctx context.Context) (out api.AdvisoryDetail, err error) {
		a, told, view, err := c.advisory(g, name)
		if err != nil {
			return out, err
		}
		out = api.AdvisoryDetail{Advisory: a, Details: told.Details, Vector: told.Vector, Links: append([]string{}, told.Links...)}
		if !told.Modified.IsZero() {
			out.Modified = &told.Modified
		}
		out.Software, err = c.store.weakSoftware(ctx, view, a.ID)
		return out, err
	})
}

// advisory is an advisory as the caller sees it, all that is told of it, and the devices that they see.
func (c *Service) advisory(g *gin.Context, name string) (a api.Advisory, told advisory.Advisory, view []uuid.UUID, err error) {
	ctx := g.Request.Context()
	if view, err = c.fleet.View(ctx, front.CallerOf(g), see); err != nil {
		return a, told, view, err
	}
	if a, told, err = c.store.advisory(ctx, view, name); db.Missing(err) {
		err = front.NotFound("advisory")
	}
	return a, told, view, err
}

// ListAdvisoryDevices lists whom one is about: GET /advisories/{advisory}/devices.
func (c *Service) ListAdvisoryDevices(g *gin.Context, name string, in api.ListAdvisoryDevicesParams) {
	a, _, view, err := c.advisory(g, name)
	if err != nil {
		front.Fail(g, err)
		return
	}
	front.List(g, in.Cursor, in.Limit, named{}, func(ctx context.Context, after named, limit int) ([]api.WeakDevice, error) {
		return c.store.weakDevices(ctx, view, a.ID, after, limit)
	}, func(x api.WeakDevice) named { return named{x.Device, x.DeviceID.String()} },
		func(items []api.WeakDevice, next *string) any { return api.WeakDevicePage{Items: items, Next: next} })
}

// ListFeeds lists the feeds: GET /advisory-feeds.
func (c *Service) ListFeeds(g *gin.Context, in api.ListFeedsParams) {
	front.List(g, in.Cursor, in.Limit, "", c.store.feeds, func(f api.Feed) string { return f.Name },
		func(items []api.Feed, next *string) any { return api.FeedPage{Items: items, Next: next} })
}

// RemoveFeed forgets a feed: DELETE /advisory-feeds/{feed}.
func (c *Service) RemoveFeed(g *gin.Context, name string) {
	if c.done(g, "feed.remove", name, c.store.removeFeed(g.Request.Context(), name)) {
		c.compareSoon()
		g.Status(http.StatusNoContent)
	}
}

// Bounds of an import.
const (
	importWithin  = 30 * time.Minute
	mostImported  = 4 << 30 // bytes of a file, and of what it unpacks to
	mostFiles     = 1_000_000
	mostRefusals  = 10 // that are told in words
	longestReason = 300
)

// ImportFeed imports a file into a feed: PUT /advisory-feeds/{feed}.
func (c *Service) ImportFeed(g *gin.Context, name string, in api.ImportFeedParams) {
	f, err := c.Import(g.Request.Context(), name, front.CallerOf(g).Email, in.Whole != nil && *in.Whole, g.Request.Body)
	if c.done(g, "feed.import", fmt.Sprintf("%s: %d advisories, %d exploited, %d refused", name, f.Advisories, f.Exploited, f.Refused),
		err) {
		g.JSON(http.StatusOK, f)
	}
}

// Import imports a file into a feed, within half an hour; whole tells that it is all of the feed.
func (c *Service) Import(ctx context.Context, feed, by string, whole bool, file io.Reader) (api.Feed, error) {
	ctx, cancel := context.WithTimeout(ctx, importWithin)
	defer cancel()
	err := c.store.importFeed(ctx, feed, by, whole, func(m *importing, r *refusal) error {
		return unpack(file, func(name string, part io.Reader) error {
			err := advisory.Read(part, advisory.Sink{Advisory: func(a advisory.Advisory) error { return kept(m.add(a)) },
				Exploited: func(e advisory.Exploited) error { return kept(m.addExploited(e)) },
				Refused: func(n int, why error) {
					if r.count++; len(r.first) < mostRefusals {
						r.first = append(r.first, device.CleanLong(fmt.Sprintf("%sdocument %d: %v", name, n, why), longestReason))
					}
				}})
			var storing *storeError
			if err == nil || errors.As(err, &storing) || ctx.Err() != nil {
				return err
			}
			return front.Problem(http.StatusBadRequest, "The file cannot be imported; the feed is as it was.",
				device.CleanLong(fmt.Sprintf("%s%v.", name, err), longestReason))
		})
	})
	if err != nil {
		return api.Feed{}, err
	}
	c.compareSoon()
	return c.store.feed(ctx, feed)
}

// storeError is one of the database, and not of the file.
type storeError struct{ error }

func (e *storeError) Unwrap() error { return e.error }

func kept(err error) error {
	if err != nil {
		return &storeError{err}
	}
	return nil
}

// unpack hands over a file, or the files of a zip, by name. A file that was made smaller with gzip is read too.
func unpack(file io.Reader, each func(name string, part io.Reader) error) error {
	in := bufio.NewReader(&atMost{file, mostImported})
	magic, _ := in.Peek(4)
	switch {
	case string(magic) == "PK\x03\x04":
		return unzip(in, each)
	case len(magic) > 1 && magic[0] == 0x1f && magic[1] == 0x8b:
		z, err := gzip.NewReader(in)
		if err != nil {
			return front.Problem(http.StatusBadRequest, "The file cannot be unpacked.", err.Error()+".")
		}
		return each("", &atMost{z, mostImported})
	}
	return each("", in)
}

// unzip reads a zip from a file aside, as its list of contents stands at its end.
func unzip(in io.Reader, each func(name string, part io.Reader) error) error {
	aside, err := os.CreateTemp("", "moorwatch-feed-*")
	if err != nil {
		return err
	}
	defer os.Remove(aside.Name())
	defer aside.Close()
	size, err := io.Copy(aside, in)
	if err != nil {
		return err
	}
	z, err := zip.NewReader(aside, size)
	if err != nil || len(z.File) > mostFiles {
		return front.Problem(http.StatusBadRequest, "The file cannot be unpacked.",
			fmt.Sprintf("It is no whole zip, or one of more than %d files.", mostFiles))
	}
	left := int64(mostImported)
	for _, f := range z.File {
		if kind := path.Ext(f.Name); kind != ".json" && kind != ".jsonl" && kind != ".csv" || f.FileInfo().IsDir() {
			continue
		}
		part, err := f.Open()
		if err == nil {
			counted := &atMost{part, left}
			err = each(device.CleanLong(f.Name, longestReason/3)+", ", counted)
			left = counted.left
			part.Close()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// atMost fails where more is read than may be.
type atMost struct {
	r    io.Reader
	left int64
}

func (l *atMost) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	if l.left -= int64(n); l.left < 0 {
		return 0, fmt.Errorf("it is longer than %d GiB", mostImported>>30)
	}
	return n, err
}

// compareSoon has what is new compared with advisories: software and updates; and devices be weighed.
func (c *Service) compareSoon(devices ...uuid.UUID) {
	c.changed.add(devices...)
	select {
	case c.compares <- struct{}{}:
	default:
	}
}

// Times of comparing.
const (
	compareEvery = time.Minute            // it is looked whether another node left something
	compareAfter = 300 * time.Millisecond // a change, for others that come with it
)

// keepCompared compares software with advisories as either changes, until ctx ends.
func (c *Service) keepCompared(ctx context.Context) {
	tick := time.NewTicker(compareEvery)
	defer tick.Stop()
	weighed := 0 // the import by which all devices were weighed
	for {
		devices := c.changed.take()
		next, err := c.compare(ctx, weighed, devices)
		if weighed = next; err != nil && ctx.Err() == nil {
			slog.Warn("software cannot be compared with advisories; trying again in a minute", "error", err)
			c.changed.add(devices...)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			continue
		case <-c.compares:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(compareAfter):
		}
	}
}

// mostWeighed is of how many devices weights are worked out one by one; of more, those of all are.
const mostWeighed = 500

// keepCompared compares what was not compared yet, and weighs devices: all after an import, else those that changed.
func (c *Service) compare(ctx context.Context, weighed int, devices []uuid.UUID) (import_ int, err error) {
	for n := 1; n > 0; {
		if n, import_, err = c.store.compare(ctx, match); err != nil {
			return weighed, err
		}
	}
	if err := c.lack(ctx); err != nil {
		return weighed, err
	}
	if err := c.store.mends(ctx, mended); err != nil {
		return weighed, err
	}
	switch {
	case import_ != weighed || len(devices) > mostWeighed:
		devices = nil
	case len(devices) == 0:
		return import_, nil
	}
	if err := c.store.weigh(ctx, devices); err != nil {
		return weighed, err
	}
	if import_ != weighed {
		c.fleet.Publish("advisories", map[string]any{})
	}
	return import_, nil
}

// match finds the weaknesses of pieces of software.
func match(all []piece, packages func(keys []string) (*advisory.Index, []int32, error)) (map[int32][]advisory.Hit, []int32, error) {
	parsed, keys := map[int32]advisory.Package{}, []string{}
	for _, p := range all {
		if one, ok := advisory.Parse(p.purl, p.builtFrom, p.builtOfVersion); ok {
			parsed[p.id] = one
			keys = append(keys, one.Keys()...)
		}
	}
	slices.Sort(keys)
	x, nums, err := packages(slices.Compact(keys))
	found := map[int32][]advisory.Hit{}
	if err == nil {
		for id, p := range parsed {
			if hits := x.Match(p); len(hits) > 0 {
				found[id] = hits
			}
		}
	}
	return found, nums, err
}

// mended tells whether an update of a package mends what is mended in a version.
func mended(purl, to, fixed string) bool {
	p, ok := advisory.Parse(purl, "", "")
	return ok && advisory.Mends(p.Type, to, fixed)
}
