package test

import (
	"crypto/tls"
	"net/http"
	"strings"
	"testing"
)

// What browsers and scanners see of the service: TLS 1.3, and headers
// that keep its pages to themselves.
func TestTransportAndHeaders(t *testing.T) {
	t.Parallel()
	a := serveApart(t)
	dial := func(change func(*tls.Config)) (*tls.Conn, error) {
		c := &tls.Config{RootCAs: a.trust, ServerName: "127.0.0.1"}
		change(c)
		return tls.Dial("tcp", a.address, c)
	}
	// with its own authority
	for version, want := range map[uint16]bool{tls.VersionTLS11: false, tls.VersionTLS12: false, tls.VersionTLS13: true} {
		c, err := dial(func(c *tls.Config) { c.MinVersion, c.MaxVersion = tls.VersionTLS10, version })
		if (err == nil) != want {
			t.Errorf("%s: %v", tls.VersionName(version), err)
		}
		if err == nil {
			c.Close()
		}
	}
	for _, path := range []string{"/", "/devices/x", "/api/v1/me", "/api/v1/nosuch", "/healthz", "/metrics", "/assets/nosuch.js"} {
		answer := must(a.client("127.0.0.1").Get(a.url + path))(t)
		answer.Body.Close()
		policy := answer.Header.Get("Content-Security-Policy")
		for _, want := range []string{"default-src 'self'", "object-src 'none'", "base-uri 'none'", "frame-ancestors 'none'",
			"form-action 'self'"} {
			if !strings.Contains(policy, want) {
				t.Errorf("%s: its policy is %q, without %s", path, policy, want)
			}
		}
		if strings.Contains(policy, "script-src") || strings.Contains(policy, "unsafe-eval") || strings.Contains(policy, "*") {
			t.Errorf("%s: its policy lets scripts of others run: %q", path, policy)
		}
		for name, want := range map[string]string{"X-Content-Type-Options": "nosniff", "Referrer-Policy": "same-origin",
			"Cross-Origin-Opener-Policy": "same-origin", "Cross-Origin-Resource-Policy": "same-origin",
			"Strict-Transport-Security": "max-age=31536000"} {
			if got := answer.Header.Get(name); got != want {
				t.Errorf("%s: %s is %q", path, name, got)
			}
		}
		if strings.HasPrefix(path, "/api/") && answer.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s may be kept", path)
		}
		if answer.Header.Get("Server") != "" || answer.Header.Get("X-Powered-By") != "" {
			t.Errorf("%s tells what serves it", path)
		}
	}
	answer := must(a.client("127.0.0.1").Post(a.url+signInPath, "text/plain", http.NoBody))(t)
	answer.Body.Close()
	if answer.StatusCode != http.StatusBadRequest && answer.StatusCode != http.StatusUnsupportedMediaType {
		t.Errorf("a form of another page is answered with %s", answer.Status)
	}
}
