package rules

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// consoleImport finds what a file of the console imports from beside it.
var consoleImport = regexp.MustCompile(`(?m)(?:from |import\(|^import )"(\.[^"]+)"`)

// The folders of the console stand in an order: none imports one that imports it, in however many steps, and nothing
// below them imports the pages that stand at the root. The linter sees to single files.
func TestConsoleFoldersStandInAnOrder(t *testing.T) {
	imports := map[string]map[string]string{} // folder → folder → the file that does it
	for _, ending := range []string{".ts", ".tsx"} {
		for _, file := range tracked(t, ending) {
			own, ok := strings.CutPrefix(file, "web/src/")
			if !ok {
				continue
			}
			text, err := os.ReadFile(filepath.Join(root, file))
			if err != nil {
				t.Fatal(err)
			}
			from := path.Dir(own)
			if imports[from] == nil {
				imports[from] = map[string]string{}
			}
			for _, m := range consoleImport.FindAllStringSubmatch(string(text), -1) {
				if to := path.Dir(path.Join(from, m[1])); to != from {
					imports[from][to] = own
				}
			}
		}
	}
	if len(imports) < 10 {
		t.Fatalf("only %d folders of the console were found", len(imports))
	}
	done := map[string]bool{}
	var visit func(folder string, way []string)
	visit = func(folder string, way []string) {
		if at := slices.Index(way, folder); at >= 0 {
			t.Errorf("folders of the console import each other: %s", strings.Join(append(way[at:], folder), " → "))
			return
		}
		if done[folder] {
			return
		}
		for _, to := range slices.Sorted(maps.Keys(imports[folder])) {
			if to == "." {
				t.Errorf("web/src/%s imports from the root of the console", imports[folder][to])
				continue
			}
			visit(to, append(slices.Clone(way), folder))
		}
		done[folder] = true
	}
	for _, folder := range slices.Sorted(maps.Keys(imports)) {
		visit(folder, nil)
	}
}

// What is read is kept under its path of the contract: api/queries.ts alone makes keys, but for what is no GET of it.
func TestConsoleReadsThroughTheContract(t *testing.T) {
	made := regexp.MustCompile(`queryKey: (\[|key\b)`)
	except := map[string]string{
		"web/src/api/queries.ts":              "the way itself",
		"web/src/api/me.ts":                   "nobody signed in is an answer, not an error",
		"web/src/fleet/devices.ts":            "every device by its identifier, which events change in place",
		"web/src/fleet/Expression.tsx":        "a preview is a POST",
		"web/src/frame/Invitations.tsx":       "events alone bring them",
		"web/src/recordings/Replay.tsx":       "a stream of lines",
		"web/src/recordings/ReplayScreen.tsx": "pieces of bytes",
		"web/src/vitals/readings.ts":          "the stretch of time moves with the clock",
	}
	for _, ending := range []string{".ts", ".tsx"} {
		for _, file := range tracked(t, ending) {
			text, err := os.ReadFile(filepath.Join(root, file))
			if err != nil {
				t.Fatal(err)
			}
			found := strings.HasPrefix(file, "web/src/") && made.Match(text)
			if found && except[file] == "" {
				t.Errorf("%s makes a key of its own; use read, readAll or usePages of api/queries.ts", file)
			}
			if !found && except[file] != "" {
				t.Errorf("%s makes no key any more; take it out of the list", file)
			}
		}
	}
}
