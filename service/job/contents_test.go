package job

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"moorwatch.example/core/pack"
	"moorwatch.example/core/secret"
)

// tried is a store of files in a folder, and a file for it.
type tried struct {
	*contents
	t      *testing.T
	random *rand.Rand
	file   []byte
	digest string
	key    []byte
}

func newTried(t *testing.T, size int) *tried {
	t.Helper()
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	k := &tried{contents: &contents{dir: t.TempDir(), sending: map[string]bool{}}, t: t, random: rand.New(rand.NewPCG(seed, 0)),
		file: make([]byte, size), key: secret.NewKey()}
	for i := range k.file {
		k.file[i] = byte("moorwatch"[i%9]) ^ byte(k.random.IntN(2))
	}
	sum := sha256.Sum256(k.file)
	k.digest = hex.EncodeToString(sum[:])
	return k
}

func (k *tried) take(offset int, r io.Reader) (quick string, whole bool, err error) {
	return k.contents.take(k.digest, k.key, int64(len(k.file)), int64(offset), r)
}

// broken reads some bytes, and then fails as a connection does.
type broken struct{ r io.Reader }

func (b broken) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// However often it is cut, a file is whole in the end, encrypted, and can be read from anywhere.
func TestFilesAreTakenThroughCuts(t *testing.T) {
	k := newTried(t, 300_000)
	for {
		at := int(k.have(k.digest))
		next := min(len(k.file), at+1+k.random.IntN(90_000))
		if next < len(k.file) && k.random.IntN(2) == 0 { // it ends early, without an error
			if _, whole, err := k.take(at, bytes.NewReader(k.file[at:next])); err != nil || whole {
				t.Fatalf("a part of it: %v, %v", whole, err)
			}
			continue
		}
		if next < len(k.file) {
			if _, whole, err := k.take(at, broken{bytes.NewReader(k.file[at:next])}); !errors.Is(err, io.ErrUnexpectedEOF) || whole {
				t.Fatalf("cut: %v, %v", whole, err)
			}
			continue
		}
		quick, whole, err := k.take(at, bytes.NewReader(k.file[at:]))
		second := pack.NewQuick()
		second.Write(k.file)
		if err != nil || !whole || quick != second.String() {
			t.Fatalf("the last of it: %v, %v; %q", whole, err, quick)
		}
		break
	}
	raw, err := os.ReadFile(k.path(k.digest))
	if err != nil || len(raw) != len(k.file) || bytes.Contains(raw, k.file[1000:1032]) {
		t.Fatalf("%d bytes are on the disk, in plain text or not: %v", len(raw), err)
	}
	for _, from := range []int{0, 1, 15, 16, 17, 99_999, len(k.file) - 1, len(k.file)} {
		r, err := plain(bytes.NewReader(raw[from:]), k.key, int64(from))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(r); err != nil || !bytes.Equal(got, k.file[from:]) {
			t.Errorf("from %d on it is read as something else: %v", from, err)
		}
	}
	if left, _ := os.ReadDir(k.dir + "/" + k.digest[:2]); len(left) != 1 {
		t.Errorf("beside it stand %v", left)
	}
}

// What is not the file that was announced is never in the store.
func TestOtherFilesAreNotTaken(t *testing.T) {
	other := func(k *tried) []byte { b := slices.Clone(k.file); b[len(b)/2] ^= 1; return b }
	for name, c := range map[string]struct {
		offset int
		send   func(k *tried) []byte
		want   error
		kept   bool // what is there stays, to go on from
	}{
		"a byte is another":   {0, other, errDigest, false},
		"it is longer":        {0, func(k *tried) []byte { return append(slices.Clone(k.file), 'x') }, errLarge, false},
		"from beyond":         {10, func(k *tried) []byte { return k.file }, errOffset, true},
		"from before what is": {0, func(k *tried) []byte { return k.file }, errOffset, true},
	} {
		t.Run(name, func(t *testing.T) {
			k := newTried(t, 10_000)
			if strings.HasPrefix(name, "from before") {
				if _, _, err := k.take(0, bytes.NewReader(k.file[:100])); err != nil {
					t.Fatal(err)
				}
			}
			before := k.have(k.digest)
			if _, whole, err := k.take(c.offset, bytes.NewReader(c.send(k))); !errors.Is(err, c.want) || whole {
				t.Errorf("%v, %v", whole, err)
			}
			if after := k.have(k.digest); c.kept && after != before || !c.kept && after != 0 {
				t.Errorf("%d bytes are there, and %d were", after, before)
			}
			at := int(k.have(k.digest))
			if _, whole, err := k.take(at, bytes.NewReader(k.file[at:])); err != nil || !whole {
				t.Errorf("the file itself, afterwards: %v, %v", whole, err)
			}
			k.remove(k.digest)
			if k.have(k.digest) != 0 {
				t.Error("what was removed is there")
			}
		})
	}
}

// One at a time sends a file, and another file meanwhile.
func TestOneSendsAFile(t *testing.T) {
	k := newTried(t, 1)
	release, ok := k.claim("a")
	if !ok {
		t.Fatal("nobody may send it")
	}
	if _, ok := k.claim("a"); ok {
		t.Error("two send the same file")
	}
	if other, ok := k.claim("b"); !ok {
		t.Error("another file waits for it")
	} else {
		other()
	}
	release()
	if _, ok := k.claim("a"); !ok {
		t.Error("after it was sent nobody may send it")
	}
}
