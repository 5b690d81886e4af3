package front

import (
	"net/http/httptest"
	"testing"
	"testing/fstest"

	"github.com/gin-gonic/gin"
)

// The console's files go out as small as the browser takes them, each as what it is.
func TestConsoleFiles(t *testing.T) {
	gin.SetMode(gin.TestMode)
	files := fstest.MapFS{"index.html": {Data: []byte("page")}, "index.html.gz": {Data: []byte("page.gz")},
		"assets/a.js": {Data: []byte("script")}, "assets/a.js.br": {Data: []byte("script.br")},
		"assets/a.js.gz":    {Data: []byte("script.gz")},
		"assets/font.woff2": {Data: []byte("font")}}
	for _, c := range []struct {
		path, takes       string
		code              int
		body, kind, coded string
	}{
		{"/assets/a.js", "gzip, deflate, br", 200, "script.br", "text/javascript; charset=utf-8", "br"},
		{"/assets/a.js", "gzip", 200, "script.gz", "text/javascript; charset=utf-8", "gzip"},
		{"/assets/a.js", "br;q=0, gzip;q=0.5", 200, "script.gz", "text/javascript; charset=utf-8", "gzip"},
		{"/assets/a.js", "", 200, "script", "text/javascript; charset=utf-8", ""},
		{"/assets/font.woff2", "br", 200, "font", "font/woff2", ""},
		{"/assets/nosuch.js", "br", 404, "no such file\n", "text/plain; charset=utf-8", ""},
		{"/devices/7", "br, gzip", 200, "page.gz", "text/html; charset=utf-8", "gzip"},
		{"/a/../../assets/../index.html", "", 400, "invalid URL path\n", "text/plain; charset=utf-8", ""},
	} {
		w := httptest.NewRecorder()
		g, _ := gin.CreateTestContext(w)
		g.Request = httptest.NewRequest("GET", "http://moorwatch.example/", nil)
		g.Request.URL.Path = c.path
		g.Request.Header.Set("Accept-Encoding", c.takes)
		console(g, files)
		h := w.Header()
		if w.Code != c.code || w.Body.String() != c.body || h.Get("Content-Type") != c.kind || h.Get("Content-Encoding") != c.coded {
			t.Errorf("%s for %q: %d %q %v", c.path, c.takes, w.Code, w.Body, h)
		}
	}
}
