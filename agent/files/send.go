package files

import (
	"archive/tar"
	"archive/zip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/transfer"
)

// Download is something on its way from the device: Read it to its end, then ask for its digest.
type Download struct {
	io.Reader
	Entry link.FileEntry
	Size  int64  // bytes that will be read; -1 when it is not known
	Tag   string // the same as long as the file is the same
	close func() error
	sum   hash.Hash
}

// Digest is the SHA-256 of what was read.
func (d *Download) Digest() []byte { return d.sum.Sum(nil) }

// Close lets go of it.
func (d *Download) Close() error { return d.close() }

// Open opens a file to be sent, from an offset. A file that grows meanwhile is sent up to the size
// that it had; one that shrinks is an error.
func (f *Files) Open(p string, offset int64) (*Download, error) {
	file, info, err := f.open(p)
	if err != nil {
		return nil, err
	}
	d := &Download{Entry: f.entry(file.Name(), info), Size: info.Size() - offset,
		Tag: fmt.Sprintf("%x-%x", info.Size(), info.ModTime().UnixNano()), close: file.Close, sum: sha256.New()}
	if _, err := file.Seek(offset, io.SeekStart); err != nil || offset < 0 || d.Size < 0 {
		file.Close()
		return nil, refuse(http.StatusRequestedRangeNotSatisfiable, "%s holds %d bytes.", p, info.Size())
	}
	d.Reader = &exactly{r: io.TeeReader(file, d.sum), left: d.Size, path: p}
	return d, nil
}

// exactly reads so many bytes, and fails when there are fewer.
type exactly struct {
	r    io.Reader
	left int64
	path string
}

func (e *exactly) Read(p []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	n, err := e.r.Read(p[:min(int64(len(p)), e.left)])
	e.left -= int64(n)
	if errors.Is(err, io.EOF) && e.left > 0 {
		err = fmt.Errorf("%s became shorter while it was read", e.path)
	}
	return n, err
}

// leftOut is the name, in an archive, of the list of what could not be put into it.
const leftOut = "left-out.txt"

// Archive makes an archive of files and folders as it is read. Names in it begin with those of the
// paths given. Links go into a tar as links, and are left out of a zip, as are pipes and devices.
func (f *Files) Archive(ctx context.Context, paths []string, format string) (*Download, error) {
	var roots []string
	for _, p := range paths {
		real, err := f.real(p)
		if err != nil {
			return nil, err
		}
		if err := f.at(p, func(s spot) error { _, err := s.Stat(s.name); return err }); err != nil {
			return nil, explain(p, err)
		}
		roots = append(roots, real)
	}
	if len(roots) == 0 || (format != link.ArchiveTar && format != link.ArchiveZip) {
		return nil, refuse(http.StatusBadRequest, "An archive is a tar or a zip of at least one path.")
	}
	r, w := io.Pipe()
	d := &Download{Size: -1, close: r.Close, sum: sha256.New(), Entry: link.FileEntry{Name: transfer.Text(filepath.Base(roots[0]))}}
	d.Reader = io.TeeReader(r, d.sum)
	go func() { w.CloseWithError(f.pack(ctx, w, roots, format)) }()
	return d, nil
}

// packer writes entries into an archive.
type packer interface {
	add(name string, info fs.FileInfo, target string) (io.Writer, error)
	Close() error
}

type tarPacker struct{ *tar.Writer }

func (t tarPacker) add(name string, info fs.FileInfo, target string) (io.Writer, error) {
	h, err := tar.FileInfoHeader(info, target)
	if err != nil {
		return nil, err
	}
	h.Name, h.Format = name, tar.FormatPAX
	h.AccessTime, h.ChangeTime = time.Time{}, time.Time{}
	return t, t.WriteHeader(h)
}

type zipPacker struct{ *zip.Writer }

func (z zipPacker) add(name string, info fs.FileInfo, _ string) (io.Writer, error) {
	h, err := zip.FileInfoHeader(info)
	if err != nil {
		return nil, err
	}
	h.Name = name
	if info.Mode().IsRegular() {
		h.Method = zip.Deflate
	}
	return z.CreateHeader(h)
}

func (f *Files) pack(ctx context.Context, w io.Writer, roots []string, format string) error {
	var p packer = tarPacker{tar.NewWriter(w)}
	if format == link.ArchiveZip {
		p = zipPacker{zip.NewWriter(w)}
	}
	var missing []string
	leave := func(at spot, reason string) { missing = append(missing, f.shown(at.path())+": "+reason) }
	for _, root := range roots {
		d, name, err := place.Parent(root)
		if err == nil {
			err = f.packAll(ctx, p, spot{d, name}, name, leave)
			d.Close()
		}
		if err != nil {
			return err
		}
	}
	if len(missing) > 0 {
		text := strings.Join(missing, "\n") + "\n"
		out, err := p.add(leftOut, plain{leftOut, int64(len(text))}, "")
		if err == nil {
			_, err = io.WriteString(out, text)
		}
		if err != nil {
			return err
		}
	}
	return p.Close()
}

// halfway is an error after which an archive cannot go on.
type halfway struct{ error }

// packAll puts what stands at a place into an archive under a name, with all below it, and tells what it
// leaves out.
func (f *Files) packAll(ctx context.Context, p packer, at spot, name string, leave func(spot, string)) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if strings.HasPrefix(at.name, partBegin) && strings.HasSuffix(at.name, partEnd) {
		return nil // not whole
	}
	done, err := f.packOne(ctx, p, at, name)
	if broken := (*halfway)(nil); errors.As(err, &broken) {
		return err
	}
	switch {
	case err != nil:
		leave(at, err.Error())
		return nil
	case !done:
		leave(at, "it is no file")
		return nil
	}
	info, err := at.Stat(at.name)
	if err != nil || !info.IsDir() {
		return nil
	}
	in, err := at.Sub(at.name)
	if err != nil {
		leave(at, err.Error())
		return nil
	}
	defer in.Close()
	var names []string
	if err := in.Entries(func(name string, _ fs.FileInfo) error { names = append(names, name); return nil }); err != nil {
		leave(at, err.Error())
	}
	slices.Sort(names)
	for _, below := range names {
		if err := f.packAll(ctx, p, spot{in, below}, name+"/"+below, leave); err != nil {
			return err
		}
	}
	return nil
}

func (f *Files) packOne(ctx context.Context, p packer, at spot, name string) (done bool, err error) {
	info, err := at.Stat(at.name)
	if err != nil {
		return false, err
	}
	switch {
	case info.IsDir():
		if f.own(info) {
			return false, errors.New("it belongs to the agent itself")
		}
		_, err := p.add(name+"/", info, "")
		return true, wrap(err)
	case info.Mode()&fs.ModeSymlink != 0:
		if _, zip := p.(zipPacker); zip {
			return false, errors.New("a link")
		}
		target, err := at.Readlink(at.name)
		if err != nil {
			return false, err
		}
		_, err = p.add(name, info, target)
		return true, wrap(err)
	case !info.Mode().IsRegular():
		return false, nil
	}
	file, info, err := regular(at, f.shown(at.path()))
	if err != nil {
		return false, err
	}
	defer file.Close()
	out, err := p.add(name, info, "")
	if err != nil {
		return false, wrap(err)
	}
	_, err = copyUntil(ctx, out, &exactly{r: file, left: info.Size(), path: f.shown(at.path())})
	return true, wrap(err)
}

func wrap(err error) error {
	if err == nil {
		return nil
	}
	return &halfway{err}
}

// plain is the fs.FileInfo of a text that the archive adds.
type plain struct {
	name string
	size int64
}

func (p plain) Name() string       { return p.name }
func (p plain) Size() int64        { return p.size }
func (p plain) Mode() fs.FileMode  { return 0o644 }
func (p plain) ModTime() time.Time { return time.Now() }
func (p plain) IsDir() bool        { return false }
func (p plain) Sys() any           { return nil }

// Unpack puts the files of a tar below a folder, each under its name once it is whole. Nothing
// leaves the folder: not by a name with .., not through a link that stands in it, and links in the
// archive are not made. It returns what it made, as far as it came.
func (f *Files) Unpack(ctx context.Context, folder string, r io.Reader) (made link.FileEvent, err error) {
	real, err := f.real(folder)
	if err != nil {
		return made, err
	}
	into, err := place.Make(real, 0o755)
	if err != nil {
		return made, explain(folder, err)
	}
	defer into.Close()
	if err := f.mayTouch(spot{into, "."}); err != nil {
		return made, err
	}
	root := into.Root()
	in := tar.NewReader(r)
	folders := map[string]bool{}
	for ctx.Err() == nil {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, r) // what pads the archive
			made.Done = err == nil
			return made, err
		}
		if err != nil {
			return made, refuse(http.StatusUnprocessableEntity, "The archive cannot be read after %d files: %v.", made.Files, err)
		}
		name := filepath.FromSlash(path.Clean(h.Name))
		if !filepath.IsLocal(name) || name == "." {
			if name == "." {
				continue
			}
			return made, refuse(http.StatusUnprocessableEntity, "The archive holds the name %q, which leads out of the folder.", h.Name)
		}
		for _, part := range strings.Split(filepath.ToSlash(name), "/") {
			if err := transfer.CheckName(part, f.disk.Windows()); err != nil {
				return made, refuse(http.StatusUnprocessableEntity, "The archive: %v.", err)
			}
		}
		if sparse(h) {
			return made, refuse(http.StatusUnprocessableEntity,
				"The archive says of %s that it has bytes which are not in it: make it without holes.", h.Name)
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = f.unpackFolder(root, name, folders)
		case tar.TypeReg:
			if err = f.unpackFolder(root, filepath.Dir(name), folders); err == nil {
				err = f.unpackFile(ctx, root, name, in, h)
			}
			made.Bytes += h.Size
			made.Files++
		default:
			continue // links and devices
		}
		if err != nil {
			return made, explain(h.Name, err)
		}
	}
	return made, ctx.Err()
}

// sparse tells whether a tar says in few bytes that a file has many, which could fill a disk.
func sparse(h *tar.Header) bool {
	if h.Typeflag == tar.TypeGNUSparse {
		return true
	}
	for key := range h.PAXRecords {
		if strings.HasPrefix(key, "GNU.sparse.") {
			return true
		}
	}
	return false
}

func (f *Files) unpackFolder(root *os.Root, name string, made map[string]bool) error {
	if name == "." || made[name] {
		return nil
	}
	err := root.MkdirAll(name, 0o755)
	if err == nil {
		made[name] = true
	}
	return err
}

func (f *Files) unpackFile(ctx context.Context, root *os.Root, name string, in io.Reader, h *tar.Header) error {
	part := filepath.Join(filepath.Dir(name), partName())
	out, err := root.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, fs.FileMode(h.Mode).Perm())
	if err != nil {
		return err
	}
	if err := fillPart(ctx, root, out, part, name, in, h); err != nil {
		root.Remove(part)
		return err
	}
	return nil
}

// fillPart writes what an archive holds of a file, closes it and gives it its time and its name.
func fillPart(ctx context.Context, root *os.Root, out *os.File, part, name string, in io.Reader, h *tar.Header) error {
	n, err := copyUntil(ctx, out, io.LimitReader(in, h.Size))
	if err := errors.Join(err, out.Close()); err != nil {
		return err
	}
	if n < h.Size {
		return io.ErrUnexpectedEOF
	}
	if !h.ModTime.IsZero() {
		if err := root.Chtimes(part, time.Time{}, h.ModTime); err != nil {
			return err
		}
	}
	return root.Rename(part, name)
}
