//go:build unix

package setup

import "os"

// Secure makes the agent's folder one that its account alone can read.
func Secure(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return os.Chmod(dir, 0o700)
}

func announce(Place, string) error { return nil }
func retract(Place) error          { return nil }

func remove(path string) error { return os.RemoveAll(path) }
