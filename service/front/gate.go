package front

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/server"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/service/doors"
)

// CSRFHeader carries the token that a change made by cookie needs.
const CSRFHeader = "X-Moorwatch-Csrf"

// maxBody is the most a request's body may hold, in bytes.
const maxBody = 4 << 20

// Base is where the contract's paths begin.
const Base = "/api/v1"

// gate stands before every operation of the contract.
type gate struct {
	routes   map[string]*operation // by method and Gin's path
	sessions Sessions
	places   Places
	calls    calls
	doors    *doors.Doors
	refusals refusals
}

// Places tells where devices stand among the scopes that roles are held at; the zero place for one
// that it does not know.
type Places interface {
	Place(ctx context.Context, device uuid.UUID) (health.Place, error)
}

// reach is where the permission for an operation must be held.
type reach string

const (
	atDevice   reach = "device"     // at the device that the path names
	everywhere reach = "everywhere" // at every place
	within     reach = "within"     // anywhere: its handler looks to what the caller may see
)

type operation struct {
	permission access.Permission
	reach      reach
	route      *routers.Route
	recent     bool // it asks for a recent proof
	stream     bool // its body is of any length, and its handler's to read
}

// newGate reads the contract. It fails when an operation names no known permission, or not where it
// must be held, so that none is ever open by oversight.
func newGate(p Parts) (*gate, error) {
	spec, err := server.GetSpec()
	if err != nil {
		return nil, fmt.Errorf("reading the contract: %w", err)
	}
	// What requests hold is described by what OpenAPI 3.0 knows already. As 3.1 the library would compile each schema
	// anew at each request, which took half of the time of answering one.
	spec.OpenAPI = "3.0.3"
	g := &gate{routes: map[string]*operation{}, sessions: p.Sessions, places: p.Places, doors: p.Doors,
		refusals: refusals{audit: p.Audit, last: map[refusal]*refused{}}, calls: calls{open: map[*call]struct{}{}}}
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			name, _ := op.Extensions["x-permission"].(string)
			permission := access.Permission(name)
			if !permission.Known() {
				return nil, fmt.Errorf("the contract's %s %s asks for the unknown permission %q", method, path, name)
			}
			where, _ := op.Extensions["x-place"].(string)
			held := reach(where)
			if strings.HasPrefix(path, "/devices/{id}") {
				held = atDevice
			}
			if permission != access.Anyone && permission != access.Self && held != atDevice && held != everywhere && held != within {
				return nil, fmt.Errorf("the contract's %s %s does not tell where %s must be held: %q", method, path, permission, where)
			}
			stream, _ := op.Extensions["x-stream"].(bool)
			proof, _ := op.Extensions["x-proof"].(string)
			if proof != "" && proof != "recent" {
				return nil, fmt.Errorf("the contract's %s %s asks for the unknown proof %q", method, path, proof)
			}
			g.routes[method+" "+Base+ginPath(path)] = &operation{permission, held,
				&routers.Route{Spec: spec, Path: path, PathItem: item, Method: method, Operation: op}, proof == "recent", stream}
		}
	}
	return g, nil
}

func ginPath(path string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(path)
}

func (g *gate) check(c *gin.Context) {
	op := g.routes[c.Request.Method+" "+c.FullPath()]
	if op == nil {
		Fail(c, NotFound("operation"))
		return
	}
	if op.permission == access.Anyone {
		give, ok := g.admitStranger(c)
		if !ok {
			return
		}
		defer give()
	} else {
		ctx, end := context.WithCancelCause(c.Request.Context())
		defer end(nil)
		c.Request = c.Request.WithContext(ctx)
		made := g.register(c, op, end)
		defer g.forget(made)
		if err := g.admit(c, op, made); err != nil {
			g.refusals.note(c, made.caller, op, err)
			Fail(c, err)
			return
		}
		doors.Proven(ctx)
		receive(c, op)
	}
	if err := validate(c, op); err != nil {
		if e := (*Error)(nil); errors.As(err, &e) && (e.Status == http.StatusRequestTimeout ||
			e.Status == http.StatusRequestEntityTooLarge) {
			c.Header("Connection", "close") // what is left of the body is not waited for
		}
		Fail(c, err)
		return
	}
	if !op.stream { // it is there; what follows may last
		http.NewResponseController(c.Writer).SetReadDeadline(time.Time{})
	}
	c.Next()
}

// Times in which the body of a request must come: a whole one, and each piece of one of any length.
const (
	bodyWithin  = time.Minute
	pieceWithin = time.Minute
)

// receive bounds the body of a request of somebody who is signed in.
func receive(c *gin.Context, op *operation) {
	control := http.NewResponseController(c.Writer)
	if op.stream {
		c.Request.Body = &pieces{c.Request.Body, control}
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, maxBody)
	control.SetReadDeadline(time.Now().Add(bodyWithin))
}

// pieces is a body of any length, of which each piece comes in time.
type pieces struct {
	io.ReadCloser
	control *http.ResponseController
}

func (p *pieces) Read(b []byte) (int, error) {
	p.control.SetReadDeadline(time.Now().Add(pieceWithin))
	n, err := p.ReadCloser.Read(b)
	if err != nil {
		p.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

func tooLarge(most int64) *Error {
	return Problem(http.StatusRequestEntityTooLarge, "The request is too large.", fmt.Sprintf("At most %d bytes are read.", most))
}

func (g *gate) admit(c *gin.Context, op *operation, made *call) error {
	var caller *Caller
	// A change between the look at the caller and the register would be missed: then look again.
	for again := true; again; {
		changes := g.calls.changes.Load()
		var err error
		if caller, err = g.sessions.Authenticate(c.Request); err != nil {
			return err
		}
		g.calls.mu.Lock()
		made.caller = caller
		g.calls.mu.Unlock()
		again = g.calls.changes.Load() != changes
	}
	if caller == nil {
		return Problem(http.StatusUnauthorized, "You are not signed in.", "Sign in, or send a valid API token as Authorization: Bearer.")
	}
	if caller.lacksFactor(op) {
		return Problem(http.StatusForbidden, "Add a second factor first.",
			"The sign-in policy asks for one. In the console, open your account.")
	}
	if err := g.permit(c, caller, op); err != nil {
		return err
	}
	safe := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if caller.Session != "" && !safe && !access.SameSecret(c.GetHeader(CSRFHeader), access.CSRF(caller.Session)) {
		return Problem(http.StatusForbidden, "This change does not come from the console.", "Reload the page and try again.")
	}
	if op.recent {
		if err := Recent(caller, time.Now()); err != nil {
			return err
		}
	}
	c.Set(callerKey, caller)
	return nil
}

// permit refuses a caller who may not do what an operation does where it does it. To someone who may
// not see a device, it is not there.
func (g *gate) permit(c *gin.Context, caller *Caller, op *operation) error {
	may := caller.Rights.Somewhere(op.permission)
	switch op.reach {
	case everywhere:
		may = caller.Rights.Everywhere(op.permission)
	case atDevice:
		id, err := uuid.Parse(c.Param("id"))
		if err != nil || !may {
			break // the contract's check says what is wrong with the id
		}
		at, err := g.places.Place(c.Request.Context(), id)
		if err != nil {
			return err
		}
		if !caller.Rights.May(access.FleetRead, &at) {
			return NotFound("device")
		}
		may = caller.Rights.May(op.permission, &at)
		c.Set(placeKey, &at)
	}
	if !may {
		return Lacking(op.permission)
	}
	return nil
}

// Lacking says that a caller has not the permission that something needs.
func Lacking(needs access.Permission) *Error {
	return Problem(http.StatusForbidden, "You may not do this.",
		fmt.Sprintf("It needs the permission %s, which none of your roles grants here. Ask an owner.", needs))
}

// validate holds the request against the contract and says what does not fit.
func validate(c *gin.Context, op *operation) error {
	if op.stream { // the schema library reads a body whole, even one that it is told to leave alone
		body := c.Request.Body
		c.Request.Body = http.NoBody
		defer func() { c.Request.Body = body }()
	}
	params := map[string]string{}
	for _, p := range c.Params {
		params[p.Key] = p.Value
	}
	err := openapi3filter.ValidateRequest(c.Request.Context(), &openapi3filter.RequestValidationInput{
		Request: c.Request, PathParams: params, Route: op.route,
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, SkipSettingDefaults: true,
			ExcludeRequestBody: op.stream},
	})
	if err == nil {
		return nil
	}
	var over *http.MaxBytesError
	if errors.As(err, &over) {
		return tooLarge(over.Limit)
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return Problem(http.StatusRequestTimeout, "The request did not come in time.", "Send all of it at once.")
	}
	return Problem(http.StatusBadRequest, "The request is not as it should be.", explain(err))
}

// misfit is a line in which the schema library says what does not fit, and where.
var misfit = regexp.MustCompile(`(?m)^(?:\s*- |.*: )at '/?([^']*)': (.*)$`)

// explain says what does not fit in a request, without the words of the schema library.
func explain(err error) string {
	var request *openapi3filter.RequestError
	if !errors.As(err, &request) {
		return err.Error()
	}
	name := ""
	if request.Parameter != nil {
		name = request.Parameter.Name
	}
	if request.Err == nil {
		return strings.TrimPrefix(name+": "+request.Reason, ": ")
	}
	var all []string
	var schema *openapi3.SchemaError
	if errors.As(request.Err, &schema) {
		at := strings.Trim(name+"."+strings.Join(schema.JSONPointer(), "."), ".")
		return strings.TrimPrefix(at+": "+schema.Reason, ": ")
	}
	for _, m := range misfit.FindAllStringSubmatch(request.Err.Error(), -1) {
		if at := strings.Trim(name+"."+strings.ReplaceAll(m[1], "/", "."), "."); at != "" {
			m[2] = at + ": " + m[2]
		}
		all = append(all, m[2])
	}
	if len(all) == 0 {
		return strings.TrimPrefix(name+": "+request.Err.Error(), ": ")
	}
	return strings.Join(all, "; ")
}
