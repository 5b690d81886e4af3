package front

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"moorwatch.example/contract/api"
)

// Parts is what the router joins.
type Parts struct {
	API      api.ServerInterface
	Sessions Sessions
	Places   Places
	Console  fs.FS // the built console, with index.html
	// Ready says why the service cannot serve at present, or nil.
	Ready   func(r *http.Request) error
	Metrics *prometheus.Registry
}

// contentPolicy lets the console run its own files alone. Styles may be set by script: the
// terminal and the charts do so.
const contentPolicy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src 'self'; " +
	"object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// Router is the handler of everything people and programs call.
type Router struct {
	http.Handler
	gate *gate
}

// Review ends the requests of a person, or of everybody where it is uuid.Nil, who may no longer make
// them: streams, shells and screens too. It is called after what they may do has changed.
func (r *Router) Review(ctx context.Context, person uuid.UUID) { r.gate.review(ctx, person) }

// Run looks after requests that last until ctx ends.
func (r *Router) Run(ctx context.Context) { r.gate.keepReviewing(ctx) }

// NewRouter builds it.
func NewRouter(p Parts) (*Router, error) {
	gate, err := newGate(p.Sessions, p.Places)
	if err != nil {
		return nil, err
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.UseRawPath = true                              // a name in a path may contain a slash, escaped
	if err := r.SetTrustedProxies(nil); err != nil { // addresses are those of connections
		return nil, err
	}
	seconds := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "moorwatch_request_duration_seconds",
		Help: "Time to answer a request of the API.", Buckets: []float64{.001, .005, .02, .1, .5, 2, 10}}, []string{"path", "code"})
	p.Metrics.MustRegister(seconds, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	r.Use(recoverPanic, headers)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", func(c *gin.Context) {
		if err := p.Ready(c.Request); err != nil {
			c.String(http.StatusServiceUnavailable, "not ready: the database does not answer\n")
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
	r.GET("/metrics", gin.WrapH(promhttp.HandlerFor(p.Metrics, promhttp.HandlerOpts{EnableOpenMetrics: true})))
	// The gate must be a middleware of the group, not of the operations: those parse parameters first.
	group := r.Group("", timed(seconds), gate.check)
	api.RegisterHandlersWithOptions(group, p.API, api.GinServerOptions{BaseURL: Base, ErrorHandler: func(c *gin.Context, err error, status int) {
		Fail(c, Problem(status, "The request is not as it should be.", err.Error()))
	}})
	r.NoRoute(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/api/") {
			Fail(c, NotFound("operation"))
			return
		}
		console(c, p.Console)
	})
	r.NoMethod(func(c *gin.Context) {
		Fail(c, Problem(http.StatusMethodNotAllowed, "This cannot be done with "+c.Request.Method+".", "See the contract for what this address offers."))
	})
	return &Router{r, gate}, nil
}

// console serves the built files; any other address is a page of the console's own routing.
func console(c *gin.Context, files fs.FS) {
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
	http.ServeFileFS(c.Writer, c.Request, files, name)
}

func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", contentPolicy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
	if c.Request.TLS != nil {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.Next()
}

func recoverPanic(c *gin.Context) {
	defer func() {
		if v := recover(); v != nil {
			if v == http.ErrAbortHandler {
				panic(v)
			}
			slog.Error("panic in a request", "path", c.FullPath(), "panic", v)
			if !c.Writer.Written() {
				Fail(c, Problem(http.StatusInternalServerError, "The service failed.", "The reason is in its log."))
			}
			c.Abort()
		}
	}()
	c.Next()
}

func timed(seconds *prometheus.HistogramVec) gin.HandlerFunc {
	return func(c *gin.Context) {
		start := time.Now()
		c.Next()
		took := time.Since(start)
		seconds.WithLabelValues(c.FullPath(), http.StatusText(c.Writer.Status())).Observe(took.Seconds())
		slog.Debug("request", "method", c.Request.Method, "path", c.FullPath(), "status", c.Writer.Status(), "took", took, "from", c.ClientIP())
	}
}
