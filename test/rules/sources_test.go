package rules

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// module is the path that our imports begin with.
const module = "moorwatch.example/"

// source is one Go file of the project.
type source struct {
	path string // from the project's root, with slashes
	dir  string
	text string
	file *ast.File
	set  *token.FileSet
	test bool
}

// at is where something stands, as editors understand it.
func (s *source) at(pos token.Pos) string {
	return s.path + ":" + strconv.Itoa(s.set.Position(pos).Line)
}

// imports are what a file imports, our own packages without the module's path.
func (s *source) imports() (ours, others []string) {
	for _, i := range s.file.Imports {
		path, _ := strconv.Unquote(i.Path.Value)
		if own, ok := strings.CutPrefix(path, module); ok {
			ours = append(ours, own)
		} else {
			others = append(others, path)
		}
	}
	return ours, others
}

const root = "../.."

// tracked are the files that the project keeps, or those of its folder where it is no checkout.
func tracked(t *testing.T, suffix string) (paths []string) {
	t.Helper()
	if out, err := exec.Command("git", "-C", root, "ls-files", "--", "*"+suffix).Output(); err == nil {
		for _, path := range strings.Fields(string(out)) {
			if _, err := os.Stat(filepath.Join(root, path)); err == nil {
				paths = append(paths, path)
			}
		}
		return paths
	}
	err := filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && (e.Name() == "node_modules" || e.Name() == ".git"):
			return filepath.SkipDir
		case strings.HasSuffix(path, suffix):
			own, err := filepath.Rel(root, path)
			paths = append(paths, filepath.ToSlash(own))
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return paths
}

// sources are the Go files that are written by hand.
func sources(t *testing.T) (all []*source) {
	t.Helper()
	for _, path := range tracked(t, ".go") {
		if strings.HasSuffix(path, ".gen.go") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(root, path))
		if err != nil {
			t.Fatal(err)
		}
		s := &source{path: path, dir: filepath.ToSlash(filepath.Dir(path)), text: string(text), set: token.NewFileSet()}
		s.test = strings.HasSuffix(path, "_test.go")
		if s.file, err = parser.ParseFile(s.set, path, text, parser.ParseComments); err != nil {
			t.Fatal(err)
		}
		all = append(all, s)
	}
	if len(all) < 500 {
		t.Fatalf("only %d files were found", len(all))
	}
	return all
}

// below tells whether a folder is another, or inside it.
func below(dir, of string) bool { return dir == of || strings.HasPrefix(dir, of+"/") }
