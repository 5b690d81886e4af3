package front

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"moorwatch.example/contract/server"
	"moorwatch.example/core/access"
	"moorwatch.example/service/doors"
)

// Parts is what the router joins.
type Parts struct {
	API      server.ServerInterface
	Sessions Sessions
	Places   Places
	Console  fs.FS // the built console, with index.html
	// Ready says why the service cannot serve at present, or nil.
	Ready   func(r *http.Request) error
	Metrics *prometheus.Registry
	Doors   *doors.Doors
	Audit   Recorder // of what is refused
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
	gate, err := newGate(p)
	if err != nil {
		return nil, err
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.UseRawPath = true   // a name in a path may contain a slash, escaped
	proxies := []string{} // of other connections the address is their own
	for _, proxy := range p.Doors.Proxies() {
		proxies = append(proxies, proxy.String())
	}
	r.RemoteIPHeaders = []string{"X-Forwarded-For"}
	if err := r.SetTrustedProxies(proxies); err != nil {
		return nil, err
	}
	seconds := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "moorwatch_request_duration_seconds",
		Help: "Time to answer a request of the API.", Buckets: []float64{.001, .005, .02, .1, .5, 2, 10}}, []string{"path", "code"})
	p.Metrics.MustRegister(seconds, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	r.Use(recoverPanic, mark(p.Doors), headers)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", func(c *gin.Context) {
		if err := p.Ready(c.Request); err != nil {
			c.String(http.StatusServiceUnavailable, "not ready: the database does not answer\n")
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
	metrics := gin.WrapH(promhttp.HandlerFor(p.Metrics, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	r.GET("/metrics", func(c *gin.Context) {
		caller, err := p.Sessions.Authenticate(c.Request)
		switch {
		case err != nil:
			Fail(c, err)
		case caller == nil:
			Fail(c, Problem(http.StatusUnauthorized, "You are not signed in.",
				"Send an API token that may read metrics, as Authorization: Bearer."))
		case !caller.Rights.Everywhere(access.ServiceMetrics):
			Fail(c, Lacking(access.ServiceMetrics))
		default:
			metrics(c)
		}
	})
	// The gate must be a middleware of the group, not of the operations: those parse parameters first.
	group := r.Group("", timed(seconds), gate.check)
	server.RegisterHandlersWithOptions(group, p.API,
		server.GinServerOptions{BaseURL: Base, ErrorHandler: func(c *gin.Context, err error, status int) {
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
		Fail(c, Problem(http.StatusMethodNotAllowed, "This cannot be done with "+c.Request.Method+".",
			"See the contract for what this address offers."))
	})
	return &Router{r, gate}, nil
}

func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", contentPolicy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
	if secure(c.Request) {
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
		slog.Debug("request", "method", c.Request.Method, "path", c.FullPath(), "status", c.Writer.Status(), "took", took, "from",
			c.ClientIP())
	}
}
