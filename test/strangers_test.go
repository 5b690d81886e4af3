package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"moorwatch.example/service/authority"
)

// apart is a service in a process of its own, whose memory is its own.
type apart struct {
	url, address string
	setUp, ca    string // the first owner's link, and the file of the service's authority
	pid          int
	trust        *x509.CertPool
}

func serveApart(t *testing.T) *apart {
	t.Helper()
	database, owner := emptyDatabase(t)
	dir, address := t.TempDir(), freeAddress(t)
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "MOORWATCH_TEST_SERVICE="+database, "MOORWATCH_TEST_OWNER="+owner, "MOORWATCH_TEST_LISTEN="+address,
		"MOORWATCH_TEST_CONTENTS="+t.TempDir(), "MOORWATCH_TEST_AUTHORITY="+dir)
	out := must(cmd.StdoutPipe())(t)
	cmd.Stderr = os.Stderr
	check(cmd.Start())(t)
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	a := &apart{address: address, pid: cmd.Process.Pid, trust: x509.NewCertPool()}
	if _, err := fmt.Fscan(out, &a.url, &a.setUp); err != nil {
		t.Fatal(err)
	}
	a.ca = filepath.Join(dir, authority.File)
	if !a.trust.AppendCertsFromPEM(must(os.ReadFile(filepath.Join(dir, authority.File)))(t)) {
		t.Fatal("the service's authority cannot be read")
	}
	return a
}

// memory is what the service has of its own, in bytes (RssAnon, proc(5)).
func (a *apart) memory(t *testing.T) int64 {
	t.Helper()
	for line := range strings.Lines(string(must(os.ReadFile(fmt.Sprintf("/proc/%d/status", a.pid)))(t))) {
		if f := strings.Fields(line); len(f) == 3 && f[0] == "RssAnon:" {
			return must(strconv.ParseInt(f[1], 10, 64))(t) << 10
		}
	}
	t.Fatal("its memory is not told")
	return 0
}

// dial connects from an address of loopback.
func (a *apart) dial(from string, protocols ...string) (*tls.Conn, error) {
	d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 20 * time.Second}
	return tls.DialWithDialer(d, "tcp", a.address, &tls.Config{RootCAs: a.trust, ServerName: "127.0.0.1", NextProtos: protocols})
}

// client calls from an address of loopback.
func (a *apart) client(from string) *http.Client {
	return &http.Client{Timeout: 30 * time.Second,
		Transport: &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: a.trust},
			DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext}}
}

const signInPath = "/api/v1/session"

// Finding 4: whoever was not signed in could have the service hold what they sent for as long as they
// liked: 20 unfinished bodies of 4 MiB were still held after 150 s.
func TestStrangersTakeNoMemory(t *testing.T) {
	t.Parallel()
	const ceiling = 48 << 20
	a := serveApart(t)
	half := func(length, sent int) func(t *testing.T) { // bodies that stop in the middle, on many connections
		return func(t *testing.T) {
			var all sync.WaitGroup
			head := fmt.Sprintf("POST %s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n", signInPath,
				length)
			for range 100 {
				all.Go(func() {
					c, err := a.dial("127.0.0.1")
					if err != nil {
						return
					}
					defer c.Close()
					io.WriteString(c, head)
					c.SetWriteDeadline(time.Now().Add(5 * time.Second))
					c.Write(bytes.Repeat([]byte(" "), sent))
					c.SetReadDeadline(time.Now().Add(60 * time.Second))
					if _, err := io.Copy(io.Discard, c); err != nil && strings.Contains(err.Error(), "timeout") {
						t.Error("a body that stopped in the middle is still waited for after a minute")
					}
				})
			}
			all.Wait()
		}
	}
	for _, attack := range []struct {
		name string
		do   func(t *testing.T)
	}{
		{"large bodies", half(4<<20, 3<<20)},
		{"slow bodies", half(60<<10, 50<<10)},
		{"slow headers", func(t *testing.T) {
			var all sync.WaitGroup
			for range 300 {
				all.Go(func() {
					c, err := a.dial("127.0.0.1")
					if err != nil {
						return // turned away
					}
					defer c.Close()
					fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nX-Long: %s", signInPath, strings.Repeat("a", 20<<10))
					c.SetReadDeadline(time.Now().Add(60 * time.Second))
					if _, err := io.Copy(io.Discard, c); err != nil && strings.Contains(err.Error(), "timeout") {
						t.Error("headers that stopped in the middle are still waited for after a minute")
					}
				})
			}
			all.Wait()
		}},
		{"many streams", func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			var all sync.WaitGroup
			for range 4 { // each on a connection of its own
				k := a.client("127.0.0.1")
				for range 250 {
					all.Go(func() {
						r, w := io.Pipe()
						go func() { w.Write(bytes.Repeat([]byte(" "), 40<<10)); <-ctx.Done(); w.Close() }()
						q := must(http.NewRequestWithContext(ctx, http.MethodPost, a.url+signInPath, r))(t)
						q.Header.Set("Content-Type", "application/json")
						if answer, err := k.Do(q); err == nil {
							io.Copy(io.Discard, answer.Body)
							answer.Body.Close()
						}
					})
				}
			}
			all.Wait()
		}},
		{"compression", func(t *testing.T) {
			var b bytes.Buffer
			w := gzip.NewWriter(&b)
			w.Write(make([]byte, 40<<20))
			w.Close()
			a.refuses(t, b.Bytes(), "gzip")
		}},
		{"deep", func(t *testing.T) {
			for _, open := range []string{"[", `{"a":`} {
				a.refuses(t, bytes.Repeat([]byte(open), (60<<10)/len(open)), "")
			}
		}},
	} {
		before := a.memory(t)
		over, most := make(chan struct{}), int64(0)
		go func() { attack.do(t); close(over) }()
		for busy := true; busy; {
			select {
			case <-over:
				busy = false
			case <-time.After(100 * time.Millisecond):
			}
			most = max(most, a.memory(t)-before)
		}
		t.Logf("%s: %.1f MB more at the most", attack.name, float64(most)/(1<<20))
		if most > ceiling {
			t.Errorf("%s: the service took %d MB more, and may %d", attack.name, most>>20, ceiling>>20)
		}
		if answer, err := a.client("127.0.0.2").Post(a.url+signInPath, "application/json",
			strings.NewReader(fmt.Sprintf(`{"email": "%x@b.example", "password": "x"}`, attack.name))); err != nil ||
			answer.StatusCode != http.StatusUnauthorized {
			t.Errorf("after %s somebody else is answered with %v, %v", attack.name, answer, err)
		}
	}
}

// refuses sends a body that must be refused.
func (a *apart) refuses(t *testing.T, body []byte, encoding string) {
	t.Helper()
	q := must(http.NewRequestWithContext(t.Context(), http.MethodPost, a.url+signInPath, bytes.NewReader(body)))(t)
	q.Header.Set("Content-Type", "application/json")
	if encoding != "" {
		q.Header.Set("Content-Encoding", encoding)
	}
	answer, err := a.client("127.0.0.1").Do(q)
	if err != nil {
		t.Error(err)
		return
	}
	answer.Body.Close()
	if answer.StatusCode < 400 || answer.StatusCode >= 500 {
		t.Errorf("it is answered with %s", answer.Status)
	}
}

// While a stranger holds as many connections and requests as they may, somebody at another address signs in.
func TestOthersAreServedMeanwhile(t *testing.T) {
	t.Parallel()
	a := serveApart(t)
	stop := make(chan struct{})
	defer close(stop)
	var opened sync.WaitGroup
	for range 200 {
		opened.Add(1)
		go func() {
			c, err := a.dial("127.0.0.1")
			if err == nil {
				defer c.Close()
				fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{", signInPath)
			}
			opened.Done()
			<-stop
		}()
	}
	opened.Wait()
	began := time.Now()
	answer, err := a.client("127.0.0.3").Post(a.url+signInPath, "application/json",
		strings.NewReader(`{"email": "a@b.example", "password": "x"}`))
	if err != nil || answer.StatusCode != http.StatusUnauthorized {
		t.Fatalf("%v, %v", answer, err)
	}
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("somebody else waited %s", took)
	}
}
