// Package scratch gives tests folders to work in, on systems too that cannot remove them whole.
package scratch

import (
	"os"
	"runtime"
	"testing"
)

// Dir is a folder that goes with the test. Wine 8 lacks what package os removes folders by (of
// SetFileInformationByHandle, FileDispositionInfoEx): what stays there goes with its prefix.
func Dir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "moor-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(dir); err != nil && runtime.GOOS != "windows" {
			t.Error(err)
		}
	})
	return dir
}
