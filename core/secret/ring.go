package secret

import (
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
)

// Ring seals under the latest of several keys, and opens what was sealed under any of them: a key is changed while
// what it sealed is still read. It may be used by many goroutines at once.
type Ring struct {
	use    string
	mu     sync.RWMutex
	latest uint32
	boxes  map[uint32]*Box
}

// versionBytes is how long the number of the key is that stands before what it sealed.
const versionBytes = 4

// NewRing makes a ring of keys for one use, that are derived from seeds by their versions, which rise from 1.
func NewRing(use string, seeds map[uint32][]byte) (*Ring, error) {
	r := &Ring{use: use, boxes: map[uint32]*Box{}}
	return r, r.Set(seeds)
}

// Set gives the ring other keys. Those that it seals under and opens with from then on are these alone.
func (r *Ring) Set(seeds map[uint32][]byte) error {
	boxes, latest := map[uint32]*Box{}, uint32(0)
	for version, seed := range seeds {
		box, err := New(seed, r.use)
		if err != nil {
			return fmt.Errorf("key %d: %w", version, err)
		}
		boxes[version], latest = box, max(latest, version)
	}
	if latest == 0 {
		return errors.New("there is no key")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.boxes, r.latest = boxes, latest
	return nil
}

// Seal returns a secret as it may be kept; purpose says what it is for, and is no secret. An empty secret is kept as
// nil.
func (r *Ring) Seal(text, purpose string) []byte {
	if text == "" {
		return nil
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return append(binary.BigEndian.AppendUint32(nil, r.latest), r.boxes[r.latest].Seal(text, purpose)...)
}

// Open returns what was sealed for a purpose.
func (r *Ring) Open(sealed []byte, purpose string) (string, error) {
	if len(sealed) == 0 {
		return "", nil
	}
	if len(sealed) <= versionBytes {
		return "", ErrKey
	}
	r.mu.RLock()
	box := r.boxes[binary.BigEndian.Uint32(sealed)]
	r.mu.RUnlock()
	if box == nil {
		return "", ErrKey
	}
	return box.Open(sealed[versionBytes:], purpose)
}

// Again seals anew what was sealed under an older key than the latest; changed is false where that is not so.
func (r *Ring) Again(sealed []byte, purpose string) (fresh []byte, changed bool, err error) {
	r.mu.RLock()
	latest := r.latest
	r.mu.RUnlock()
	if len(sealed) < versionBytes || binary.BigEndian.Uint32(sealed) == latest {
		return sealed, false, nil
	}
	text, err := r.Open(sealed, purpose)
	if err != nil {
		return nil, false, err
	}
	return r.Seal(text, purpose), true, nil
}

// Version is the number of the key that secrets are sealed under now.
func (r *Ring) Version() uint32 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.latest
}
