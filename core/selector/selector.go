// Package selector says which devices a person means: an expression in CEL, the Common Expression
// Language, over the fields of Subject. It knows nothing of where devices are kept.
package selector

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
)

// MaxExpression is the longest expression accepted, in bytes.
const MaxExpression = 4096

// maxCost bounds the work of one evaluation, in CEL's cost units, so that no expression can hold
// the service up.
const maxCost = 20_000

// Subject is a device as an expression sees it: each field is a variable, named by its tag.
type Subject struct {
	ID           string    `cel:"id"`
	Name         string    `cel:"name"`
	Organisation string    `cel:"organisation"`
	Site         string    `cel:"site"`
	OS           string    `cel:"os"`
	OSName       string    `cel:"os_name"`
	OSVersion    string    `cel:"os_version"`
	Arch         string    `cel:"arch"`
	Model        string    `cel:"model"`
	Serial       string    `cel:"serial"`
	Condition    string    `cel:"condition"`
	Online       bool      `cel:"online"`
	Since        time.Time `cel:"since"`
	Addresses    []string  `cel:"addresses"`
	People       []string  `cel:"people"`
	LastPeople   []string  `cel:"last_people"` // who is signed in, or was last
	Capabilities []string  `cel:"capabilities"`
	AgentVersion string    `cel:"agent_version"`
	Cores        int       `cel:"cores"`
	MemoryGiB    float64   `cel:"memory_gib"`
	CPU          float64   `cel:"cpu"`    // percent, 0 before the first report
	Memory       float64   `cel:"memory"` // percent
	Disk         float64   `cel:"disk"`   // percent of the fullest disk
	Tags         []string  `cel:"tags"`
	Groups       []string  `cel:"groups"`   // names of the groups that it is in
	Software     Software  `cel:"software"` // nil for none
	Readings     Readings  `cel:"readings"` // nil before the first report
	Alias        string    `cel:"alias"`    // what people call it
	Note         string    `cel:"note"`
	Vendor       string    `cel:"vendor"`
	Kernel       string    `cel:"kernel"`
	CPUModel     string    `cel:"cpu_model"`
	TimeZone     string    `cel:"time_zone"`
}

// Text is all that is searched, in lower case, a line each.
func (s *Subject) Text() string {
	parts := []string{s.Name, s.Alias, s.Organisation, s.Site, s.OSName, s.Model, s.Serial, s.Note}
	for _, list := range [][]string{s.Addresses, s.LastPeople, s.Tags, s.Groups} {
		parts = append(parts, list...)
	}
	return strings.ToLower(strings.Join(parts, "\n"))
}

// Readings tells the latest value of a reading by its full name. An expression sees it as a map.
type Readings interface {
	Value(name string) (value float64, ok bool)
	Names() []string
}

// Software tells which version of a piece of software a device has. An expression sees it as a map
// from name to version.
type Software interface {
	Version(name string) (version string, ok bool)
	Names() []string
}

// Word is a variable with what it stands for.
type Word struct{ Name, Type, About string }

// Words are the variables that an expression may use, with what they stand for.
var Words = func() []Word {
	about := map[string]string{"id": "Identity of the device", "name": "Name of the device", "organisation": "Organisation it belongs to",
		"site": "Site it stands at",
		"os":   "windows, macos or linux", "os_name": "Name of its operating system", "os_version": "Version of its operating system",
		"arch":  "Processor architecture",
		"model": "Model of the computer", "serial": "Serial number", "condition": "healthy, degraded, failing or silent",
		"online": "Whether it is connected now",
		"since":  "Since when it has been online or silent: since < now - duration(\"24h\")", "addresses": "Its network addresses",
		"people": "Who is signed in", "last_people": "Who is signed in, or was last",
		"capabilities": "What its agent offers", "agent_version": "Version of its agent", "cores": "Processor cores",
		"memory_gib": "Size of its memory, GiB",
		"cpu":        "Processor load, percent", "memory": "Memory in use, percent", "disk": "Fullest disk, percent in use",
		"tags":     "Its tags: \"loan\" in tags",
		"groups":   "Names of its groups: \"Kiosks\" in groups; not for the expression of a group",
		"readings": "Latest readings by name: readings[\"log-on\"] > 60, \"temperature soc\" in readings",
		"alias":    "What people call it", "note": "What people noted about it",
		"vendor": "Maker of the computer", "kernel": "Version of its kernel", "cpu_model": "Model of its processor",
		"time_zone": "Its time zone",
		"software":  "Installed software, name to version: \"curl\" in software, software[\"curl\"] == \"8.5\"", "now": "The time now",
		"text": "All that is searched, in lower case: its name, place, system, model, serial number, addresses, people, tags and groups"}
	var words []Word
	for _, name := range Variables {
		words = append(words, Word{name, kindNames[name], about[name]})
	}
	return append(words, Word{"text", "string", about["text"]}, Word{"now", "timestamp", about["now"]})
}()

// Variables are the names that an expression may use, in the order of Subject's fields.
var Variables = func() (names []string) {
	t := reflect.TypeFor[Subject]()
	for i := range t.NumField() {
		names = append(names, t.Field(i).Tag.Get("cel"))
	}
	return names
}()

// kinds are the types of an expression's variables.
var kinds = map[reflect.Type]*cel.Type{
	reflect.TypeFor[string](): cel.StringType, reflect.TypeFor[bool](): cel.BoolType,
	reflect.TypeFor[int](): cel.IntType, reflect.TypeFor[float64](): cel.DoubleType,
	reflect.TypeFor[time.Time](): cel.TimestampType, reflect.TypeFor[[]string](): cel.ListType(cel.StringType),
	reflect.TypeFor[Software](): cel.MapType(cel.StringType, cel.StringType),
	reflect.TypeFor[Readings](): cel.MapType(cel.StringType, cel.DoubleType),
}

var kindNames = func() map[string]string {
	names := map[string]string{}
	t := reflect.TypeFor[Subject]()
	for i := range t.NumField() {
		names[t.Field(i).Tag.Get("cel")] = cel.FormatCELType(kinds[t.Field(i).Type])
	}
	return names
}()

var environment = func() *cel.Env {
	options := []cel.EnvOption{ext.Strings(), cel.CrossTypeNumericComparisons(true), cel.ParserExpressionSizeLimit(MaxExpression),
		cel.Variable("now", cel.TimestampType), cel.Variable("text", cel.StringType)}
	t := reflect.TypeFor[Subject]()
	for i := range t.NumField() {
		options = append(options, cel.Variable(t.Field(i).Tag.Get("cel"), kinds[t.Field(i).Type]))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		panic(err) // the variables above are fixed, so every build meets this or none does
	}
	return env
}()

// Selector is a compiled expression. It may be used by many goroutines at once.
type Selector struct{ program cel.Program }

// Compile reads an expression. Its errors say where the expression is wrong and which variables
// there are.
func Compile(expression string) (*Selector, error) {
	if len(expression) > MaxExpression {
		return nil, fmt.Errorf("the expression has %d bytes; at most %d are read", len(expression), MaxExpression)
	}
	ast, issues := environment.Compile(expression)
	if issues.Err() != nil {
		return nil, fmt.Errorf("%s\nVariables: %s", issues.Err(), strings.Join(Variables, ", "))
	}
	if ast.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("the expression gives %s; it must give true or false, as in disk > 90", ast.OutputType())
	}
	program, err := environment.Program(ast, cel.CostLimit(maxCost))
	if err != nil {
		return nil, err
	}
	return &Selector{program}, nil
}

// CompileGroup reads the expression of a group, which cannot ask for groups: they would depend on each other.
func CompileGroup(expression string) (*Selector, error) {
	match, err := Compile(expression)
	if err != nil {
		return nil, err
	}
	if names, err := variables(expression); err != nil || names["groups"] || names["text"] {
		return nil, errors.Join(err, errors.New("a group cannot be made of groups: use neither groups nor text, which holds them"))
	}
	return match, nil
}

// Match tells whether the expression holds for s at now. An error means that it cannot be decided for
// this device, such as a division by zero or work beyond the cost limit.
func (c *Selector) Match(s *Subject, now time.Time) (bool, error) {
	out, _, err := c.program.Eval(&activation{s, now})
	if err != nil {
		return false, err
	}
	return out == types.True, nil
}

// activation hands CEL the fields of a Subject without building a map for each device.
type activation struct {
	s   *Subject
	now time.Time
}

func (a *activation) ResolveName(name string) (any, bool) {
	switch name {
	case "now":
		return a.now, true
	case "text":
		return a.s.Text(), true
	case "software":
		if a.s.Software == nil {
			return lazyMap{}, true
		}
		return lazyMap{a.s.Software.Names, func(name string) (ref.Val, bool) {
			v, ok := a.s.Software.Version(name)
			return types.String(v), ok
		}}, true
	case "readings":
		if a.s.Readings == nil {
			return lazyMap{}, true
		}
		return lazyMap{a.s.Readings.Names, func(name string) (ref.Val, bool) {
			v, ok := a.s.Readings.Value(name)
			return types.Double(v), ok
		}}, true
	}
	i, ok := fields[name]
	if !ok {
		return nil, false
	}
	return reflect.ValueOf(a.s).Elem().Field(i).Interface(), true
}

func (a *activation) Parent() cel.Activation { return nil }

var fields = func() map[string]int {
	m := map[string]int{}
	for i, name := range Variables {
		m[name] = i
	}
	return m
}()
