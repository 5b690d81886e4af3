package client

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/transfer"
)

// Tries of a transfer: after a cut it is continued after a pause that doubles up to PauseMost, and
// given up when nothing at all went forward for PatienceMost.
const (
	pauseLeast   = 200 * time.Millisecond
	PauseMost    = 5 * time.Second
	PatienceMost = 2 * time.Minute
)

// Progress is told how many bytes of a transfer are done, of how many; -1 when that is not known.
type Progress func(done, size int64)

// PutOptions of Put.
type PutOptions struct {
	Replace bool
	Folders bool   // make the folders that the file stands in
	Bits    string // permission bits, such as 0755; those of the file here when empty
	// Upload continues one that was begun before; Begun is told of the one that is begun.
	Upload   uuid.UUID
	Begun    func(id uuid.UUID)
	Progress Progress
}

// Put sends a file to a device. A transfer that is cut goes on from where the device stands, and
// the file has its name there once the device has compared its digest.
func (c *Client) Put(ctx context.Context, device uuid.UUID, file *os.File, path string, o PutOptions) (*link.FileEntry, error) {
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no file", file.Name())
	}
	if o.Progress == nil {
		o.Progress = func(int64, int64) {}
	}
	if o.Bits == "" {
		o.Bits = fmt.Sprintf("%04o", info.Mode().Perm())
	}
	id := o.Upload
	if id == uuid.Nil {
		var u *link.Upload
		order := link.UploadOrder{Path: path, Size: info.Size(), Modified: info.ModTime(), Bits: o.Bits, Replace: o.Replace,
			Folders: o.Folders}
		err := keepTrying(ctx, func(ctx context.Context) (forward bool, err error) {
			u, err = Made(c.BeginUploadWithResponse(ctx, device, order))
			return false, err
		})
		if err != nil {
			return nil, err
		}
		id = uuid.MustParse(u.ID)
		if o.Begun != nil {
			o.Begun(id)
		}
	}
	s := &sender{c: c, device: device, id: id, file: file, size: info.Size(), sum: sha256.New(), progress: o.Progress,
		fresh: o.Upload == uuid.Nil}
	if err := keepTrying(ctx, s.attempt); err != nil {
		return nil, err
	}
	if now, err := file.Stat(); err != nil || now.Size() != info.Size() || !now.ModTime().Equal(info.ModTime()) {
		Done(c.DropUploadWithResponse(ctx, device, id))
		return nil, errors.Join(err, fmt.Errorf("%s changed while it was sent: send it again", file.Name()))
	}
	end := link.UploadEnd{SHA256: hex.EncodeToString(s.sum.Sum(nil))}
	var entry *link.FileEntry
	err = keepTrying(ctx, func(ctx context.Context) (bool, error) {
		var err error
		entry, err = Result(c.EndUploadWithResponse(ctx, device, id, end))
		return false, err
	})
	return entry, err
}

// keepTrying repeats an attempt that fails on the way, until it succeeds, is refused, or nothing
// went forward for PatienceMost.
func keepTrying(ctx context.Context, attempt func(ctx context.Context) (forward bool, err error)) error {
	pause, last := pauseLeast, time.Now()
	for {
		forward, err := attempt(ctx)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err == nil || !passing(err) {
			return err
		}
		if forward {
			pause, last = pauseLeast, time.Now()
		}
		if time.Since(last) > PatienceMost {
			return fmt.Errorf("nothing went forward for %s: %w", PatienceMost, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		pause = min(2*pause, PauseMost)
	}
}

// passing tells whether an error may be gone at the next try: a cut, or a service or device that is
// away.
func passing(err error) bool {
	p := (*Problem)(nil)
	if !errors.As(err, &p) {
		local := (*fs.PathError)(nil)
		return !errors.As(err, &local) // what is wrong with a file here stays so
	}
	return p.Status == http.StatusServiceUnavailable || p.Status == http.StatusBadGateway || p.Status == http.StatusGatewayTimeout
}

type sender struct {
	c        *Client
	device   uuid.UUID
	id       uuid.UUID
	file     *os.File
	size     int64
	sum      hash.Hash // of the first summed bytes
	summed   int64
	progress Progress
	fresh    bool // it was begun just now
}

// attempt sends from where the device stands to the end.
func (s *sender) attempt(ctx context.Context) (forward bool, err error) {
	var at int64
	if !s.fresh { // else the device has nothing of it yet
		u, err := Result(s.c.GetUploadWithResponse(ctx, s.device, s.id))
		if err != nil {
			return false, err
		}
		at = u.Offset
	}
	s.fresh = false
	forward = at > s.summed
	if err := s.seek(at); err != nil {
		return forward, err
	}
	if at == s.size {
		return true, nil
	}
	began := s.summed
	r, err := http.NewRequestWithContext(ctx, http.MethodPut,
		fmt.Sprintf("%s/api/v1/devices/%s/uploads/%s/content?offset=%d", s.c.url, s.device, s.id, at), &reading{s})
	if err != nil {
		return forward, err
	}
	r.ContentLength = s.size - at
	r.Header.Set("Content-Type", "application/octet-stream")
	s.c.authorise(r.Header)
	answer, err := s.c.slow.Do(r)
	if err != nil {
		return forward || s.summed > began, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return forward || s.summed > began, Refusal(answer)
	}
	io.Copy(io.Discard, answer.Body)
	return true, nil
}

// seek goes to where the device stands, summing what lies before it.
func (s *sender) seek(offset int64) error {
	if offset < s.summed {
		s.sum.Reset()
		s.summed = 0
	}
	n, err := io.CopyBuffer(struct{ io.Writer }{s.sum}, io.NewSectionReader(s.file, s.summed, offset-s.summed), make([]byte, 256<<10))
	if s.summed += n; err != nil {
		return err
	}
	_, err = s.file.Seek(offset, io.SeekStart)
	return err
}

// reading reads the file, sums it and tells how far it is.
type reading struct{ s *sender }

func (r *reading) Read(p []byte) (int, error) {
	n, err := r.s.file.Read(p[:min(int64(len(p)), r.s.size-r.s.summed)])
	r.s.sum.Write(p[:n])
	r.s.summed += int64(n)
	if n > 0 {
		r.s.progress(r.s.summed, r.s.size)
	}
	if n == 0 && r.s.summed == r.s.size {
		err = io.EOF
	}
	return n, err
}

// Get fetches a file of a device into a new file here, which has its name once it is whole. A
// transfer that is cut goes on; so does one of an earlier call whose part is still there, if the
// file at the device is the same.
func (c *Client) Get(ctx context.Context, device uuid.UUID, path, to string, replace bool, progress Progress) error {
	if _, err := os.Lstat(to); err == nil && !replace {
		return fmt.Errorf("%s is there already: choose another name, or use --replace", to)
	}
	if progress == nil {
		progress = func(int64, int64) {}
	}
	g := &getter{c: c, device: device, path: path, part: to + ".part", progress: progress}
	if err := keepTrying(ctx, g.attempt); err != nil {
		return err
	}
	return errors.Join(os.Rename(g.part, to), ignoreMissing(os.Remove(g.note())))
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

type getter struct {
	c          *Client
	device     uuid.UUID
	path, part string
	progress   Progress
}

// note is the file that keeps which version of the file a part is of.
func (g *getter) note() string { return g.part + ".tag" }

func (g *getter) attempt(ctx context.Context) (forward bool, err error) {
	out, err := os.OpenFile(g.part, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return false, err
	}
	defer out.Close()
	at, err := out.Seek(0, io.SeekEnd)
	if err != nil {
		return false, err
	}
	tag, _ := os.ReadFile(g.note())
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, g.c.url+"/api/v1/devices/"+g.device.String()+"/files/content?path="+
		url.QueryEscape(g.path), nil)
	if err != nil {
		return false, err
	}
	g.c.authorise(r.Header)
	if at > 0 && len(tag) > 0 {
		r.Header.Set("Range", "bytes="+strconv.FormatInt(at, 10)+"-")
		r.Header.Set("If-Range", string(tag))
	}
	answer, err := g.c.slow.Do(r)
	if err != nil {
		return false, err
	}
	defer answer.Body.Close()
	switch answer.StatusCode {
	case http.StatusPartialContent:
	case http.StatusOK:
		at = 0
		if err := errors.Join(out.Truncate(0), os.WriteFile(g.note(), []byte(answer.Header.Get("ETag")), 0o600)); err != nil {
			return false, err
		}
		if _, err := out.Seek(0, io.SeekStart); err != nil {
			return false, err
		}
	case http.StatusRequestedRangeNotSatisfiable:
		return false, errors.Join(Refusal(answer), ignoreMissing(os.Remove(g.note())), os.Truncate(g.part, 0))
	default:
		return false, Refusal(answer)
	}
	size, err := strconv.ParseInt(answer.Header.Get(link.SizeHeader), 10, 64)
	if err != nil {
		return false, errors.New("the service does not say how long the file is")
	}
	sum := sha256.New()
	n, err := io.CopyBuffer(&telling{io.MultiWriter(out, sum), at, at + size, g.progress}, struct{ io.Reader }{answer.Body},
		make([]byte, 256<<10))
	if err != nil {
		return n > 0, err
	}
	if n != size || !bytes.Equal(transfer.ReadContentDigest(answer.Trailer.Get(transfer.DigestHeader)), sum.Sum(nil)) {
		return false, errors.Join(out.Truncate(at), errors.New("what came is not what was sent"))
	}
	return true, out.Sync()
}

type telling struct {
	w          io.Writer
	done, size int64
	progress   Progress
}

func (t *telling) Write(p []byte) (int, error) {
	n, err := t.w.Write(p)
	t.done += int64(n)
	t.progress(t.done, t.size)
	return n, err
}

// GetFolder fetches a folder as a tar and gives the entries to each as they come. It is not
// continued after a cut.
func (c *Client) GetFolder(ctx context.Context, device uuid.UUID, path string, each func(h *tar.Header, r io.Reader) error) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.url+"/api/v1/devices/"+device.String()+"/files/archive?format=tar&path="+
		url.QueryEscape(path), nil)
	if err != nil {
		return err
	}
	c.authorise(r.Header)
	answer, err := c.slow.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return Refusal(answer)
	}
	sum := sha256.New()
	body := io.TeeReader(answer.Body, sum)
	for in := tar.NewReader(body); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if err := each(h, in); err != nil {
			return err
		}
	}
	if _, err := io.Copy(io.Discard, body); err != nil {
		return err
	}
	if !bytes.Equal(transfer.ReadContentDigest(answer.Trailer.Get(transfer.DigestHeader)), sum.Sum(nil)) {
		return errors.New("what came is not what was sent: fetch it again")
	}
	return nil
}

// PutFolder sends what add writes as a tar, below a folder of a device.
func (c *Client) PutFolder(ctx context.Context, device uuid.UUID, folder string, add func(w *tar.Writer) error) error {
	pr, pw := io.Pipe()
	defer pr.Close()
	sum := sha256.New()
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, c.url+"/api/v1/devices/"+device.String()+"/files/archive?path="+
		url.QueryEscape(folder), pr)
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/octet-stream")
	r.Trailer = http.Header{transfer.DigestHeader: nil}
	c.authorise(r.Header)
	go func() {
		// Entries are small; the network is given larger pieces.
		out := &gathered{w: io.MultiWriter(pw, sum), b: make([]byte, 0, 64<<10)}
		w := tar.NewWriter(out)
		for _, step := range []func() error{func() error { return add(w) }, w.Close, out.flush} {
			if err := step(); err != nil {
				pw.CloseWithError(err)
				return
			}
		}
		r.Trailer.Set(transfer.DigestHeader, transfer.ContentDigest(sum.Sum(nil))) // all was read: nobody else uses it now
		pw.Close()
	}()
	answer, err := c.slow.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusNoContent {
		return Refusal(answer)
	}
	return nil
}

type gathered struct {
	w io.Writer
	b []byte
}

func (g *gathered) Write(p []byte) (int, error) {
	if len(g.b)+len(p) > cap(g.b) {
		if err := g.flush(); err != nil {
			return 0, err
		}
	}
	if len(p) > cap(g.b) {
		return g.w.Write(p)
	}
	g.b = append(g.b, p...)
	return len(p), nil
}

func (g *gathered) flush() error {
	_, err := g.w.Write(g.b)
	g.b = g.b[:0]
	return err
}

// Walk gives the entries of a folder as the device reads them, with all below it where deep is set.
func (c *Client) Walk(ctx context.Context, device uuid.UUID, path string, deep bool, each func(link.FileBatch) error) error {
	r, err := c.ListFiles(ctx, device, &api.ListFilesParams{Path: path, Deep: &deep})
	return Lines(ctx, r, err, "before the list was whole", func(b link.FileBatch) (bool, error) {
		err := each(b)
		if err == nil && b.Error != "" {
			err = errors.New(b.Error)
		}
		return b.Done, err
	})
}
