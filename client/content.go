package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/pack"
)

// StoreContent sends a file to the content store, unless that has it, and returns it as a package names
// it. A transfer that is cut goes on from where it stands; it is given up once nothing went forward for
// PatienceMost. progress may be nil.
func (c *Client) StoreContent(ctx context.Context, path string, progress Progress) (f pack.File, err error) {
	file, err := os.Open(path)
	if err != nil {
		return f, err
	}
	defer file.Close()
	sum := sha256.New()
	size, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{file}, make([]byte, 256<<10))
	if err != nil {
		return f, err
	}
	f = pack.File{Name: filepath.Base(path), SHA256: hex.EncodeToString(sum.Sum(nil)), Size: size}
	err = keepTrying(ctx, func(ctx context.Context) (bool, error) {
		x, err := Made(c.AddContentWithResponse(ctx, api.NewContent{Sha256: f.SHA256, Name: f.Name, Size: size}))
		if err != nil || x.Whole {
			return false, err
		}
		if _, err := file.Seek(x.Have, io.SeekStart); err != nil {
			return false, err
		}
		sent := &counted{r: io.LimitReader(file, size-x.Have), at: x.Have, size: size, progress: progress}
		r, err := http.NewRequestWithContext(ctx, http.MethodPut, fmt.Sprintf("%s/api/v1/contents/%s?offset=%d", c.url, f.SHA256, x.Have),
			sent)
		if err != nil {
			return false, err
		}
		r.ContentLength = size - x.Have
		r.Header.Set("Content-Type", "application/octet-stream")
		c.authorise(r.Header)
		answer, err := c.slow.Do(r)
		if err != nil {
			return sent.at > x.Have, err
		}
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return sent.at > x.Have, Refusal(answer)
		}
		io.Copy(io.Discard, answer.Body)
		return true, nil
	})
	return f, err
}

// counted tells how much of a body was read.
type counted struct {
	r        io.Reader
	at, size int64
	progress Progress
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.at += int64(n)
	if c.progress != nil && (err == nil || errors.Is(err, io.EOF)) {
		c.progress(c.at, c.size)
	}
	return n, err
}
