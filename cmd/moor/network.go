package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

func networkCommand() *cli.Command {
	return &cli.Command{
		Name:  "network",
		Usage: "look at the network from a device",
		Commands: []*cli.Command{
			{Name: "show", Usage: "show addresses, routes, resolvers, neighbours and connections", ArgsUsage: "NAME",
				Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: showNetwork},
			{Name: "reach", Usage: "test whether the device reaches something", ArgsUsage: "NAME KIND TARGET",
				Description: "KIND is echo, tcp (with --port), name (a lookup) or web (a page).", ShellComplete: completeDevices,
				Flags: []cli.Flag{&cli.IntFlag{Name: "port", Usage: "of tcp"}, &cli.IntFlag{Name: "times", Value: 4}}, Action: testReach},
			{Name: "scan", Usage: "look for hosts on a network that the device is on", ArgsUsage: "NAME NETWORK",
				Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: scanNetwork},
		},
	}
}

func showNetwork(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	n, err := client.Result(k.GetNetworkWithResponse(ctx, d.ID))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(n)
	}
	t := newTable("INTERFACE", "HARDWARE", "ADDRESSES")
	for _, i := range n.Interfaces {
		t.row(i.Name, i.Hardware, strings.Join(i.Addresses, ", "))
	}
	t.row()
	t.row("ROUTE TO", "BY", "INTERFACE")
	for _, r := range n.Routes {
		t.row(r.To, r.By, r.Interface)
	}
	t.row()
	t.row("NEIGHBOUR", "HARDWARE", "DEVICE")
	for _, h := range n.Neighbours {
		t.row(h.Address, h.Hardware, cmp.Or(h.Device, "no agent"))
	}
	t.row()
	t.row("CONNECTION", "STATE", "PROCESS")
	for _, o := range n.Connections {
		t.row(strings.TrimSuffix(o.Protocol+" "+o.Local+" - "+o.Remote, " - "), o.State, o.Process)
	}
	t.row()
	t.row("RESOLVERS", strings.Join(n.Resolvers, ", "))
	return t.flush()
}

func testReach(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 3 {
		return errors.New("moor network reach NAME KIND TARGET")
	}
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	reached := false
	r, err := k.TestReach(ctx, d.ID, link.Reach{Kind: c.Args().Get(1), Target: c.Args().Get(2), Port: c.Int("port"), Times: c.Int("times")})
	err = client.Lines(ctx, r, err, "before the test was over", func(l link.ReachResult) (bool, error) {
		text := device.CleanText(l.Text)
		if l.Milliseconds > 0 {
			text += fmt.Sprintf(", %.1f ms", l.Milliseconds)
		}
		fmt.Println(text)
		reached = reached || l.OK
		return l.Done, nil
	})
	if err == nil && !reached {
		return exitStatus(1)
	}
	return err
}

func scanNetwork(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return errors.New("moor network scan NAME NETWORK")
	}
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	found := map[string]link.Neighbour{}
	r, err := k.ScanNetwork(ctx, d.ID, link.Scan{Network: c.Args().Get(1)})
	err = client.Lines(ctx, r, err, "before the scan was over", func(e link.ScanEvent) (bool, error) {
		if e.Found != nil {
			found[e.Found.Address] = *e.Found
		}
		return e.Done, nil
	})
	if err != nil {
		return err
	}
	list := []link.Neighbour{}
	for _, n := range found {
		list = append(list, n)
	}
	slices.SortFunc(list, func(a, b link.Neighbour) int { return cmp.Compare(a.Address, b.Address) })
	if c.Bool("json") {
		return printJSON(list)
	}
	t := newTable("ADDRESS", "HARDWARE", "ANSWERS AT")
	for _, n := range list {
		t.row(n.Address, n.Hardware, strings.Trim(fmt.Sprint(n.Open), "[]"))
	}
	return t.flush()
}
