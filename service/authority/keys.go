package authority

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Keys tells the seeds of the keys for one use, such as recordings, by their versions; the highest is the latest. A
// file keeps them by default, one seed a version for all uses, from which a key for each is derived; what asks a key
// management service implements it too.
type Keys interface {
	Seeds(use string) (map[uint32][]byte, error)
}

// KeyFile keeps seeds in a file that its owner alone reads.
type KeyFile struct{ path string }

// kept is a seed with its version, as the file has it.
type keptKey struct {
	Version uint32    `json:"version"`
	Seed    []byte    `json:"seed"`
	Made    time.Time `json:"made"`
}

const (
	seedBytes = 32
	mostKeys  = 1000
)

// OpenKeys opens the file of keys in dir, and makes it with a first key where there is none. It is to be kept as long
// as the database is.
func OpenKeys(dir string, now time.Time) (KeyFile, error) {
	f := KeyFile{filepath.Join(dir, "secret-keys.json")}
	if _, err := os.Stat(f.path); !errors.Is(err, fs.ErrNotExist) {
		return f, err
	}
	_, err := f.Rotate(now)
	return f, err
}

func (f KeyFile) read() (all []keptKey, err error) {
	text, err := os.ReadFile(f.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: put back the one that was there: %w", f.path, err)
	}
	return all, nil
}

// Seeds implements Keys.
func (f KeyFile) Seeds(string) (map[uint32][]byte, error) {
	all, err := f.read()
	seeds := map[uint32][]byte{}
	for _, k := range all {
		seeds[k.Version] = k.Seed
	}
	if err == nil && len(seeds) == 0 {
		err = fmt.Errorf("%s holds no key: put back the one that was there", f.path)
	}
	return seeds, err
}

// Rotate adds a key, under which secrets are sealed from then on, and returns its version. A running service takes it
// within a minute, and seals anew what is sealed under those before.
func (f KeyFile) Rotate(now time.Time) (version uint32, err error) {
	all, err := f.read()
	if err != nil {
		return 0, err
	}
	if len(all) >= mostKeys {
		return 0, fmt.Errorf("%s holds %d keys: retire those that seal nothing any more", f.path, len(all))
	}
	for _, k := range all {
		version = max(version, k.Version)
	}
	version++
	seed := make([]byte, seedBytes)
	rand.Read(seed)
	return version, f.write(append(all, keptKey{version, seed, now.UTC().Truncate(time.Second)}))
}

// Retire forgets all keys but the latest. What is still sealed under them cannot be read any more.
func (f KeyFile) Retire() (gone int, err error) {
	all, err := f.read()
	if err != nil || len(all) < 2 {
		return 0, err
	}
	latest := all[0]
	for _, k := range all {
		if k.Version > latest.Version {
			latest = k
		}
	}
	return len(all) - 1, f.write([]keptKey{latest})
}

// write puts the file in place whole.
func (f KeyFile) write(all []keptKey) error {
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(f.path), 0o700); err != nil {
		return err
	}
	part, err := os.OpenFile(f.path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = part.Write(append(text, '\n'))
	if err = errors.Join(err, part.Sync(), part.Close()); err != nil {
		return err
	}
	return os.Rename(part.Name(), f.path)
}
