package portable

import (
	"context"
	"io"
	"os"
	"strings"
)

// Outputs are the writers of a program's output and of what it complains of; cancel ends the program when one of them
// takes nothing any more. Where both are one, they stay one: then os/exec writes to it from one goroutine, which most
// writers ask for.
func Outputs(stdout, stderr io.Writer, cancel context.CancelCauseFunc) (out, complaints io.Writer) {
	out = &ending{stdout, cancel}
	if same(stdout, stderr) {
		return out, out
	}
	return out, &ending{stderr, cancel}
}

// ending ends the program when its output is not wanted any more.
type ending struct {
	io.Writer
	cancel context.CancelCauseFunc
}

func (e ending) Write(p []byte) (int, error) {
	n, err := e.Writer.Write(p)
	if err != nil {
		e.cancel(err)
	}
	return n, err
}

// Environment is the agent's own without what concerns Moorwatch.
func Environment() []string {
	var kept []string
	for _, v := range os.Environ() {
		if !strings.HasPrefix(v, "MOOR_") && !strings.HasPrefix(v, "MOORWATCH_") {
			kept = append(kept, v)
		}
	}
	return kept
}

// same tells whether two writers are one; those that cannot be compared are not.
func same(a, b io.Writer) (is bool) {
	defer func() {
		if recover() != nil {
			is = false
		}
	}()
	return a == b
}
