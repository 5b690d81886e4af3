package portable

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/device"
)

func probe(t *testing.T, p *Prober, q device.Probe) device.ProbeResult {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	return p.Probe(ctx, q)
}

func TestReach(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed := l.Addr().String()
	l.Close()
	well := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "moor") }))
	defer well.Close()
	ill := httptest.NewServer(http.NotFoundHandler())
	defer ill.Close()
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	p := &Prober{}
	for _, c := range []struct {
		kind, target string
		ok           bool
		detail       string
	}{
		{device.ProbeTCP, strings.TrimPrefix(well.URL, "http://"), true, ""}, {device.ProbeTCP, closed, false, "refused"},
		{device.ProbeHTTP, well.URL, true, ""}, {device.ProbeHTTP, ill.URL, false, "404"},
		{device.ProbeHTTP, secure.URL, false, "certificate"},
		{device.ProbeHTTP, "moor", false, ""}, {device.ProbeDNS, "localhost", true, ""},
		{device.ProbeDNS, "nosuch.invalid", false, "does not resolve"},
		{device.ProbePing, "127.0.0.1", true, ""}, {"nonsense", "x", false, "knows no probe"},
		{device.ProbeService, "x", false, "no services"},
	} {
		r := probe(t, p, device.Probe{Kind: c.kind, Target: c.target})
		if c.kind == device.ProbePing && strings.Contains(r.Detail, "may not send ICMP") {
			continue // not everyone may
		}
		if r.OK != c.ok || !strings.Contains(r.Detail, c.detail) || (r.OK && r.Value < 0) {
			t.Errorf("%s %s: %+v", c.kind, c.target, r)
		}
		if c.target == secure.URL && r.Expires.IsZero() {
			t.Error("a certificate that does not hold has no end")
		}
	}
}

// A log is read from where it was read last: nothing twice, nothing lost, also when it begins anew.
func TestLogProbe(t *testing.T) {
	name := filepath.Join(t.TempDir(), "moor.log")
	write := func(text string, flags int) {
		t.Helper()
		f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|flags, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if _, err := f.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
	p, q := &Prober{}, device.Probe{Kind: device.ProbeLog, Target: name, Pattern: "oops"}
	if r := probe(t, p, q); r.OK {
		t.Errorf("a file that is not there: %+v", r)
	}
	write("oops of before\n", os.O_APPEND)
	for _, c := range []struct {
		text  string
		flags int
		lines float64 // that match, since the last look
	}{{"", os.O_APPEND, 0}, {"oops 1\nwell\noops 2\n", os.O_APPEND, 2}, {"oops 3", os.O_APPEND, 0}, {" ends\n", os.O_APPEND, 1},
		{"oops anew\n", os.O_TRUNC, 1}} {
		write(c.text, c.flags)
		// The rate is over at least ten seconds.
		if r := probe(t, p, q); !r.OK || r.Value != c.lines*6 {
			t.Errorf("after %q: %+v, want %g lines", c.text, r, c.lines)
		}
	}
}
