package front

import (
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gin-gonic/gin"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
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
}

type operation struct {
	permission access.Permission
	route      *routers.Route
	stream     bool // its body is of any length, and its handler's to read
}

// newGate reads the contract. It fails when an operation names no known permission, so that none
// is ever open by oversight.
func newGate(sessions Sessions) (*gate, error) {
	spec, err := api.GetSpec()
	if err != nil {
		return nil, fmt.Errorf("reading the contract: %w", err)
	}
	g := &gate{map[string]*operation{}, sessions}
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			name, _ := op.Extensions["x-permission"].(string)
			permission := access.Permission(name)
			if !permission.Known() {
				return nil, fmt.Errorf("the contract's %s %s asks for the unknown permission %q", method, path, name)
			}
			stream, _ := op.Extensions["x-stream"].(bool)
			g.routes[method+" "+Base+ginPath(path)] = &operation{permission, &routers.Route{Spec: spec, Path: path, PathItem: item, Method: method, Operation: op}, stream}
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
	if !op.stream {
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, maxBody)
	}
	if op.permission != access.Anyone {
		if err := g.admit(c, op.permission); err != nil {
			Fail(c, err)
			return
		}
	}
	if err := validate(c, op); err != nil {
		Fail(c, err)
		return
	}
	c.Next()
}

func (g *gate) admit(c *gin.Context, needs access.Permission) error {
	caller, err := g.sessions.Authenticate(c.Request)
	if err != nil {
		return err
	}
	if caller == nil {
		return Problem(http.StatusUnauthorized, "You are not signed in.", "Sign in, or send a valid API token as Authorization: Bearer.")
	}
	if !caller.May(needs) {
		return Lacking(caller, needs)
	}
	safe := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if caller.Session != "" && !safe && !access.SameSecret(c.GetHeader(CSRFHeader), access.CSRF(caller.Session)) {
		return Problem(http.StatusForbidden, "This change does not come from the console.", "Reload the page and try again.")
	}
	c.Set(callerKey, caller)
	return nil
}

// Lacking says that a caller has not the permission that something needs.
func Lacking(caller *Caller, needs access.Permission) *Error {
	return Problem(http.StatusForbidden, "You may not do this.",
		fmt.Sprintf("It needs the permission %s, which the role %q does not have. Ask an owner.", needs, caller.Role))
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
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, SkipSettingDefaults: true, ExcludeRequestBody: op.stream},
	})
	if err == nil {
		return nil
	}
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		return Problem(http.StatusRequestEntityTooLarge, "The request is too large.", fmt.Sprintf("At most %d bytes are read.", tooLarge.Limit))
	}
	return Problem(http.StatusBadRequest, "The request is not as it should be.", explain(err))
}

// misfit is a line in which the schema library says what does not fit, and where.
var misfit = regexp.MustCompile(`(?m)^\s*- at '/?([^']*)': (.*)$`)

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
