package console

import (
	"context"
	"encoding/json"
	"io"
	"os"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/helper"
	"moorwatch.example/contract/link"
)

// Argument is the command of the agent's program that makes it a helper for one console.
const Argument = "console-helper"

// desk is what the helper does: what it opens is an order, as JSON. There is nothing else to it.
type desk struct{}

func (desk) Desktops(context.Context) (link.DesktopList, error) { return link.DesktopList{}, nil }
func (desk) LetGo()                                             {}

func (desk) Open(ctx context.Context, order string) (host.Screen, error) {
	var o link.ConsoleOrder
	if err := json.Unmarshal([]byte(order), &o); err != nil {
		return nil, err
	}
	return Open(ctx, o)
}

// Help serves a console to the agent that started this helper, over standard input and output, and ends with them.
func Help() error {
	if err := confine(); err != nil {
		return err
	}
	return helper.Serve(helper.Pipe{ReadCloser: io.NopCloser(os.Stdin), Out: os.Stdout}, desk{})
}

// apart is a screen of a helper of its own, which ends with it.
type apart struct {
	host.Screen
	end func()
}

// Close implements host.Screen.
func (a apart) Close() error {
	defer a.end()
	return a.Screen.Close()
}
