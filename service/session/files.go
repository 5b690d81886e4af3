package session

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/transfer"
	"moorwatch.example/service/front"
	"moorwatch.example/service/hub"
	"moorwatch.example/uplink"
)

// ListFiles lists a folder: GET /devices/{id}/files.
func (s *Service) ListFiles(c *gin.Context, id api.ID, in api.ListFilesParams) {
	s.passLines(c, id, job{tool: "files", path: "/files/list", in: link.FilePath{Path: in.Path, Deep: in.Deep != nil && *in.Deep}})
}

// ChangeFiles does an action to files: POST /devices/{id}/files.
func (s *Service) ChangeFiles(c *gin.Context, id api.ID) {
	d, ok := front.Bind[link.FileAction](c)
	if !ok || ((d.Action == link.FilePermit || d.Action == link.FilePurge) && !need(c, access.Of("files", access.Administer))) {
		return
	}
	detail := strings.Join(d.Paths, ", ")
	for _, more := range []string{d.To, d.Bits, d.Owner, d.Group, strings.TrimSpace(d.Who + " " + d.May)} {
		if more != "" {
			detail += " → " + more
		}
	}
	s.passLines(c, id, job{"files", "/files/change", d, "file." + d.Action, detail})
}

// GetFile shows one file: GET /devices/{id}/files/entry.
func (s *Service) GetFile(c *gin.Context, id api.ID, in api.GetFileParams) {
	p := link.FilePath{Path: in.Path}
	if in.Digest != nil {
		if read := access.Of("files", access.Read); !front.May(c, read) { // it tells whether the content is what somebody guesses
			front.Fail(c, front.Lacking(read))
			return
		}
		p.Digest = string(*in.Digest)
	}
	one[link.FileEntry](s, c, id, http.StatusOK, job{tool: "files", path: "/files/entry", in: p}, nil)
}

// ListRemovedFiles lists what can be restored: GET /devices/{id}/files/removed.
func (s *Service) ListRemovedFiles(c *gin.Context, id api.ID) {
	one[link.RemovedList](s, c, id, http.StatusOK, job{tool: "files", path: "/files/removed"}, nil)
}

// ReadText reads a text: GET /devices/{id}/files/text.
func (s *Service) ReadText(c *gin.Context, id api.ID, in api.ReadTextParams) {
	one[link.TextFile](s, c, id, http.StatusOK, job{"files", "/files/read", link.FilePath{Path: in.Path}, "file.read", in.Path}, nil)
}

// WriteText writes a text: PUT /devices/{id}/files/text.
func (s *Service) WriteText(c *gin.Context, id api.ID) {
	if t, ok := front.Bind[link.TextFile](c); ok {
		one[link.TextFile](s, c, id, http.StatusOK, job{"files", "/files/write", t, "file.write", t.Path}, nil)
	}
}

// FollowFile follows a growing file: POST /devices/{id}/files/follow.
func (s *Service) FollowFile(c *gin.Context, id api.ID) {
	if f, ok := front.Bind[link.Follow](c); ok {
		s.passLines(c, id, job{"files", "/files/follow", f, "file.follow", f.Path})
	}
}

// BeginUpload begins to send a file: POST /devices/{id}/uploads.
func (s *Service) BeginUpload(c *gin.Context, id api.ID) {
	if o, ok := front.Bind[link.UploadOrder](c); ok {
		one[link.Upload](s, c, id, http.StatusCreated,
			job{"files", "/uploads", o, "file.upload", fmt.Sprintf("%s, %d bytes", o.Path, o.Size)}, nil)
	}
}

// GetUpload tells how much of an upload the device has: GET /devices/{id}/uploads/{upload}.
func (s *Service) GetUpload(c *gin.Context, id api.ID, upload uuid.UUID) {
	one[link.Upload](s, c, id, http.StatusOK, job{tool: "files", path: "/uploads/" + upload.String() + "/state"}, nil)
}

// DropUpload gives an upload up: DELETE /devices/{id}/uploads/{upload}.
func (s *Service) DropUpload(c *gin.Context, id api.ID, upload uuid.UUID) {
	one[struct{}](s, c, id, http.StatusNoContent, job{"files", "/uploads/" + upload.String() + "/drop", nil, "file.drop", upload.String()},
		nil)
}

// EndUpload gives an uploaded file its name: POST /devices/{id}/uploads/{upload}/end.
func (s *Service) EndUpload(c *gin.Context, id api.ID, upload uuid.UUID) {
	if end, ok := front.Bind[link.UploadEnd](c); ok {
		one(s, c, id, http.StatusOK, job{"files", "/uploads/" + upload.String() + "/finish", end, "file.place", "SHA-256 " + end.SHA256},
			func(w *work, e *link.FileEntry) string {
				w.entry.Detail = e.Path + ", " + w.entry.Detail
				return "done"
			})
	}
}

// bulk opens a bulk stream to the agent.
func (w *work) bulk(path string, query url.Values) (io.ReadWriteCloser, http.Header, error) {
	r, err := http.NewRequestWithContext(w.ctx, http.MethodGet, hub.URL(w.device.ID, path, query), nil)
	if err != nil {
		return nil, nil, err
	}
	stream, answer, err := uplink.AskBulk(w.s.hub.Client().Transport, r)
	if err != nil {
		return nil, nil, front.Unreachable(w.device.Name, err)
	}
	if stream == nil {
		defer answer.Body.Close()
		return nil, nil, front.FromDevice(w.device.Name, answer)
	}
	return stream, answer.Header, nil
}

// stopped turns the end of a bulk transfer into what the caller is told.
func (w *work) stopped(err error) error {
	var s *uplink.Stopped
	if errors.As(err, &s) {
		return front.Problem(http.StatusConflict, w.device.Name+" stopped the transfer.", device.CleanText(s.Reason))
	}
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return err
	}
	return front.Unreachable(w.device.Name, err)
}

// SendUpload sends bytes of an upload: PUT /devices/{id}/uploads/{upload}/content.
func (s *Service) SendUpload(c *gin.Context, id api.ID, upload uuid.UUID, in api.SendUploadParams) {
	w, ok := s.start(c, id, job{tool: "files"})
	if !ok {
		return
	}
	stream, _, err := w.bulk("/uploads/"+upload.String()+"/content", url.Values{"offset": {strconv.FormatInt(in.Offset, 10)}})
	if err != nil {
		w.fail(c, err)
		return
	}
	n, err := uplink.SendBulk(w.ctx, stream, s.hub.Gate(id), &body{r: c.Request.Body, session: w.session}, func() []byte { return nil })
	if err != nil {
		w.fail(c, w.stopped(err))
		return
	}
	w.finish("")
	c.JSON(http.StatusOK, link.Upload{ID: upload.String(), Offset: in.Offset + n})
}

// body counts what a caller sends.
type body struct {
	r       io.Reader
	session *activeSession
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	b.session.count(0, int64(n), 0)
	return n, err
}

// UnpackArchive puts the files of a tar below a folder: PUT /devices/{id}/files/archive.
func (s *Service) UnpackArchive(c *gin.Context, id api.ID, in api.UnpackArchiveParams) {
	w, ok := s.start(c, id, job{tool: "files", action: "file.unpack", detail: in.Path})
	if !ok {
		return
	}
	stream, _, err := w.bulk("/files/unpack", url.Values{"folder": {in.Path}})
	if err != nil {
		w.fail(c, err)
		return
	}
	digest := func() []byte { return transfer.ReadContentDigest(c.Request.Trailer.Get(transfer.DigestHeader)) }
	if _, err := uplink.SendBulk(w.ctx, stream, s.hub.Gate(id), &body{r: c.Request.Body, session: w.session}, digest); err != nil {
		w.fail(c, w.stopped(err))
		return
	}
	w.finish("done")
	c.Status(http.StatusNoContent)
}

// DownloadFile sends a file to the caller: GET /devices/{id}/files/content.
func (s *Service) DownloadFile(c *gin.Context, id api.ID, in api.DownloadFileParams) {
	offset, err := from(c.GetHeader("Range"))
	if err != nil {
		front.Fail(c, err)
		return
	}
	s.download(c, id, job{"files", "/files/content", nil, "file.download", in.Path}, url.Values{"path": {in.Path}}, offset,
		path.Base(strings.ReplaceAll(in.Path, `\`, "/")))
}

// DownloadArchive sends files and folders as one archive: GET /devices/{id}/files/archive.
func (s *Service) DownloadArchive(c *gin.Context, id api.ID, in api.DownloadArchiveParams) {
	s.download(c, id, job{"files", "/files/archive", nil, "file.download", strings.Join(in.Path, ", ")},
		url.Values{"path": in.Path, "format": {string(in.Format)}}, 0, path.Base(strings.ReplaceAll(in.Path[0], `\`, "/"))+"."+
			string(in.Format))
}

// from reads where a download is to go on: "bytes=N-" (RFC 9110, 14.1.2), or nothing.
func from(header string) (int64, error) {
	if header == "" {
		return 0, nil
	}
	text, ok := strings.CutPrefix(header, "bytes=")
	text, ok2 := strings.CutSuffix(text, "-")
	n, err := strconv.ParseInt(text, 10, 64)
	if !ok || !ok2 || err != nil || n < 0 {
		return 0, front.Problem(http.StatusRequestedRangeNotSatisfiable, "This range cannot be sent.",
			"Ask for bytes=N-, from a place to the end.")
	}
	return n, nil
}

func (s *Service) download(c *gin.Context, id uuid.UUID, j job, query url.Values, offset int64, name string) {
	w, ok := s.start(c, id, j)
	if !ok {
		return
	}
	query.Set("offset", strconv.FormatInt(offset, 10))
	stream, header, err := w.bulk(j.path, query)
	if err != nil {
		w.fail(c, err)
		return
	}
	defer stream.Close()
	stop := context.AfterFunc(w.ctx, func() { stream.Close() })
	defer stop()
	tag := `"` + device.CleanText(header.Get(link.TagHeader)) + `"`
	if want := c.GetHeader("If-Range"); offset > 0 && want != "" && want != tag { // it is another file by now: from its beginning
		w.done()
		stream.Close()
		s.download(c, id, j, query, 0, name)
		return
	}
	size, err := strconv.ParseInt(header.Get(link.SizeHeader), 10, 64)
	if err != nil {
		w.fail(c, front.Problem(http.StatusBadGateway, w.device.Name+" did not answer as it should.", "Try again."))
		return
	}
	h := c.Writer.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": device.CleanText(name)}))
	h.Set("Trailer", transfer.DigestHeader)
	h.Set("X-Accel-Buffering", "no")
	status := http.StatusOK
	if size >= 0 {
		// Not as Content-Length: HTTP/1.1 has trailers on chunked messages alone (RFC 9112, 7.1.2).
		h.Set(link.SizeHeader, strconv.FormatInt(size, 10))
		h.Set("ETag", tag)
		h.Set("Accept-Ranges", "bytes")
		if offset > 0 {
			status = http.StatusPartialContent
			h.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", offset, offset+size-1, offset+size))
		}
		if caller := front.CallerOf(c); caller.Session != "" { // a browser shows how far it is, and looks at no trailer
			h.Del("Trailer")
			h.Set("Content-Length", strconv.FormatInt(size, 10))
		}
	}
	c.Status(status)
	out := &lineWriter{w: c.Writer, control: http.NewResponseController(c.Writer), session: w.session}
	var digest []byte
	sum := sha256.New()
	to := io.Writer(out)
	if front.CallerOf(c).Session != "" {
		to = io.MultiWriter(out, sum)
	}
	n, err := uplink.ReceiveBulk(stream, to, func(d []byte) error {
		digest = d
		if got := sum.Sum(nil); front.CallerOf(c).Session != "" && !bytes.Equal(got, d) {
			return fmt.Errorf("what came is not what was sent: its SHA-256 is %x", got)
		}
		return nil
	})
	if err == nil && size >= 0 && n != size {
		err = fmt.Errorf("%d of %d bytes came", n, size)
	}
	if err != nil {
		w.finish(fmt.Sprintf("broke off after %d bytes: %v", n, err))
		panic(http.ErrAbortHandler) // so that the caller does not take it for whole
	}
	h.Set(transfer.DigestHeader, transfer.ContentDigest(digest))
	w.finish(fmt.Sprintf("done: %d bytes, SHA-256 %s", n, hex.EncodeToString(digest)))
}
