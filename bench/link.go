package main

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"time"

	"moorwatch.example/contract/link"
	"moorwatch.example/service/authority"
	"moorwatch.example/uplink"
)

const gibibyte = 1 << 30

// link measures the bytes a second over a link alone against TLS alone, both on loopback with
// both ends in this process. The two take turns, and the median of each counts.
func (b *bench) link() error {
	server, fingerprint, err := ownAuthority()
	if err != nil {
		return err
	}
	var raw, linked []float64
	for range 3 {
		r, err := overTLS(server, uplink.Pinned(fingerprint))
		if err != nil {
			return err
		}
		l, err := overLink(b.ctx, server, fingerprint)
		if err != nil {
			return err
		}
		raw, linked = append(raw, r), append(linked, l)
	}
	b.figure("link throughput", median(linked)/1e6, "MB/s", 0.5*median(raw)/1e6, false)
	return nil
}

func median(v []float64) float64 { return quantile(v, 0.5) }

// quantile is the value below which the share p of v lies, 0 to 1.
func quantile(v []float64, p float64) float64 {
	v = slices.Clone(v)
	slices.Sort(v)
	return v[min(int(p*float64(len(v))), len(v)-1)]
}

// rate reads a gibibyte and returns bytes a second.
func rate(r io.Reader) (float64, error) {
	began := time.Now()
	n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, io.LimitReader(r, gibibyte), make([]byte, 256<<10))
	if err == nil && n != gibibyte {
		err = fmt.Errorf("%d of %d bytes came", n, gibibyte)
	}
	return float64(n) / time.Since(began).Seconds(), err
}

func pour(w io.Writer) {
	chunk := make([]byte, 64<<10)
	for range gibibyte / len(chunk) {
		if _, err := w.Write(chunk); err != nil {
			return
		}
	}
}

func overTLS(server, client *tls.Config) (float64, error) {
	l, err := tls.Listen("tcp", "127.0.0.1:0", server)
	if err != nil {
		return 0, err
	}
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			pour(c)
		}
	}()
	client = client.Clone()
	client.ServerName = "127.0.0.1"
	c, err := tls.Dial("tcp", l.Addr().String(), client)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	return rate(c)
}

// linked is a link on loopback with both ends in this process.
type linked struct {
	device, service *uplink.Link
	close           func()
}

func connect(ctx context.Context, server *tls.Config, fingerprint string) (*linked, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	far := make(chan *uplink.Link, 1)
	s := &http.Server{TLSConfig: server, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got, err := uplink.Accept(w, r, "bench", func(string) (ed25519.PublicKey, error) { return public, nil },
			func(string, string, link.Proof) (string, error) { return "", nil })
		if err == nil {
			far <- got
		}
	})}
	go s.ServeTLS(l, "", "")
	near, err := uplink.Dialer{URL: "https://" + l.Addr().String(), Device: "bench", Key: private,
		TLS: uplink.Pinned(fingerprint)}.Dial(ctx)
	if err != nil {
		s.Close()
		return nil, err
	}
	return &linked{near, <-far, func() { near.Close(); s.Close() }}, nil
}

func overLink(ctx context.Context, server *tls.Config, fingerprint string) (float64, error) {
	l, err := connect(ctx, server, fingerprint)
	if err != nil {
		return 0, err
	}
	defer l.close()
	go func() { // the device sends
		if c, err := l.device.Listener().Accept(); err == nil {
			pour(c)
		}
	}()
	c, err := l.service.Open(ctx)
	if err != nil {
		return 0, err
	}
	return rate(c)
}

// ownAuthority makes a certificate for loopback, and the authority that signed it.
func ownAuthority() (server *tls.Config, fingerprint string, err error) {
	dir, err := os.MkdirTemp("", "moorwatch-bench-")
	if err != nil {
		return nil, "", err
	}
	defer os.RemoveAll(dir)
	return authority.Load(dir, []string{"127.0.0.1"}, time.Now())
}
