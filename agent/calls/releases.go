package calls

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"moorwatch.example/core/release"
)

// Releases implements renewal.Service over the connection of now.
type Releases struct{ Service *Current }

// Release implements renewal.Service: GET /release. A service that has none answers 404.
func (r Releases) Release(ctx context.Context) ([]byte, error) {
	var b []byte
	err := r.get(ctx, "/release", func(body io.Reader) (err error) {
		b, err = io.ReadAll(io.LimitReader(body, release.MaxManifest+1))
		return err
	})
	if no, ok := errors.AsType[*Refused](err); ok && no.Status == http.StatusNotFound {
		return nil, nil
	}
	return b, err
}

// Program implements renewal.Service: GET /release/program.
func (r Releases) Program(ctx context.Context, sha256 string, offset int64, w io.Writer) error {
	q := url.Values{"sha256": {sha256}, "offset": {strconv.FormatInt(offset, 10)}}
	return r.get(ctx, "/release/program?"+q.Encode(), func(body io.Reader) error {
		_, err := io.Copy(w, body)
		return err
	})
}

// get calls the service, and gives up when the connection of now ends.
func (r Releases) get(ctx context.Context, path string, take func(io.Reader) error) error {
	service, ctx, cancel, err := r.Service.During(ctx)
	if err != nil {
		return err
	}
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://service"+path, nil)
	if err != nil {
		return err
	}
	answer, err := service.client.Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return RefusalOf(answer)
	}
	if err := take(answer.Body); err != nil {
		return fmt.Errorf("reading the service's answer: %w", err)
	}
	return nil
}
