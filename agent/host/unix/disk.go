//go:build unix

package unix

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/place"
)

// Disk implements host.Disk. Names of accounts are looked up once.
type Disk struct{ names sync.Map }

// Real implements host.Disk.
func (*Disk) Real(path string) (string, error) {
	if !filepath.IsAbs(path) {
		return "", fmt.Errorf("%q is no whole path: it begins with /", path)
	}
	return filepath.Clean(path), nil
}

// Shown implements host.Disk.
func (*Disk) Shown(real string) string { return real }

// Windows implements host.Disk.
func (*Disk) Windows() bool { return false }

// Owner implements host.Disk.
func (d *Disk) Owner(_ string, info fs.FileInfo) (owner, group string) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", ""
	}
	return d.name("u", s.Uid), d.name("g", s.Gid)
}

func (d *Disk) name(kind string, id uint32) string {
	key := kind + strconv.Itoa(int(id))
	if v, ok := d.names.Load(key); ok {
		return v.(string)
	}
	name := strconv.Itoa(int(id))
	if kind == "u" {
		if u, err := user.LookupId(name); err == nil {
			name = u.Username
		}
	} else if g, err := user.LookupGroupId(name); err == nil {
		name = g.Name
	}
	d.names.Store(key, name)
	return name
}

// Like implements host.Disk: bits are all that is kept of one.
func (*Disk) Like(*place.Dir, string, *place.Dir, string) error { return nil }

// Access implements host.Disk: an entry's bits say it.
func (*Disk) Access(string) []string { return nil }

// Seclude implements host.Disk. A name that begins with a dot is not shown.
func (*Disk) Seclude(in *place.Dir, name string) error {
	d, err := in.Sub(name)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Foreign(); err != nil {
		return err
	}
	return in.Chmod(name, 0o700)
}

// Let implements host.Disk.
func (*Disk) Let(*place.Dir, string, string, string) error {
	return host.ErrNoLists
}

// SetOwner implements host.Disk. Accounts are given by name or number.
func (*Disk) SetOwner(in *place.Dir, name, owner, group string) error {
	uid, gid := -1, -1
	var err error
	if owner != "" {
		if uid, err = strconv.Atoi(owner); err != nil {
			u, err := user.Lookup(owner)
			if err != nil {
				return fmt.Errorf("there is no account %q", owner)
			}
			uid, _ = strconv.Atoi(u.Uid)
		}
	}
	if group != "" {
		if gid, err = strconv.Atoi(group); err != nil {
			g, err := user.LookupGroup(group)
			if err != nil {
				return fmt.Errorf("there is no group %q", group)
			}
			gid, _ = strconv.Atoi(g.Gid)
		}
	}
	return in.Chown(name, uid, gid)
}

// Top implements host.Disk: the topmost folder of the same device number (stat(2)).
func (*Disk) Top(folder string) (string, error) {
	number := func(path string) (uint64, error) {
		info, err := os.Stat(path)
		if err != nil {
			return 0, err
		}
		s, ok := info.Sys().(*syscall.Stat_t)
		if !ok {
			return 0, errors.ErrUnsupported
		}
		return uint64(s.Dev), nil
	}
	folder, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return "", err
	}
	here, err := number(folder)
	if err != nil {
		return "", err
	}
	for folder != "/" {
		above, err := number(filepath.Dir(folder))
		if err != nil || above != here {
			break
		}
		folder = filepath.Dir(folder)
	}
	return folder, nil
}

// Free implements host.Disk.
func (*Disk) Free(folder string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(folder, &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}
