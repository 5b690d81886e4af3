package front

import (
	"crypto/tls"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"moorwatch.example/service/doors"
)

// Over TLS a session is in a cookie that no neighbouring host, and nobody without TLS, can set; what a request says of
// TLS counts from a proxy that is trusted alone.
func TestCookiesOfAnotherHost(t *testing.T) {
	gin.SetMode(gin.ReleaseMode)
	d := doors.New([]netip.Prefix{netip.MustParsePrefix("192.0.2.0/28")})
	r := gin.New()
	r.Use(mark(d))
	var session, known string
	r.GET("/", func(c *gin.Context) {
		session, known = SessionOf(c.Request), KnownOf(c.Request)
		SetSession(c, "mw-new", time.Hour)
		SetKnown(c, "mw-known", time.Hour)
	})
	for name, k := range map[string]struct {
		from, proto string
		tls, secure bool
	}{
		"loopback":                              {"127.0.0.1:5000", "", false, false},
		"TLS":                                   {"203.0.113.7:5000", "", true, true},
		"TLS to a trusted proxy":                {"192.0.2.3:5000", "https", false, true},
		"TLS to one that is trusted, by IPv6":   {"[::ffff:192.0.2.3]:5000", "https", false, true},
		"a trusted proxy without TLS":           {"192.0.2.3:5000", "http", false, false},
		"somebody who says that it was TLS":     {"203.0.113.7:5000", "https", false, false},
		"a neighbour of the proxy that says so": {"192.0.2.16:5000", "https", false, false},
	} {
		ask := func(cookie string) http.Header {
			w := httptest.NewRecorder()
			q := httptest.NewRequest(http.MethodGet, "http://moor.example/", nil)
			q.RemoteAddr = k.from
			q.Header.Set("Cookie", cookie)
			if k.proto != "" {
				q.Header.Set("X-Forwarded-Proto", k.proto)
			}
			if k.tls {
				q.TLS = &tls.ConnectionState{}
			}
			r.ServeHTTP(w, q)
			return w.Header()
		}
		for i, line := range ask("")["Set-Cookie"] {
			got, err := http.ParseSetCookie(line)
			if err != nil {
				t.Fatal(err)
			}
			if got.Secure != k.secure || strings.HasPrefix(got.Name, "__Host-") != k.secure {
				t.Errorf("%s: %s", name, line)
			}
			if !got.HttpOnly || got.SameSite != http.SameSiteStrictMode || got.Path != "/" || got.Domain != "" {
				t.Errorf("%s: cookie %d can be read or sent elsewhere: %s", name, i+1, line)
			}
		}
		ask(plainCookie + "=planted; " + plainKnownCookie + "=planted")
		if k.secure && session+known != "" || !k.secure && (session != "planted" || known != "planted") {
			t.Errorf("%s: what anybody could have set is a session of %q, a browser of %q", name, session, known)
		}
		ask(plainCookie + "=planted; " + sessionCookie + "=own")
		if session != "own" {
			t.Errorf("%s: the session is %q", name, session)
		}
	}
	w := httptest.NewRecorder()
	c, _ := gin.CreateTestContext(w)
	c.Request = httptest.NewRequest(http.MethodGet, "/", nil)
	if SetSession(c, "", 0); !strings.Contains(w.Header().Get("Set-Cookie"), "Max-Age=0") {
		t.Errorf("a session is not taken back: %s", w.Header().Get("Set-Cookie"))
	}
}
