package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/core/nearest"
)

// misspelt refuses words that name no command, before their options are read: what comes after one that is not known
// cannot be judged. args are those of the program, without its name.
func misspelt(root *cli.Command, args []string) error {
	c, path := root, root.Name
	for _, word := range args {
		if strings.HasPrefix(word, "-") || c == root && slices.Contains([]string{"help", "h", "completion"}, word) {
			return nil
		}
		next := c.Command(word)
		if next == nil && len(c.Commands) > 0 && c.ArgsUsage == "" {
			text := fmt.Sprintf("there is no command %q: %s help lists them", path+" "+word, path)
			if near := nearestCommand(word, c); near != "" {
				text = fmt.Sprintf("there is no command %q: did you mean %q?", path+" "+word, path+" "+near)
			}
			return errors.New(text)
		}
		if next == nil {
			return nil
		}
		c, path = next, path+" "+next.Name
	}
	return nil
}

// nearestCommand is the command whose name is most like a word; "" where none is.
func nearestCommand(word string, c *cli.Command) string {
	var names []string
	for _, below := range c.Commands {
		names = append(names, below.Names()...)
	}
	return nearest.Of(word, names)
}

// tellOptions has every command say which option is near one that it does not have.
func tellOptions(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		name, ok := strings.CutPrefix(err.Error(), "flag provided but not defined: -")
		if !ok {
			return err
		}
		name = strings.TrimLeft(name, "-")
		var names []string
		for _, f := range c.Flags {
			names = append(names, f.Names()...)
		}
		if near := nearest.Of(name, names); near != "" {
			return fmt.Errorf("%s has no option --%s: did you mean --%s?", c.FullName(), name, near)
		}
		return fmt.Errorf("%s has no option --%s: %s --help lists them", c.FullName(), name, c.FullName())
	}
	for _, below := range c.Commands {
		tellOptions(below)
	}
}
