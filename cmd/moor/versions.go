package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
)

// kind is what the library's scripts and packages have in common: an entry is found by its name, and is a
// row of versions.
type kind[T any] struct {
	word     string // that names one
	name     func(x T) string
	list     func(ctx context.Context, k *client.Client) iter.Seq2[T, error]
	version  func(ctx context.Context, k *client.Client, x T, version int) (T, error) // 0 is the latest
	versions func(ctx context.Context, k *client.Client, x T) iter.Seq2[T, error]
	file     func(x T) (version int, file string)
	heads    []string // of its versions
	row      func(x T) []string
}

// absent is that the library has no entry of a name.
type absent struct{ word, name string }

func (a *absent) Error() string {
	return fmt.Sprintf("the library has no %s %q; moor %ss list shows them", a.word, a.name, a.word)
}

// find finds an entry by its name; case does not count.
func (e kind[T]) find(ctx context.Context, k *client.Client, name string) (none T, err error) {
	for x, err := range e.list(ctx, k) {
		if err != nil || strings.EqualFold(e.name(x), name) {
			return x, err
		}
	}
	return none, &absent{e.word, name}
}

// named finds the entry that a command names first, as it was as the version that it may ask for.
func (e kind[T]) named(ctx context.Context, c *cli.Command) (k *client.Client, x T, err error) {
	name := c.Args().First()
	if name == "" {
		return nil, x, fmt.Errorf("name a %s; moor %ss list shows them", e.word, e.word)
	}
	if k, err = dial(); err != nil {
		return nil, x, err
	}
	if x, err = e.find(ctx, k, name); err == nil && c.Int("version") > 0 {
		x, err = e.version(ctx, k, x, c.Int("version"))
	}
	return k, x, err
}

// put makes an entry, or a new version of the one that has its name.
func (e kind[T]) put(ctx context.Context, k *client.Client, name string, add func() (*T, error), set func(old T) (*T, error)) (*T, error) {
	old, err := e.find(ctx, k, name)
	if _, none := errors.AsType[*absent](err); none {
		return add()
	}
	if err != nil {
		return nil, err
	}
	return set(old)
}

func (e kind[T]) asOf() cli.Flag {
	return &cli.IntFlag{Name: "version", Usage: fmt.Sprintf("as it was as this `VERSION`, as moor %ss versions counts them", e.word)}
}

func (e kind[T]) versionsCommand() *cli.Command {
	return &cli.Command{Name: "versions", Usage: "list what a " + e.word + " was", ArgsUsage: "NAME", Flags: listFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			k, x, err := e.named(ctx, c)
			if err != nil {
				return err
			}
			return list(c, e.versions(ctx, k, x), 0, e.heads, e.row)
		}}
}

func (e kind[T]) changesCommand() *cli.Command {
	return &cli.Command{Name: "changes", Usage: "print what the latest version changed, or what two versions differ in",
		ArgsUsage: "NAME [BEFORE AFTER]", Action: func(ctx context.Context, c *cli.Command) error {
			k, x, err := e.named(ctx, c)
			if err != nil {
				return err
			}
			return printChanges(c, func(version int) (int, string, error) {
				one, err := e.version(ctx, k, x, version)
				number, file := e.file(one)
				return number, file, err
			})
		}}
}

func (e kind[T]) dropCommand(usage string, drop func(ctx context.Context, k *client.Client, x T) error) *cli.Command {
	return &cli.Command{Name: "drop", Usage: usage, ArgsUsage: "NAME", Action: func(ctx context.Context, c *cli.Command) error {
		k, x, err := e.named(ctx, c)
		if err != nil {
			return err
		}
		return drop(ctx, k, x)
	}}
}

// readBounded reads a file of at most so many bytes.
func readBounded(path string, most int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most {
		return nil, fmt.Errorf("%s has more than %d bytes, which is the most that is taken", path, most)
	}
	return text, err
}

// versionParam is the parameter that asks for a version; 0 is the latest.
func versionParam(version int) *int {
	if version < 1 {
		return nil
	}
	return &version
}

// printChanges prints what differs between the two versions that a command names after the first word, or
// between the latest and the one before it.
func printChanges(c *cli.Command, read func(version int) (number int, file string, err error)) error {
	after, file, err := read(0)
	if err != nil {
		return err
	}
	before := after - 1
	if c.Args().Len() > 1 {
		var bad error
		before, bad = strconv.Atoi(c.Args().Get(1))
		second, worse := strconv.Atoi(c.Args().Get(2))
		if bad != nil || worse != nil || before < 1 || second < 1 {
			return errors.New("give two versions by their numbers, such as 1 3")
		}
		if after, file, err = read(second); err != nil {
			return err
		}
	}
	if before < 1 {
		return errors.New("there is one version yet")
	}
	_, old, err := read(before)
	if err != nil {
		return err
	}
	if old == file {
		fmt.Printf("Versions %d and %d do not differ.\n", before, after)
		return nil
	}
	fmt.Print(udiff.Unified(fmt.Sprintf("version %d", before), fmt.Sprintf("version %d", after), old, file))
	return nil
}
