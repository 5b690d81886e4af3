package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"hash"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
)

const (
	// uploadsKept is how long an unfinished upload waits to be continued.
	uploadsKept = 7 * 24 * time.Hour
	// placedKept is how long a finished upload answers a sender that did not hear of its end.
	placedKept = time.Hour
)

// upload is an unfinished upload. Its note in the agent's folder and the part beside its place
// outlast the agent.
type upload struct {
	link.UploadOrder
	ID    string    `json:"id"`
	Real  string    `json:"real"`
	Part  string    `json:"part"`
	Begun time.Time `json:"begun"`
	// Sum is the digest of the part, hexadecimal, and Summed when it was compared, right before the part gets its name.
	Sum    string    `json:"sum,omitempty"`
	Summed time.Time `json:"summed,omitzero"`

	mu   sync.Mutex // held while it is written to
	sum  hash.Hash  // of the first summed bytes of the part
	have int64      // summed
}

func (f *Files) uploadsDir() string { return filepath.Join(f.dir, "uploads") }

func (f *Files) uploadNote(id string) string { return filepath.Join(f.uploadsDir(), id+".json") }

// Begin notes an upload and makes its part, so that a full disk or a forbidden place is told before
// the first byte is sent.
func (f *Files) Begin(_ context.Context, o link.UploadOrder) (link.Upload, error) {
	f.mu.Lock()
	due := time.Since(f.tidied) > placedKept
	f.mu.Unlock()
	if due {
		f.Tidy(time.Now())
	}
	real, err := f.real(o.Path)
	if err != nil {
		return link.Upload{}, err
	}
	if o.Bits != "" {
		if _, err := strconv.ParseUint(o.Bits, 8, 9); err != nil {
			return link.Upload{}, refuse(http.StatusBadRequest, "%q are no permission bits: write them as 0644.", o.Bits)
		}
	}
	open := place.Open
	if o.Folders {
		open = func(path string) (*place.Dir, error) { return place.Make(path, 0o755) }
	}
	folder, err := open(filepath.Dir(real))
	if err != nil {
		return link.Upload{}, explain(f.shown(filepath.Dir(real)), err)
	}
	defer folder.Close()
	to := spot{folder, filepath.Base(real)}
	if err := errors.Join(f.named(to.name), f.mayTouch(to)); err != nil {
		return link.Upload{}, err
	}
	if err := f.vacant(to, o); err != nil {
		return link.Upload{}, err
	}
	if free, err := f.disk.Free(folder.Path(".")); err == nil && free < o.Size {
		return link.Upload{}, refuse(http.StatusInsufficientStorage, "The disk has room for %d bytes more, and this file has %d.", free,
			o.Size)
	}
	name := partName()
	part, _, err := folder.File(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return link.Upload{}, explain(f.shown(folder.Path(".")), err)
	}
	part.Close()
	u := &upload{UploadOrder: o, ID: uuid.NewString(), Real: to.path(), Part: folder.Path(name), Begun: time.Now(), sum: sha256.New()}
	if err := f.note(u); err != nil {
		return link.Upload{}, errors.Join(err, folder.Remove(name))
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.uploads[u.ID] = u
	return u.told(0), nil
}

// note keeps an upload in the agent's folder.
func (f *Files) note(u *upload) error {
	text, err := json.Marshal(u)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(f.uploadsDir(), 0o700); err != nil {
		return explain(f.uploadsDir(), err)
	}
	return explain(f.uploadsDir(), atomicfile.Write(f.uploadNote(u.ID), text, atomicfile.Soon))
}

// part opens the part of an upload again, with the folder that it stands in. It refuses what is not the
// agent's own: whoever owns the folder may have put something else there.
func (u *upload) part() (*os.File, spot, error) {
	d, name, err := place.Parent(u.Part)
	if err != nil {
		return nil, spot{}, err
	}
	file, info, err := d.File(name, os.O_RDWR, 0)
	if err == nil && (!info.Mode().IsRegular() || place.Links(info) > 1 || place.Another(info)) {
		err = errors.Join(refuse(http.StatusConflict, "What came of this upload was replaced at the device: begin it anew."), file.Close())
	}
	if err != nil {
		d.Close()
		return nil, spot{}, err
	}
	return file, spot{d, name}, nil
}

// vacant refuses a place where something stands that is not to be replaced, or cannot be.
func (f *Files) vacant(to spot, o link.UploadOrder) error {
	info, err := to.Stat(to.name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return explain(o.Path, err)
	case info.IsDir():
		return refuse(http.StatusConflict, "%s is a folder.", o.Path)
	case !o.Replace:
		return refuse(http.StatusConflict, "%s is there already: ask for it to be replaced, or choose another name.", o.Path)
	}
	return nil
}

func (u *upload) told(offset int64) link.Upload {
	return link.Upload{ID: u.ID, Path: u.Path, Size: u.Size, Offset: offset, Begun: u.Begun}
}

// findUpload returns an upload, reading its note after a restart of the agent.
func (f *Files) findUpload(id string) (*upload, error) {
	if _, err := uuid.Parse(id); err != nil {
		return nil, refuse(http.StatusNotFound, "There is no such upload.")
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if u := f.uploads[id]; u != nil {
		return u, nil
	}
	text, err := os.ReadFile(f.uploadNote(id))
	u := &upload{sum: sha256.New()}
	if err != nil || json.Unmarshal(text, u) != nil || u.ID != id {
		return nil, refuse(http.StatusNotFound, "There is no such upload: it was finished or given up.")
	}
	f.uploads[id] = u
	return u, nil
}

// State tells how much of an upload the device has.
func (f *Files) State(_ context.Context, id string) (link.Upload, error) {
	u, err := f.findUpload(id)
	if err != nil {
		return link.Upload{}, err
	}
	info, err := os.Stat(u.Part)
	if err == nil {
		return u.told(info.Size()), nil
	}
	if !u.mu.TryLock() {
		return u.told(u.Size), nil // it gets its name right now
	}
	defer u.mu.Unlock()
	if !u.placed() {
		f.forget(u)
		return link.Upload{}, refuse(http.StatusNotFound, "What came of this upload was removed at the device: begin it anew.")
	}
	return u.told(u.Size), nil
}

// Continue writes what read gives to an upload, from an offset that must be where it stands. What
// came before an error is kept. read is given the place to write to.
func (f *Files) Continue(id string, offset int64, read func(w io.Writer) error) error {
	u, err := f.findUpload(id)
	if err != nil {
		return err
	}
	if err := u.lock(); err != nil {
		return err
	}
	defer u.mu.Unlock()
	if u.placed() {
		return refuse(http.StatusConflict, "This upload is finished: all %d bytes came.", u.Size)
	}
	part, there, err := u.part()
	if err != nil {
		return explain(u.Path, err)
	}
	there.Close()
	defer part.Close()
	at, err := part.Seek(0, io.SeekEnd)
	if err != nil {
		return explain(u.Path, err)
	}
	if at != offset {
		return refuse(http.StatusConflict, "The device has %d bytes of this upload, not %d: continue from there.", at, offset)
	}
	if err := u.catchUp(part, at); err != nil {
		return explain(u.Path, err)
	}
	if _, err := part.Seek(at, io.SeekStart); err != nil {
		return explain(u.Path, err)
	}
	return read(&partWriter{u, part})
}

// lock has the upload to itself. A connection that was cut may not know it yet, and one whose last piece was
// acknowledged may not have let go of it.
func (u *upload) lock() error {
	for began := time.Now(); !u.mu.TryLock(); time.Sleep(20 * time.Millisecond) {
		if time.Since(began) > 10*time.Second {
			return refuse(http.StatusConflict, "This upload is being written to by another connection.")
		}
	}
	return nil
}

// catchUp sums what stands in the part and was not summed yet.
func (u *upload) catchUp(part *os.File, size int64) error {
	if u.have > size {
		u.sum.Reset()
		u.have = 0
	}
	n, err := io.CopyBuffer(struct{ io.Writer }{u.sum}, io.NewSectionReader(part, u.have, size-u.have), make([]byte, 256<<10))
	u.have += n
	return err
}

type partWriter struct {
	u    *upload
	part *os.File
}

func (w *partWriter) Write(p []byte) (int, error) {
	if w.u.have+int64(len(p)) > w.u.Size {
		return 0, refuse(http.StatusConflict, "More came than the %d bytes that were announced.", w.u.Size)
	}
	n, err := w.part.Write(p)
	w.u.sum.Write(p[:n])
	w.u.have += int64(n)
	return n, explain(w.u.Path, err)
}

// placed tells whether an upload has its name: its part, which was summed, is not there any more.
func (u *upload) placed() bool {
	if u.Sum == "" {
		return false
	}
	_, err := os.Lstat(u.Part)
	return errors.Is(err, fs.ErrNotExist)
}

// Finish compares the digest of what stands on the disk, and gives the file its name. Who did not hear of it may ask
// again.
func (f *Files) Finish(_ context.Context, id string, end link.UploadEnd) (link.FileEntry, error) {
	u, err := f.findUpload(id)
	if err != nil {
		return link.FileEntry{}, err
	}
	if err := u.lock(); err != nil {
		return link.FileEntry{}, err
	}
	defer u.mu.Unlock()
	if u.placed() {
		if !strings.EqualFold(u.Sum, end.SHA256) {
			return link.FileEntry{}, refuse(http.StatusConflict, "This upload was finished with another SHA-256: %s.", u.Sum)
		}
		return f.Entry(context.Background(), link.FilePath{Path: u.Path})
	}
	part, there, err := u.part()
	if err != nil {
		return link.FileEntry{}, explain(u.Path, err)
	}
	defer there.Close()
	defer part.Close()
	info, err := part.Stat()
	if err == nil && info.Size() != u.Size {
		return link.FileEntry{}, refuse(http.StatusConflict, "The device has %d of %d bytes.", info.Size(), u.Size)
	}
	if err == nil {
		err = u.catchUp(part, u.Size)
	}
	if err != nil {
		return link.FileEntry{}, explain(u.Path, err)
	}
	if got := hex.EncodeToString(u.sum.Sum(nil)); !strings.EqualFold(got, end.SHA256) {
		part.Close() // some systems remove no file that is open
		f.forget(u)
		return link.FileEntry{}, refuse(http.StatusUnprocessableEntity,
			"What came is not what was sent: its SHA-256 is %s. Nothing stands under %s of it; send it again.", got, u.Path)
	}
	u.Sum, u.Summed = end.SHA256, time.Now()
	if err := f.note(u); err != nil {
		return link.FileEntry{}, err
	}
	if err := f.place(u, part, there); err != nil {
		return link.FileEntry{}, explain(u.Path, err)
	}
	return f.Entry(context.Background(), link.FilePath{Path: u.Path})
}

// place gives a whole part its name.
func (f *Files) place(u *upload, part *os.File, from spot) error {
	mode := fs.FileMode(0o644)
	if u.Bits != "" {
		n, _ := strconv.ParseUint(u.Bits, 8, 9)
		mode = fs.FileMode(n)
	}
	to := spot{from.Dir, filepath.Base(u.Real)}
	if err := f.vacant(to, u.UploadOrder); err != nil {
		return err
	}
	before, err := to.Stat(to.name)
	replaces := err == nil && before.Mode().IsRegular()
	if replaces && u.Bits == "" {
		mode = before.Mode().Perm()
	}
	if err := errors.Join(part.Chmod(mode), part.Sync(), part.Close()); err != nil { // some systems name no file that is open
		return err
	}
	if !u.Modified.IsZero() {
		if err := from.Times(from.name, u.Modified); err != nil {
			return err
		}
	}
	if replaces {
		f.take(to, before, from)
	}
	if u.Replace {
		return place.Rename(from.Dir, from.name, to.Dir, to.name)
	}
	// A link is made only where nothing stands, whatever happened since it was looked.
	err = from.Link(from.name, to.name)
	if errors.Is(err, fs.ErrExist) {
		return refuse(http.StatusConflict, "%s was made meanwhile.", u.Path)
	}
	if err != nil {
		return place.Rename(from.Dir, from.name, to.Dir, to.name) // a disk without hard links
	}
	return from.Remove(from.name)
}

// Drop gives an upload up and removes what came of it, unless it has its name.
func (f *Files) Drop(_ context.Context, id string) (struct{}, error) {
	u, err := f.findUpload(id)
	if err != nil {
		return struct{}{}, err
	}
	f.forget(u)
	return struct{}{}, nil
}

func (f *Files) forget(u *upload) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.uploads, u.ID)
	if d, name, err := place.Parent(u.Part); err == nil {
		d.Remove(name)
		d.Close()
	}
	os.Remove(f.uploadNote(u.ID))
}

// Tidy removes uploads that nobody continued, and forgets those that are finished.
func (f *Files) Tidy(now time.Time) {
	f.mu.Lock()
	f.tidied = now
	f.mu.Unlock()
	notes, err := os.ReadDir(f.uploadsDir())
	if err != nil {
		return
	}
	for _, n := range notes {
		id := strings.TrimSuffix(n.Name(), ".json")
		u, err := f.findUpload(id)
		if err != nil || !u.mu.TryLock() {
			continue
		}
		if now.Sub(u.Begun) > uploadsKept || u.Sum != "" && now.Sub(u.Summed) > placedKept && u.placed() {
			f.forget(u)
		}
		u.mu.Unlock()
	}
}
