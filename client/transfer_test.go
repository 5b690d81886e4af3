package client

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/transfer"
)

// farDevice is a device behind a service, as far as files are sent to it and fetched from it. Its network cuts
// connections.
type farDevice struct {
	t      *testing.T
	random *rand.Rand

	mu     sync.Mutex
	cuts   int // that are still to come
	order  link.UploadOrder
	upload string
	got    []byte // of the upload
	ended  int    // how often its end was asked for
	file   []byte // that can be fetched
	tag    string
	asked  []string         // methods and last parts of paths, in order
	before func(*farDevice) // is called at each request
	refuse map[string]int   // a status by a request as in asked
	spoil  bool             // the digest of what is fetched is wrong
}

// cutNow tells whether this connection is one of those that are cut.
func (d *farDevice) cutNow() bool {
	if d.cuts == 0 || d.cuts > 1 && d.random.IntN(3) == 0 {
		return false
	}
	d.cuts--
	return true
}

func (d *farDevice) problem(w http.ResponseWriter, status int, title string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"title": title, "status": status})
}

func (d *farDevice) answer(w http.ResponseWriter, status int, v any) {
	if d.cutNow() {
		panic(http.ErrAbortHandler) // it is done, and nobody hears of it
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func (d *farDevice) told() link.Upload {
	return link.Upload{ID: d.upload, Path: d.order.Path, Size: d.order.Size, Offset: int64(len(d.got))}
}

func (d *farDevice) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	what := r.Method + " " + r.URL.Path[strings.LastIndex(r.URL.Path, "/")+1:]
	d.asked = append(d.asked, what)
	if d.before != nil {
		d.before(d)
	}
	if status := d.refuse[what]; status != 0 {
		d.problem(w, status, "Not this.")
		return
	}
	switch what {
	case "POST uploads":
		if err := json.NewDecoder(r.Body).Decode(&d.order); err != nil {
			d.t.Error(err)
		}
		d.upload = uuid.NewString()
		d.got = nil
		d.answer(w, http.StatusCreated, d.told())
	case "GET " + d.upload:
		d.answer(w, http.StatusOK, d.told())
	case "DELETE " + d.upload:
		d.upload = ""
		w.WriteHeader(http.StatusNoContent)
	case "PUT content":
		at, err := strconv.Atoi(r.URL.Query().Get("offset"))
		if err != nil || at != len(d.got) {
			d.problem(w, http.StatusConflict, fmt.Sprintf("The device has %d bytes, not %d.", len(d.got), at))
			return
		}
		body := io.Reader(r.Body)
		cut := d.cutNow()
		if cut {
			body = io.LimitReader(body, d.random.Int64N(d.order.Size))
		}
		piece, _ := io.ReadAll(body)
		d.got = append(d.got, piece...)
		if cut {
			panic(http.ErrAbortHandler)
		}
		d.answer(w, http.StatusOK, d.told())
	case "POST end":
		var end link.UploadEnd
		json.NewDecoder(r.Body).Decode(&end)
		sum := sha256.Sum256(d.got)
		if end.SHA256 != hex.EncodeToString(sum[:]) {
			d.problem(w, http.StatusUnprocessableEntity, "What came is not what was sent.")
			return
		}
		d.ended++
		d.answer(w, http.StatusOK, link.FileEntry{Path: d.order.Path, Size: d.order.Size})
	case "GET content":
		d.sendFile(w, r)
	default:
		d.t.Errorf("asked for %s", what)
		w.WriteHeader(http.StatusNotFound)
	}
}

// sendFile answers as RFC 9110 asks of ranges, 13.1.5 and 14.2.
func (d *farDevice) sendFile(w http.ResponseWriter, r *http.Request) {
	from, status := 0, http.StatusOK
	if field := r.Header.Get("Range"); field != "" && r.Header.Get("If-Range") == d.tag {
		from, _ = strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(field, "bytes="), "-"))
		status = http.StatusPartialContent
		if from > len(d.file) {
			d.problem(w, http.StatusRequestedRangeNotSatisfiable, "The file is shorter.")
			return
		}
	}
	rest := d.file[from:]
	w.Header().Set("ETag", d.tag)
	w.Header().Set(link.SizeHeader, strconv.Itoa(len(rest)))
	w.Header().Set("Trailer", transfer.DigestHeader)
	w.WriteHeader(status)
	if len(rest) > 0 && d.cutNow() {
		w.Write(rest[:d.random.IntN(len(rest))])
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	}
	w.Write(rest)
	sum := sha256.Sum256(rest)
	if d.spoil {
		d.spoil = false
		sum[0] ^= 1
	}
	w.Header().Set(transfer.DigestHeader, transfer.ContentDigest(sum[:]))
}

func farAway(t *testing.T) (*farDevice, *Client) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	d := &farDevice{t: t, random: rand.New(rand.NewPCG(seed, 0)), tag: `"1"`, refuse: map[string]int{}}
	return d, serving(t, d.ServeHTTP)
}

// fileOf makes a file here and opens it.
func fileOf(t *testing.T, content []byte) *os.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "here")
	if err := os.WriteFile(path, content, 0o640); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

func bytesOf(d *farDevice, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(d.random.Uint32())
	}
	return b
}

// Whatever is cut, the bytes on their way there or the answers on their way back, the file arrives as it was.
func TestPutThroughCuts(t *testing.T) {
	for _, size := range []int{0, 1, 300_000} {
		t.Run(strconv.Itoa(size), func(t *testing.T) {
			t.Parallel()
			d, c := farAway(t)
			d.cuts = 4
			content := bytesOf(d, size)
			if size == 0 {
				d.cuts = 0
			}
			var last, whole int64
			e, err := c.Put(t.Context(), uuid.New(), fileOf(t, content), "/there/b", PutOptions{Folders: true,
				Progress: func(done, of int64) { last, whole = done, of }})
			if err != nil || e.Path != "/there/b" || !bytes.Equal(d.got, content) || d.ended == 0 {
				t.Fatalf("%v, %v; %d of %d bytes, ended %d times; asked %q", e, err, len(d.got), size, d.ended, d.asked)
			}
			if last != int64(size) || size > 0 && whole != int64(size) {
				t.Errorf("told of %d of %d bytes", last, whole)
			}
			if d.order.Bits != "0640" || !d.order.Folders || d.order.Replace || d.order.Modified.IsZero() {
				t.Errorf("asked for %+v", d.order)
			}
		})
	}
}

// What a device lost, by a power cut, is sent again.
func TestPutFromWhereTheDeviceStands(t *testing.T) {
	d, c := farAway(t)
	content := bytesOf(d, 100_000)
	d.upload, d.order.Size = uuid.NewString(), int64(len(content))
	d.got = slices.Clone(content[:60_000])
	lost := false
	d.before = func(d *farDevice) {
		if last := d.asked[len(d.asked)-1]; last == "PUT content" && !lost {
			lost = true
			d.got = d.got[:20_000]
		}
	}
	_, err := c.Put(t.Context(), uuid.New(), fileOf(t, content), "/there", PutOptions{Upload: uuid.MustParse(d.upload)})
	if err == nil || !strings.Contains(err.Error(), "20000 bytes, not 60000") {
		t.Errorf("sent from elsewhere: %v", err)
	}
	if _, err := c.Put(t.Context(), uuid.New(), fileOf(t, content), "/there", PutOptions{Upload: uuid.MustParse(d.upload)}); err != nil ||
		!bytes.Equal(d.got, content) {
		t.Errorf("continued: %v, %d bytes", err, len(d.got))
	}
	if slices.Contains(d.asked, "POST uploads") {
		t.Errorf("began another: %q", d.asked)
	}
}

func TestPutRefused(t *testing.T) {
	d, c := farAway(t)
	content := bytesOf(d, 1000)
	begun := 0
	put := func(f *os.File, o PutOptions) error {
		o.Begun = func(uuid.UUID) { begun++ }
		_, err := c.Put(t.Context(), uuid.New(), f, "/there", o)
		return err
	}
	for _, at := range []string{"POST uploads", "PUT content", "POST end"} {
		d.refuse = map[string]int{at: http.StatusForbidden}
		d.asked = nil
		if err := put(fileOf(t, content), PutOptions{}); err == nil || !strings.Contains(err.Error(), "Not this") {
			t.Errorf("refused at %s: %v", at, err)
		}
		if n := len(d.asked); d.asked[n-1] != at || slices.Index(d.asked, at) != n-1 {
			t.Errorf("what is refused is asked for again: %q", d.asked)
		}
	}
	if begun != 2 {
		t.Errorf("told of %d that were begun", begun)
	}
	d.refuse = nil
	folder, err := os.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer folder.Close()
	if err := put(folder, PutOptions{}); err == nil || !strings.Contains(err.Error(), "is no file") {
		t.Errorf("a folder: %v", err)
	}
	f := fileOf(t, content)
	d.before = func(d *farDevice) { os.WriteFile(f.Name(), append(content, 'x'), 0o640) }
	if err := put(f, PutOptions{}); err == nil || !strings.Contains(err.Error(), "changed while it was sent") {
		t.Errorf("changed: %v", err)
	}
	if d.ended != 0 || d.upload != "" {
		t.Errorf("what changed while it was sent has its name, or stands there yet: ended %d times", d.ended)
	}
}

// A wait for a device that is away ends at once where it is given up.
func TestPutGivenUp(t *testing.T) {
	d, c := farAway(t)
	d.refuse = map[string]int{"POST uploads": http.StatusServiceUnavailable}
	ctx, cancel := context.WithCancel(t.Context())
	d.before = func(d *farDevice) {
		if len(d.asked) == 3 {
			cancel()
		}
	}
	began := time.Now()
	_, err := c.Put(ctx, uuid.New(), fileOf(t, nil), "/there", PutOptions{})
	if !errors.Is(err, context.Canceled) || len(d.asked) != 3 || time.Since(began) > PatienceMost/2 {
		t.Errorf("%v after %d tries and %s", err, len(d.asked), time.Since(began))
	}
}

// get fetches a file and returns what stands here afterwards.
func get(t *testing.T, c *Client, to string, replace bool) (string, error) {
	t.Helper()
	err := c.Get(t.Context(), uuid.New(), "/there", to, replace, nil)
	text, _ := os.ReadFile(to)
	return string(text), err
}

func TestGetThroughCuts(t *testing.T) {
	for _, size := range []int{0, 1, 300_000} {
		t.Run(strconv.Itoa(size), func(t *testing.T) {
			t.Parallel()
			d, c := farAway(t)
			d.cuts, d.file = 3, bytesOf(d, size)
			d.spoil = true // once, what comes is not what was sent
			to := filepath.Join(t.TempDir(), "here")
			if got, err := get(t, c, to, false); err != nil || got != string(d.file) {
				t.Fatalf("%v, %d of %d bytes", err, len(got), size)
			}
			left, _ := filepath.Glob(to + "?*")
			if len(left) != 0 {
				t.Errorf("left %q", left)
			}
		})
	}
}

// A file that changes at the device between two pieces is never put together of both.
func TestGetChangedBetweenPieces(t *testing.T) {
	d, c := farAway(t)
	old, now := bytesOf(d, 200_000), bytesOf(d, 150_000)
	d.file, d.cuts = old, 1
	d.before = func(d *farDevice) {
		if d.cuts == 0 {
			d.file, d.tag = now, `"2"`
		}
	}
	if got, err := get(t, c, filepath.Join(t.TempDir(), "here"), false); err != nil || got != string(now) {
		t.Errorf("%v; the old one %v, %d bytes", err, got == string(old), len(got))
	}
}

// A part of an earlier call is continued where the file is the same, and begun anew where it is not, or where the part
// is longer than the file.
func TestGetGoesOnWithAPart(t *testing.T) {
	d, c := farAway(t)
	d.file = []byte("all that stands in the file")
	for _, k := range []struct {
		name, part, tag string
		asked           int
	}{
		{"the same file", "all that", `"1"`, 1},
		{"another file", "nothing", `"0"`, 1},
		{"a part without a note", "nothing", "", 1},
		{"all of it", string(d.file), `"1"`, 1},
	} {
		to := filepath.Join(t.TempDir(), "here")
		d.asked = nil
		if err := errors.Join(os.WriteFile(to+".part", []byte(k.part), 0o600),
			os.WriteFile(to+".part.tag", []byte(k.tag), 0o600)); err != nil {
			t.Fatal(err)
		}
		if got, err := get(t, c, to, false); err != nil || got != string(d.file) || len(d.asked) != k.asked {
			t.Errorf("%s: %q, %v; asked %q", k.name, got, err, d.asked)
		}
	}
	to := filepath.Join(t.TempDir(), "here")
	if err := errors.Join(os.WriteFile(to+".part", bytes.Repeat([]byte("x"), 100), 0o600),
		os.WriteFile(to+".part.tag", []byte(`"1"`), 0o600)); err != nil {
		t.Fatal(err)
	}
	if _, err := get(t, c, to, false); err == nil {
		t.Error("a part that is longer than the file is whole")
	}
	if got, err := get(t, c, to, false); err != nil || got != string(d.file) {
		t.Errorf("after a part that was too long: %q, %v", got, err)
	}
}

func TestGetOverAnother(t *testing.T) {
	d, c := farAway(t)
	d.file = []byte("new")
	to := filepath.Join(t.TempDir(), "here")
	if err := os.WriteFile(to, []byte("old"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got, err := get(t, c, to, false); err == nil || got != "old" || len(d.asked) != 0 {
		t.Errorf("over another: %q, %v", got, err)
	}
	if got, err := get(t, c, to, true); err != nil || got != "new" {
		t.Errorf("asked to replace it: %q, %v", got, err)
	}
	d.refuse = map[string]int{"GET content": http.StatusNotFound}
	if got, err := get(t, c, to, true); err == nil || got != "new" {
		t.Errorf("refused: %q, %v", got, err)
	}
	if _, err := get(t, c, filepath.Join(t.TempDir(), "no", "folder"), false); err == nil || len(d.asked) != 2 {
		t.Errorf("into a folder that is not there: %v; asked %q", err, d.asked)
	}
}

// A folder comes whole or with an error, whatever of its tar was lost or altered.
func TestFolders(t *testing.T) {
	var kept []byte
	status, cut, alter := http.StatusNoContent, 0, false
	var mu sync.Mutex // a service may not be done yet with what a client gave up
	now := func(change func()) {
		mu.Lock()
		defer mu.Unlock()
		change()
	}
	c := serving(t, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if r.Method == http.MethodPut {
			got, err := io.ReadAll(r.Body)
			if err != nil {
				panic(http.ErrAbortHandler)
			}
			kept = got
			sum := sha256.Sum256(kept)
			if !bytes.Equal(transfer.ReadContentDigest(r.Trailer.Get(transfer.DigestHeader)), sum[:]) {
				t.Errorf("the digest of what was sent: %q", r.Trailer)
			}
			w.WriteHeader(status)
			return
		}
		w.Header().Set("Trailer", transfer.DigestHeader)
		w.WriteHeader(status)
		sum := sha256.Sum256(kept)
		sent := slices.Clone(kept)
		if alter {
			sent[600] ^= 1 // in the content of the first file
		}
		w.Write(sent[:len(sent)-cut])
		if cut > 0 {
			panic(http.ErrAbortHandler)
		}
		w.Header().Set(transfer.DigestHeader, transfer.ContentDigest(sum[:]))
	})
	files := map[string]string{"a": "alpha", "deep/b": strings.Repeat("beta", 50_000), "c": ""}
	put := func(add func(w *tar.Writer) error) error { return c.PutFolder(t.Context(), uuid.New(), "/there", add) }
	all := func(w *tar.Writer) error {
		for _, name := range []string{"a", "deep/b", "c"} {
			if err := w.WriteHeader(&tar.Header{Name: name, Size: int64(len(files[name])), Mode: 0o644}); err != nil {
				return err
			}
			if _, err := io.WriteString(w, files[name]); err != nil {
				return err
			}
		}
		return nil
	}
	if err := put(all); err != nil {
		t.Fatal(err)
	}
	fetch := func(broken error) (map[string]string, error) {
		got := map[string]string{}
		return got, c.GetFolder(t.Context(), uuid.New(), "/there", func(h *tar.Header, r io.Reader) error {
			text, err := io.ReadAll(r)
			got[h.Name] = string(text)
			return errors.Join(err, broken)
		})
	}
	now(func() { status = http.StatusOK })
	if got, err := fetch(nil); err != nil || len(got) != 3 || got["deep/b"] != files["deep/b"] || got["a"] != "alpha" {
		t.Errorf("fetched %d files: %v", len(got), err)
	}
	full := errors.New("the disk is full")
	if got, err := fetch(full); !errors.Is(err, full) || len(got) != 1 {
		t.Errorf("a disk that is full: %v after %d files", err, len(got))
	}
	now(func() { alter = true })
	if _, err := fetch(nil); err == nil || !strings.Contains(err.Error(), "not what was sent") {
		t.Errorf("altered: %v", err)
	}
	now(func() { alter = false })
	for _, lost := range []int{1, 1024, 100_000, 200_000} {
		now(func() { cut = lost })
		if _, err := fetch(nil); err == nil {
			t.Errorf("without its last %d bytes it is whole", lost)
		}
	}
	if err := put(func(w *tar.Writer) error { return full }); !errors.Is(err, full) {
		t.Errorf("what cannot be read here: %v", err)
	}
	now(func() { status, cut = http.StatusForbidden, 0 })
	if err := put(all); err == nil {
		t.Error("what was refused is sent")
	}
	if _, err := fetch(nil); err == nil {
		t.Error("what was refused is fetched")
	}
}

// What the store has is not sent again, and what was cut goes on from where the store stands.
func TestStoreContentThroughCuts(t *testing.T) {
	d, _ := farAway(t)
	content := bytesOf(d, 250_000)
	sum := sha256.Sum256(content)
	var have []byte
	sent, cuts := 0, 3
	c := serving(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.Method == http.MethodPost {
			var n api.NewContent
			json.NewDecoder(r.Body).Decode(&n)
			if n.Sha256 != hex.EncodeToString(sum[:]) || n.Size != int64(len(content)) || n.Name != "here" {
				t.Errorf("announced %+v", n)
			}
			w.WriteHeader(http.StatusCreated)
			json.NewEncoder(w).Encode(api.Content{Have: int64(len(have)), Whole: len(have) == len(content)})
			return
		}
		if at := r.URL.Query().Get("offset"); at != strconv.Itoa(len(have)) {
			t.Errorf("sent from %s, and %d bytes are there", at, len(have))
		}
		body := io.Reader(r.Body)
		if cuts--; cuts >= 0 {
			body = io.LimitReader(body, 70_000)
		}
		piece, _ := io.ReadAll(body)
		have = append(have, piece...)
		sent += len(piece)
		if cuts >= 0 {
			panic(http.ErrAbortHandler)
		}
		fmt.Fprint(w, "{}")
	})
	path := fileOf(t, content).Name()
	var last int64
	for range 2 {
		f, err := c.StoreContent(t.Context(), path, func(done, _ int64) { last = done })
		if err != nil || f.Size != int64(len(content)) || f.Name != "here" {
			t.Fatalf("%+v, %v", f, err)
		}
	}
	if !bytes.Equal(have, content) || sent != len(content) || last != int64(len(content)) {
		t.Errorf("%d bytes are there, %d were sent, told of %d", len(have), sent, last)
	}
	if _, err := c.StoreContent(t.Context(), path+"-not", nil); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a file that is not there: %v", err)
	}
}
