package post

import (
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
)

func TestPublic(t *testing.T) {
	for address, want := range map[string]bool{
		"8.8.8.8": true, "2606:4700::1111": true, "::ffff:8.8.8.8": true,
		"127.0.0.1": false, "::1": false, "0.0.0.0": false, "::": false, "10.1.2.3": false, "172.16.0.1": false, "192.168.1.1": false,
		"169.254.169.254": false,
		"fe80::1":         false, "fe80::1%eth0": false, "fd00::1": false, "100.64.0.1": false, "::ffff:127.0.0.1": false,
		"::ffff:169.254.169.254": false, "64:ff9b::a9fe:a9fe": false,
		"2002:7f00:1::": false, "224.0.0.1": false, "255.255.255.255": false, "198.51.100.7": false, "240.0.0.1": false,
		"2001:db8::1": false,
	} {
		if got := Public(netip.MustParseAddr(address)); got != want {
			t.Errorf("%s is public: %t", address, got)
		}
	}
}

// Finding 12: a webhook told what listens on this computer and beside it.
func TestWebhooksTellNothingOfInside(t *testing.T) {
	calls := 0
	open := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { calls++; http.NotFound(w, nil) }))
	defer open.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed := l.Addr().String()
	l.Close()
	say := map[string]bool{}
	for _, target := range []string{open.URL, strings.Replace(open.URL, "http:", "https:", 1), "http://" + closed, "https://" + closed,
		"https://localhost:" + closed[strings.LastIndex(closed, ":")+1:],
		"https://[::1]:1", "https://169.254.169.254/latest", "http://0.0.0.0:1", "https://nosuch.invalid"} {
		status, err := Post{}.Send(t.Context(), target, []byte("k"), "id", []Event{{}})
		if err == nil || status != "" {
			t.Errorf("%s: %q, %v", target, status, err)
			continue
		}
		say[err.Error()] = true
	}
	if len(say) != 1 || calls != 0 {
		t.Errorf("%d calls, and told are %v", calls, say)
	}
	// What the service was started with is reached, by plain HTTP too, and no redirect from it is followed.
	elsewhere := httptest.NewServer(http.RedirectHandler("http://"+closed, http.StatusFound))
	defer elsewhere.Close()
	p := Post{Reach: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}
	if status, err := p.Send(t.Context(), open.URL, []byte("k"), "id", []Event{{}}); err == nil || !strings.HasPrefix(status, "404") {
		t.Errorf("what is listed: %q, %v", status, err)
	}
	if status, _ := p.Send(t.Context(), elsewhere.URL, []byte("k"), "id", []Event{{}}); !strings.HasPrefix(status, "302") {
		t.Errorf("a redirect: %q", status)
	}
}
