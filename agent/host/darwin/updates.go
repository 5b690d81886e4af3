//go:build unix

package darwin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	posix "moorwatch.example/agent/host/unix"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// updates are those of softwareupdate(8).
type updates struct{}

// restartMark tells, until the next start, that an update asks for a restart: macOS empties the folder then.
const restartMark = "/var/run/moorwatch-restart"

func (updates) offers(ctx context.Context) ([]Offer, error) {
	var out, said bytes.Buffer
	exit, err := posix.Runner{}.Run(ctx, link.Command{Argv: []string{"/usr/sbin/softwareupdate", "--list"}}, &out, &said)
	if err == nil && exit != 0 {
		err = fmt.Errorf("softwareupdate cannot tell what is newer: %s", strings.TrimSpace(said.String()))
	}
	return Offers(out.Bytes()), err
}

// Missing implements host.Updates.
func (u updates) Missing(ctx context.Context, _ bool) ([]update.Update, error) {
	offers, err := u.offers(ctx)
	if err != nil {
		return nil, err
	}
	all := []update.Update{}
	for _, o := range offers {
		all = append(all, o.Update)
	}
	return all, nil
}

func (u updates) labels(ctx context.Context, all []work.Version, log io.Writer) (labels []string, restart bool, err error) {
	offers, err := u.offers(ctx)
	for _, o := range offers {
		if slices.Contains(all, work.Version{Source: source, Name: o.Name, Version: o.To}) {
			fmt.Fprintf(log, "%s → %s\n", o.Name, o.To)
			labels, restart = append(labels, o.Label), restart || o.Restart == update.RestartDevice
		}
	}
	return labels, restart, err
}

func (u updates) run(ctx context.Context, verb string, all []work.Version, log io.Writer) (restart bool, err error) {
	labels, restart, err := u.labels(ctx, all, log)
	if err != nil {
		return false, err
	}
	if len(labels) == 0 {
		fmt.Fprintln(log, "Nothing of these is missing here.")
		return false, nil
	}
	exit, err := posix.Runner{}.Run(ctx, link.Command{Argv: append([]string{"/usr/sbin/softwareupdate", verb, "--agree-to-license"},
		labels...)}, log, log)
	if err == nil && exit != 0 {
		err = fmt.Errorf("softwareupdate ended with %d", exit)
	}
	return restart, err
}

// Fetch implements host.Updates.
func (u updates) Fetch(ctx context.Context, all []work.Version, log io.Writer) error {
	_, err := u.run(ctx, "--download", all, log)
	return err
}

// Install implements host.Updates.
func (u updates) Install(ctx context.Context, all []work.Version, log io.Writer) error {
	restart, err := u.run(ctx, "--install", all, log)
	if err == nil && restart {
		err = os.WriteFile(restartMark, nil, 0o600)
	}
	return err
}

// Back implements host.Updates.
func (updates) Back(context.Context, []work.Version, io.Writer) error {
	return errors.New("macOS takes no update back")
}

// Refresh implements host.Updates. What an update replaces, macOS restarts itself.
func (updates) Refresh(context.Context, io.Writer) error { return nil }

// Restart implements host.Updates.
func (updates) Restart(context.Context) (bool, error) {
	_, err := os.Stat(restartMark)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}
