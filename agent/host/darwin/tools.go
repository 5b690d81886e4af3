//go:build unix

package darwin

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"howett.net/plist"

	"moorwatch.example/contract/link"
)

// tools runs a program of the system with an input, and returns what it prints; what it complains of
// is the error. All that the system's programs are asked goes through it, so that tests answer
// in their place.
type tools func(ctx context.Context, input string, argv ...string) (string, error)

// run is the tools of this computer.
func run(ctx context.Context, input string, argv ...string) (string, error) {
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.WaitDelay = time.Second
	cmd.Env = append(cmd.Environ(), "LC_ALL=C", "PATH=/usr/bin:/bin:/usr/sbin:/sbin:/usr/libexec")
	cmd.Stdin = strings.NewReader(input)
	out, err := cmd.Output()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		if said := strings.TrimRight(strings.TrimSpace(string(exit.Stderr)), "."); said != "" {
			err = errors.New(said)
		}
	}
	return string(out), err
}

// ask asks a program without an input.
func (t tools) ask(ctx context.Context, argv ...string) (string, error) { return t(ctx, "", argv...) }

// list asks a program that answers with a property list (plist(5)), and reads that into v.
func (t tools) list(ctx context.Context, v any, argv ...string) error {
	out, err := t.ask(ctx, argv...)
	if err != nil {
		return err
	}
	if _, err := plist.Unmarshal([]byte(out), v); err != nil {
		return fmt.Errorf("%s answers no property list: %w", argv[0], err)
	}
	return nil
}

// as is what has a program run in the session of a person who is signed in (launchctl(1), asuser;
// sudo(8)).
func as(p person) []string {
	return []string{"/bin/launchctl", "asuser", strconv.Itoa(p.uid), "/usr/bin/sudo", "-H", "-u", "#" + strconv.Itoa(p.uid), "--"}
}

func refuse(status int, format string, args ...any) error {
	return &link.Problem{Status: status, Reason: fmt.Sprintf(format, args...)}
}

// unanswered is the error of a program of the system that does not do as it should.
func unanswered(name string, err error) error {
	return refuse(http.StatusBadGateway, "%s does not answer: %v.", name, err)
}
