package steps

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/versions"
	"moorwatch.example/core/work"
)

// holds looks whether a condition holds on this device now.
func (r *doing) holds(ctx context.Context, c work.Condition) (bool, error) {
	holds, err := r.is(ctx, c)
	return holds != c.Not, err
}

func (r *doing) is(ctx context.Context, c work.Condition) (bool, error) {
	switch c.Kind {
	case work.OfFile:
		real, err := r.real(c.Of)
		if err != nil {
			return false, err
		}
		_, err = os.Stat(real)
		if errors.Is(err, fs.ErrNotExist) {
			return false, nil
		}
		return err == nil, err
	case work.OfSoftware:
		if r.Host.Software == nil {
			return false, errors.New("this device offers no package manager")
		}
		version, err := r.Host.Software.Version(ctx, c.Of)
		return version != "" && (c.Is == "" || versions.Debian(version, c.Is) >= 0), err
	case work.OfService:
		if r.Host.Services == nil {
			return false, errors.New("this device offers no services")
		}
		s, err := r.Host.Services.Service(ctx, link.Service{Name: c.Of})
		var problem *link.Problem
		if errors.As(err, &problem) && problem.Status == 404 {
			return false, nil
		}
		want := c.Is
		if want == "" {
			want = "running"
		}
		return s.State == want, err
	case work.OfSetting:
		v, there, err := readSetting(ctx, r.Host, c.Of)
		return there && (c.Is == "" || v.Value == c.Is), err
	case work.OfSystem:
		f, err := r.Host.Informer.Facts(ctx)
		return f.OS == c.Is, err
	case work.OfSpace:
		real, err := r.real(c.Of)
		if err != nil {
			return false, err
		}
		for { // of the nearest folder that is there
			if _, err := os.Stat(real); err == nil || filepath.Dir(real) == real {
				break
			}
			real = filepath.Dir(real)
		}
		free, err := r.Host.Disk.Free(real)
		want, _ := strconv.ParseInt(c.Is, 10, 64)
		return free>>20 >= want, err
	case work.OfSignedIn:
		if r.Host.People == nil {
			return false, errors.New("this device does not tell who is signed in")
		}
		list, err := r.Host.People.People(ctx)
		return len(list.Items) > 0, err
	case work.OfRestart:
		if r.Host.Updates == nil {
			return false, errors.New("this device does not tell whether it asks to be restarted")
		}
		return r.Host.Updates.Restart(ctx)
	}
	return false, fmt.Errorf("this agent knows no condition %q: a newer one may", c.Kind)
}

// maxVersioned is how much of a file is read for its version, in bytes.
const maxVersioned = 256 << 10

// there tells whether a package is there, and in which version, where that can be told.
func (r *doing) there(ctx context.Context, t pack.There) (there bool, version string, err error) {
	// Whether the version is new enough is asked of the part, not of the condition.
	there, err = r.is(ctx, t.Condition)
	if err != nil || !there {
		return false, "", err
	}
	switch t.Kind {
	case work.OfSoftware:
		version, err = r.Host.Software.Version(ctx, t.Of)
	case work.OfSetting:
		v, _, failed := readSetting(ctx, r.Host, t.Of)
		version, err = v.Value, failed
	case work.OfFile:
		if t.Pattern == "" {
			break
		}
		real, failed := r.real(t.Of)
		if failed != nil {
			return false, "", failed
		}
		version, err = versionIn(real, t.Pattern)
		there = version != ""
	}
	return there, version, err
}

func versionIn(real, pattern string) (string, error) {
	find, err := regexp.Compile(pattern)
	if err != nil {
		return "", err
	}
	f, err := os.Open(real)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text := make([]byte, maxVersioned)
	n, _ := f.Read(text)
	if m := find.FindSubmatch(text[:n]); len(m) > 1 {
		return string(m[1]), nil
	}
	return "", nil
}
