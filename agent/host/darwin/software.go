//go:build unix

package darwin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
)

// software installs packages by installer(8), and knows them by their identifiers as pkgutil(1) does.
type software struct{}

// Formats implements host.Software.
func (software) Formats() []string { return []string{".pkg"} }

// Version implements host.Software.
func (software) Version(ctx context.Context, name string) (string, error) {
	if strings.HasPrefix(name, "-") {
		return "", fmt.Errorf("%q is no identifier of a package", name)
	}
	var out bytes.Buffer
	exit, err := unix.Runner{}.Run(ctx, link.Command{Argv: []string{"pkgutil", "--pkg-info", name}}, &out, io.Discard)
	if err != nil || exit != 0 {
		return "", err
	}
	for line := range strings.Lines(out.String()) {
		if v, ok := strings.CutPrefix(line, "version: "); ok {
			return strings.TrimSpace(v), nil
		}
	}
	return "", nil
}

// Install implements host.Software.
func (software) Install(ctx context.Context, path string, log io.Writer) error {
	exit, err := unix.Runner{}.Run(ctx, link.Command{Argv: []string{"installer", "-pkg", path, "-target", "/"}}, log, log)
	if err == nil && exit != 0 {
		err = fmt.Errorf("the installer ended with exit status %d", exit)
	}
	return err
}

// Remove implements host.Software. The system keeps no way to remove a package.
func (software) Remove(context.Context, string, io.Writer) error {
	return errors.New("macOS does not remove packages: let the package's steps delete what it put in place")
}
