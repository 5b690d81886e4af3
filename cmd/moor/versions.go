package main

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strconv"

	"github.com/aymanbagabas/go-udiff"
	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

func packageVersions(ctx context.Context, k *client.Client, id uuid.UUID) iter.Seq2[api.Package, error] {
	return client.Pages(func(cursor *string) ([]api.Package, *string, error) {
		page, err := client.Result(k.ListPackageVersionsWithResponse(ctx, id, &api.ListPackageVersionsParams{Cursor: cursor}))
		if err != nil {
			return nil, nil, err
		}
		return page.Items, page.Next, nil
	})
}

// versionParam asks for a version; 0 is the latest.
func versionParam[T api.GetPackageParams | api.GetScriptParams](version int) *T {
	var p T
	if version > 0 {
		switch p := any(&p).(type) {
		case *api.GetPackageParams:
			p.Version = &version
		case *api.GetScriptParams:
			p.Version = &version
		}
	}
	return &p
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
	fmt.Print(udiff.Unified(fmt.Sprintf("version %d", before), fmt.Sprintf("version %d", after), old, file))
	return nil
}
