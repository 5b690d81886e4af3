package portable

import "io"

// Outputs are the writers of a program's output and of what it complains of. Where both are one, they stay one: then
// os/exec writes to it from one goroutine, which most writers ask for.
func Outputs[W io.Writer](stdout, stderr io.Writer, wrap func(io.Writer) W) (out, complaints io.Writer) {
	out = wrap(stdout)
	if same(stdout, stderr) {
		return out, out
	}
	return out, wrap(stderr)
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
