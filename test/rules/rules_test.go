package rules

import (
	"go/ast"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// floors says what a folder and all below it may import of ours. What is not named here runs all of it
// together, as the demo, the lab, the bench and the tests do, and may import anything.
var floors = []struct {
	dir  string
	only []string
}{
	{"core", []string{"core"}},
	{"contract", []string{"contract", "core"}},
	{"uplink", []string{"contract", "core", "uplink"}},
	{"client", []string{"client", "contract", "core"}},
	{"agent", []string{"agent", "contract", "core", "uplink"}},
	{"service", []string{"service", "contract", "core", "uplink"}},
	{"cmd/moor", []string{"client", "contract", "core", "cmd/moor"}},
	{"cmd/moor-agent", []string{"agent", "contract", "core", "uplink", "cmd/moor-agent"}},
}

// shared are the packages that services stand on, and the two whose services others may import.
var shared = []string{"service/front", "service/hub", "service/db", "service/doors", "service/bus", "service/part", "service/post",
	"service/fleet", "service/access"}

func TestImports(t *testing.T) {
	for _, s := range sources(t) {
		if s.test {
			continue
		}
		ours, others := s.imports()
		for _, f := range floors {
			if !below(s.dir, f.dir) {
				continue
			}
			for _, path := range ours {
				if !slices.ContainsFunc(f.only, func(dir string) bool { return below(path, dir) }) {
					t.Errorf("%s imports %s: %s may import %s alone", s.path, path, f.dir, strings.Join(f.only, ", "))
				}
			}
		}
		for _, path := range ours {
			apart := s.dir != "service" && below(s.dir, "service") && below(path, "service") && !below(path, s.dir)
			if apart && !slices.ContainsFunc(shared, func(dir string) bool { return below(path, dir) }) {
				t.Errorf("%s imports %s: declare what you need of it as an interface, which service/service.go joins", s.path, path)
			}
		}
		for _, path := range others {
			switch {
			case below(s.dir, "core") && slices.Contains(impure, path):
				t.Errorf("%s imports %s: what core needs of the world is handed to it", s.path, path)
			case below(s.dir, "agent") && !systemCalls(s.dir) &&
				(path == "syscall" || path == "os/exec" || strings.HasPrefix(path, "golang.org/x/sys")):
				t.Errorf("%s imports %s: what an operating system offers stands below agent/host", s.path, path)
			case below(s.dir, "cmd/moor") && path == "github.com/gin-gonic/gin", below(s.dir, "agent") &&
				path == "github.com/gin-gonic/gin":
				t.Errorf("%s imports %s, which only the service needs", s.path, path)
			}
		}
	}
}

// impure are packages that reach out of a computation.
var impure = []string{"database/sql", "math/rand", "net", "net/http", "os", "os/exec", "syscall", "log", "log/slog",
	"github.com/jackc/pgx/v5"}

// systemCalls tells whether a folder may call the operating system: agent/host, and the few that put the
// agent itself in place, start it anew, or start it a second time.
func systemCalls(dir string) bool {
	return slices.ContainsFunc([]string{"agent/host", "agent/setup", "agent/renewal", "agent/console", "agent/files", "agent/atomicfile"},
		func(of string) bool { return below(dir, of) })
}

// What core computes depends on what it is given alone: it starts nothing beside, and asks no clock.
func TestCoreIsPure(t *testing.T) {
	for _, s := range sources(t) {
		if s.test || !below(s.dir, "core") {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine", s.at(n.Pos()))
			case *ast.SelectorExpr:
				if p, ok := n.X.(*ast.Ident); ok && p.Name == "time" &&
					slices.Contains([]string{"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTicker", "NewTimer"},
						n.Sel.Name) {
					t.Errorf("%s asks a clock: have the time passed in", s.at(n.Pos()))
				}
			}
			return true
		})
	}
}

var statement = regexp.MustCompile(`^\s*(SELECT\s|INSERT INTO\s|UPDATE\s+\w+\s|DELETE FROM\s|WITH\s+\w+.*\sAS\s|TRUNCATE\s|ALTER\s|CREATE
	TABLE\s)`)

// texts calls do with every text in a file, and where it stands. Texts that are put together count as one.
func texts(s *source, do func(pos token.Pos, text string)) {
	joined := map[ast.Node]bool{}
	var whole func(e ast.Expr) string
	whole = func(e ast.Expr) string {
		switch e := e.(type) {
		case *ast.BasicLit:
			joined[e] = true
			if e.Kind == token.STRING && len(e.Value) > 1 {
				return e.Value[1 : len(e.Value)-1]
			}
		case *ast.BinaryExpr:
			joined[e] = true
			return whole(e.X) + whole(e.Y)
		}
		return " "
	}
	ast.Inspect(s.file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if n.Op == token.ADD && !joined[n] {
				do(n.Pos(), whole(n))
			}
		case *ast.BasicLit:
			if n.Kind == token.STRING && !joined[n] {
				do(n.Pos(), whole(n))
			}
		}
		return true
	})
}

// Questions to the database stand in stores, where those who change a table look for them.
func TestSQLStandsInStores(t *testing.T) {
	found := 0
	for _, s := range sources(t) {
		if s.test || !below(s.dir, "service") || below(s.dir, "service/db") {
			continue
		}
		texts(s, func(pos token.Pos, text string) {
			switch {
			case !statement.MatchString(text):
			case strings.HasSuffix(s.path, "store.go"):
				found++
			default:
				t.Errorf("%s has SQL: it belongs into a store.go", s.at(pos))
			}
		})
	}
	if found < 300 {
		t.Errorf("only %d statements were found: this test looks at the wrong thing", found)
	}
}

// A test that sleeps either waits too long or not long enough: it waits for what is to happen, by wait.Until.
func TestNobodySleepsInTests(t *testing.T) {
	for _, s := range sources(t) {
		if !s.test {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			if sel, ok := n.(*ast.SelectorExpr); ok && sel.Sel.Name == "Sleep" {
				if p, ok := sel.X.(*ast.Ident); ok && p.Name == "time" {
					t.Errorf("%s sleeps: use wait.Until", s.at(n.Pos()))
				}
			}
			return true
		})
	}
}

// widest is how many columns a line may have; a tab has four.
const widest = 140

// Lines fit on a screen beside another file. Raw texts are excepted: pages, samples and patterns are what they are.
func TestLinesAreNotTooWide(t *testing.T) {
	for _, s := range sources(t) {
		raw := map[int]bool{}
		ast.Inspect(s.file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING && lit.Value[0] == '`' {
				for l := s.set.Position(lit.Pos()).Line; l <= s.set.Position(lit.End()).Line; l++ {
					raw[l] = true
				}
			}
			return true
		})
		wide(t, s.path, s.text, 4, raw)
	}
	for _, path := range tracked(t, ".sh") { // the console's are wrapped by its formatter
		text, err := os.ReadFile(filepath.Join(root, path))
		if err != nil {
			t.Fatal(err)
		}
		wide(t, path, string(text), 4, nil)
	}
}

func wide(t *testing.T, path, text string, tab int, except map[int]bool) {
	for i, line := range strings.Split(text, "\n") {
		if n := utf8.RuneCountInString(line) + (tab-1)*strings.Count(line, "\t"); n > widest && !except[i+1] {
			t.Errorf("%s:%d has %d columns, and %d at most are read without scrolling", path, i+1, n, widest)
		}
	}
}

// longest is how many lines a file may have before it is split by its ideas.
const longest = 560

func TestFilesAreNotTooLong(t *testing.T) {
	for _, s := range sources(t) {
		if n := strings.Count(s.text, "\n"); n > longest {
			t.Errorf("%s has %d lines: split it", s.path, n)
		}
	}
}

// Each folder says what belongs in it.
func TestEveryPackageIsExplained(t *testing.T) {
	said := map[string]bool{}
	for _, s := range sources(t) {
		said[s.dir] = said[s.dir] || s.file.Doc != nil && len(s.file.Doc.Text()) > 20
	}
	for dir, ok := range said {
		if !ok {
			t.Errorf("no file of %s has a package comment", dir)
		}
	}
}

// A service has all that it needs once it is made: nothing is put into it later, in an order that somebody must know.
func TestServicesAreMadeWhole(t *testing.T) {
	seen := 0
	for _, s := range sources(t) {
		if s.test || s.dir == "service" || !below(s.dir, "service") {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.TypeSpec:
				made, ok := n.Type.(*ast.StructType)
				if !ok || n.Name.Name != "Service" {
					return true
				}
				seen++
				for _, f := range made.Fields.List {
					for _, name := range f.Names {
						if name.IsExported() {
							t.Errorf("%s: anybody can set %s: have it passed to New, or tell others over service/bus",
								s.at(name.Pos()), name.Name)
						}
					}
				}
			case *ast.FuncDecl:
				if n.Recv != nil && (strings.HasPrefix(n.Name.Name, "Join") || strings.HasPrefix(n.Name.Name, "Set")) &&
					len(n.Type.Params.List) > 0 && receiver(n) == "Service" && n.Type.Results == nil && !takes(n, "gin.Context") {
					t.Errorf("%s: %s puts something into a service that was made: have it passed to New", s.at(n.Pos()), n.Name.Name)
				}
			}
			return true
		})
	}
	if seen < 10 {
		t.Errorf("%d services were found", seen)
	}
}

// A handler that fails in several places returns its errors to front.Serve, so that none of them goes on after it failed.
func TestHandlersFailInOnePlace(t *testing.T) {
	handlers := 0
	for _, s := range sources(t) {
		if s.test || below(s.dir, "service/front") || !below(s.dir, "service") {
			continue
		}
		for _, d := range s.file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || !takes(f, "gin.Context") {
				continue
			}
			handlers++
			fails := 0
			ast.Inspect(f, func(n ast.Node) bool {
				if called, ok := n.(*ast.SelectorExpr); ok && called.Sel.Name == "Fail" {
					if of, ok := called.X.(*ast.Ident); ok && of.Name == "front" {
						fails++
					}
				}
				return true
			})
			if fails > 1 {
				t.Errorf("%s: %s calls front.Fail %d times: return the errors to front.Serve", s.at(f.Pos()), f.Name.Name, fails)
			}
		}
	}
	if handlers < 200 {
		t.Errorf("only %d handlers were found", handlers)
	}
}

// receiver names the type of a method's receiver.
func receiver(f *ast.FuncDecl) string {
	of := f.Recv.List[0].Type
	if p, ok := of.(*ast.StarExpr); ok {
		of = p.X
	}
	if id, ok := of.(*ast.Ident); ok {
		return id.Name
	}
	return ""
}

// takes tells whether a function takes a pointer to a type of another package.
func takes(f *ast.FuncDecl, name string) bool {
	for _, p := range f.Type.Params.List {
		if star, ok := p.Type.(*ast.StarExpr); ok {
			if of, ok := star.X.(*ast.SelectorExpr); ok {
				if pkg, ok := of.X.(*ast.Ident); ok && pkg.Name+"."+of.Sel.Name == name {
					return true
				}
			}
		}
	}
	return false
}
