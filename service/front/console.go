package front

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// fileWithin is how long a caller has to take a file of the console.
const fileWithin = 2 * time.Minute

// console serves the built files; any other address is a page of the console's own routing.
func console(c *gin.Context, files fs.FS) {
	http.NewResponseController(c.Writer).SetWriteDeadline(time.Now().Add(fileWithin))
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if info, err := fs.Stat(files, name); err != nil || info.IsDir() {
		if strings.HasPrefix(name, "assets/") {
			c.String(http.StatusNotFound, "no such file\n")
			return
		}
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") { // their names carry a digest of their content
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	http.ServeFileFS(c.Writer, c.Request, files, packed(c, files, name))
}

// packings are how the build compressed its texts, the smallest first, with what their files end in.
var packings = [...]struct{ encoding, ending string }{{"br", ".br"}, {"gzip", ".gz"}}

// packed is the name of the compressed copy of a file that the caller takes, or its own where there is none. The console
// holds no secrets, so that compressing it tells nobody anything.
func packed(c *gin.Context, files fs.FS, name string) string {
	for _, p := range packings {
		if _, err := fs.Stat(files, name+p.ending); err != nil {
			continue
		}
		c.Header("Vary", "Accept-Encoding")
		if accepts(c.Request, p.encoding) {
			c.Header("Content-Type", mime.TypeByExtension(path.Ext(name)))
			c.Header("Content-Encoding", p.encoding)
			return name + p.ending
		}
	}
	return name
}

// accepts tells whether a request names an encoding, and not with a weight of 0 (RFC 9110, 12.5.3).
func accepts(r *http.Request, encoding string) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if !strings.EqualFold(strings.TrimSpace(name), encoding) {
			continue
		}
		_, q, ok := strings.Cut(weight, "=")
		n, err := strconv.ParseFloat(strings.TrimSpace(q), 64)
		return !ok || err != nil || n > 0
	}
	return false
}
