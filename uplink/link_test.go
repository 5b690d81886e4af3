package uplink

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"moorwatch.example/contract/link"
)

// service accepts links of one device on a TLS server, and hands them on.
func service(t *testing.T, key ed25519.PublicKey, admit func(device, address string, _ link.Proof) (string, error)) (*httptest.Server,
	<-chan *Link) {
	t.Helper()
	links := make(chan *Link, 8)
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l, err := Accept(w, r, "moor", func(device string) (ed25519.PublicKey, error) {
			if device != "van-board" {
				return nil, errors.New("unknown")
			}
			return key, nil
		}, admit)
		if err == nil {
			links <- l
		}
	}))
	t.Cleanup(s.Close)
	return s, links
}

func keys(t *testing.T) (ed25519.PublicKey, ed25519.PrivateKey) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return public, private
}

func anyone(string, string, link.Proof) (string, error) { return "", nil }

func dialer(s *httptest.Server, device string, key ed25519.PrivateKey) Dialer {
	return Dialer{URL: s.URL, Device: device, Key: key, TLS: s.Client().Transport.(*http.Transport).TLSClientConfig}
}

func pair(t *testing.T) (device, far *Link) {
	t.Helper()
	public, private := keys(t)
	s, links := service(t, public, anyone)
	d, err := dialer(s, "van-board", private).Dial(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d, <-links
}

// Bytes of every length arrive as they were sent, both ways at once.
func TestStreams(t *testing.T) {
	device, far := pair(t)
	if far.Device != "van-board" {
		t.Errorf("the far end is %q", far.Device)
	}
	go func() {
		for {
			c, err := device.Listener().Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				io.Copy(c, c)
			}()
		}
	}()
	for _, n := range []int{0, 1, 11, 12, 13, 125, 126, 511, 512, 513, maxFrame - 1, maxFrame, maxFrame + 1, 3 << 20} {
		c, err := far.Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		sent := make([]byte, n)
		rand.Read(sent)
		go c.Write(sent)
		got := make([]byte, n)
		if _, err := io.ReadFull(c, got); err != nil || !bytes.Equal(got, sent) {
			t.Fatalf("%d bytes came back wrong: %v", n, err)
		}
		c.Close()
	}
	if took, err := far.Ping(t.Context()); err != nil || took > time.Second {
		t.Errorf("ping: %s, %v", took, err)
	}
	device.Close()
	select {
	case <-far.Done():
	case <-time.After(2 * time.Second):
		t.Error("the far end does not notice within 2 s that the link was closed")
	}
}

func TestProofs(t *testing.T) {
	public, private := keys(t)
	_, other := keys(t)
	s, _ := service(t, public, func(string, string, link.Proof) (string, error) {
		return "", &link.Refusal{Status: http.StatusConflict, Reason: "another computer"}
	})
	for name, c := range map[string]struct {
		device string
		key    ed25519.PrivateKey
		status int
	}{
		"forged key":     {"van-board", other, http.StatusUnauthorized},
		"unknown device": {"van-bored", private, http.StatusUnauthorized},
		"not admitted":   {"van-board", private, http.StatusConflict},
	} {
		_, err := dialer(s, c.device, c.key).Dial(t.Context())
		var refusal *link.Refusal
		if !errors.As(err, &refusal) || refusal.Status != c.status || refusal.Reason == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
	now := time.Now()
	challenge := link.Challenge{Nonce: "n", Audience: "moor", Time: now}
	find := func(string) (ed25519.PublicKey, error) { return public, nil }
	good, err := prove("van-board", private, challenge)
	if err != nil {
		t.Fatal(err)
	}
	if device, err := verify(good, challenge, now, find); err != nil || device != "van-board" {
		t.Errorf("a good proof: %q, %v", device, err)
	}
	for name, bad := range map[string]func() (string, link.Challenge, time.Time){
		"another nonce": func() (string, link.Challenge, time.Time) { c := challenge; c.Nonce = "m"; return good, c, now },
		"another audience": func() (string, link.Challenge, time.Time) {
			c := challenge
			c.Audience = "fen"
			return good, c, now
		},
		"too late": func() (string, link.Challenge, time.Time) { return good, challenge, now.Add(2 * time.Minute) },
		"unsigned": func() (string, link.Challenge, time.Time) { return "eyJhbGciOiJub25lIn0.e30.", challenge, now },
		"garbage":  func() (string, link.Challenge, time.Time) { return "\x00", challenge, now },
	} {
		token, c, at := bad()
		if _, err := verify(token, c, at, find); err == nil {
			t.Errorf("%s: the proof holds", name)
		}
	}
}

func TestPinned(t *testing.T) {
	public, private := keys(t)
	s, links := service(t, public, anyone)
	d := dialer(s, "van-board", private)
	d.TLS = Pinned(Fingerprint(s.Certificate()))
	if l, err := d.Dial(t.Context()); err != nil {
		t.Errorf("the right authority: %v", err)
	} else {
		l.Close()
		(<-links).Close()
	}
	d.TLS = Pinned("AAAAAAAAAAAAAAAAAAAAAA")
	if _, err := d.Dial(t.Context()); err == nil || !strings.Contains(err.Error(), "not the service") {
		t.Errorf("a wrong authority: %v", err)
	}
}

// A peer that says nothing, or too much, is given up; so is one that is cancelled.
func TestGreetingIsBounded(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	began := time.Now()
	if _, err := (Dialer{URL: "http://" + l.Addr().String(), TLS: &tls.Config{}}).Dial(ctx); err == nil ||
		time.Since(began) > 5*time.Second {
		t.Errorf("a mute service: %v after %s", err, time.Since(began))
	}
	if err := receive(strings.NewReader(strings.Repeat("x", maxGreeting+1)+"\n"), &struct{}{}); err == nil {
		t.Error("a greeting of any length is read")
	}
}

func TestServiceURL(t *testing.T) {
	for address, ok := range map[string]bool{"https://moorwatch.example": true, "http://127.0.0.1:8460": true, "http://[::1]:1": true,
		"http://localhost":         true,
		"http://moorwatch.example": false, "ftp://moorwatch.example": false, "moorwatch.example": false, "": false} {
		if _, err := ServiceURL(address); (err == nil) != ok {
			t.Errorf("%q: %v", address, err)
		}
	}
}

// TestMarks has the service give a mark, which the device has kept before it is connected and shows the next time.
func TestMarks(t *testing.T) {
	public, private := keys(t)
	shown := make(chan string, 3)
	s, links := service(t, public, func(_, _ string, p link.Proof) (string, error) {
		shown <- p.Mark
		return "after " + p.Mark, nil
	})
	kept := ""
	for _, want := range []string{"", "after ", "after after "} {
		d := dialer(s, "van-board", private)
		d.Mark, d.Keep = kept, func(mark string) error { kept = mark; return nil }
		l, err := d.Dial(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		l.Close()
		(<-links).Close()
		if got := <-shown; got != want || kept != "after "+want {
			t.Errorf("it showed %q and kept %q, want %q", got, kept, want)
		}
	}
	d := dialer(s, "van-board", private)
	d.Keep = func(string) error { return errors.New("the disk is full") }
	if _, err := d.Dial(t.Context()); err == nil || !strings.Contains(err.Error(), "disk is full") {
		t.Errorf("a mark that cannot be kept: %v", err)
	}
}
