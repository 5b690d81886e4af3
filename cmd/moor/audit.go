package main

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
)

func auditCommand() *cli.Command {
	wanted := []cli.Flag{&cli.StringFlag{Name: "device", Usage: "only what was done to the device of this `NAME`"},
		&cli.StringFlag{Name: "text", Usage: "only entries that hold this `TEXT`"},
		&cli.DurationFlag{Name: "since", Usage: "only of this time back, such as 48h"}}
	return &cli.Command{
		Name:   "audit",
		Usage:  "show who did what, newest first; check that nothing was altered; export it",
		Flags:  listFlags(wanted...),
		Action: listAudit,
		Commands: []*cli.Command{
			{Name: "verify", Usage: "check the chain of hashes over all entries, and the service's signatures", Action: verifyAudit,
				Description: "Each entry carries a SHA-256 over itself and the hash before it. What this prints last can be " +
					"kept\nelsewhere, and compared later: with --expect it must be found in the chain.",
				Flags: []cli.Flag{&cli.StringFlag{Name: "expect", Usage: "a `HASH` that an earlier check printed"},
					&cli.StringSliceFlag{Name: "key", Usage: "a `KEY` that an earlier check printed: no other may have signed; repeat " +
						"it for more"}}},
			{Name: "export", Usage: "print all entries, oldest first", Action: exportAudit,
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "format", Value: "jsonl", Usage: "csv, jsonl or syslog (RFC 5424)"}},
					wanted...)},
		},
	}
}

// auditParams reads which entries are wanted.
func auditParams(ctx context.Context, c *cli.Command, k *client.Client) (p api.ListAuditParams, err error) {
	if name := c.String("device"); name != "" {
		d, err := k.Find(ctx, name)
		if err != nil {
			return p, err
		}
		p.Device = &d.ID
	}
	if text := c.String("text"); text != "" {
		p.Text = &text
	}
	if d := c.Duration("since"); d > 0 {
		since := time.Now().Add(-d)
		p.Since = &since
	}
	return p, nil
}

func orNothing(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func listAudit(ctx context.Context, c *cli.Command) error {
	k, err := dial()
	if err != nil {
		return err
	}
	params, err := auditParams(ctx, c, k)
	if err != nil {
		return err
	}
	rows := client.Pages(func(cursor *string) (*api.AuditPage, error) {
		params.Cursor = cursor
		return client.Result(k.ListAuditWithResponse(ctx, &params))
	})
	return list(c, rows, 50, []string{"AT", "WHO", "VIA", "FROM", "WHAT", "DEVICE", "DETAIL", "RESULT"}, func(e api.AuditEntry) []string {
		return []string{e.At.Local().Format("2 Jan 15:04:05"), e.Actor, e.Via, e.Address, e.Action, orNothing(e.DeviceName),
			orNothing(e.Detail), e.Result}
	})
}

// verifyAudit reads the whole log, newest first, and holds each entry's hash against the one before.
func verifyAudit(ctx context.Context, c *cli.Command) error {
	k, err := dial()
	if err != nil {
		return err
	}
	whole, err := client.Result(k.GetAuditHeadWithResponse(ctx))
	if err != nil {
		return err
	}
	keys, err := auditKeys(whole.Keys, c.StringSlice("key"))
	if err != nil {
		return err
	}
	limit, unsigned := 500, 0
	var newer *access.Entry // which must follow the entry that is read next
	var last string
	n, found := 0, c.String("expect") == ""
	check := func(before []byte, seq int64) error {
		if newer == nil {
			return nil
		}
		return access.Verify(seq, before, *newer)
	}
	for e, err := range client.Pages(func(cursor *string) (*api.AuditPage, error) {
		return client.Result(k.ListAuditWithResponse(ctx, &api.ListAuditParams{Cursor: cursor, Limit: &limit}))
	}) {
		if err != nil {
			return err
		}
		entry, err := entryOf(e)
		if err != nil {
			return err
		}
		if err := check(entry.Hash, entry.Seq); err != nil {
			return err
		}
		switch err := access.VerifySignature(keys, entry); {
		case errors.Is(err, access.ErrUnsigned):
			unsigned++
		case err != nil:
			return err
		case unsigned > 0:
			return fmt.Errorf("entry %d is signed, and %d after it are not: they were written by somebody else", entry.Seq, unsigned)
		}
		if n == 0 {
			last = *e.Hash
		}
		found = found || *e.Hash == c.String("expect")
		newer = &entry
		n++
	}
	if err := check(nil, 0); err != nil {
		return err
	}
	if !found {
		return fmt.Errorf("the hash %s is not in the chain: the log is not the one that was checked before", c.String("expect"))
	}
	fmt.Printf("%d entries, none altered or missing. The last has the hash\n%s\n", n, last)
	if unsigned > 0 {
		fmt.Printf("The first %d are from before entries were signed.\n", unsigned)
	}
	for id, key := range keys {
		fmt.Printf("Signed by the key %s: %x\n", id, []byte(key))
	}
	return nil
}

// auditKeys are the keys that the service names, or those of them that are expected.
func auditKeys(told map[string]string, expected []string) (map[string]ed25519.PublicKey, error) {
	keys := map[string]ed25519.PublicKey{}
	for _, text := range told {
		key, err := hex.DecodeString(text)
		if err != nil || len(key) != ed25519.PublicKeySize {
			return nil, fmt.Errorf("the service names a key that cannot be read: %q", text)
		}
		if len(expected) == 0 || slices.Contains(expected, text) {
			keys[access.KeyID(key)] = key
		}
	}
	return keys, nil
}

func entryOf(e api.AuditEntry) (access.Entry, error) {
	if e.Hash == nil {
		return access.Entry{}, errors.New("the service tells no hashes")
	}
	hash, err := hex.DecodeString(*e.Hash)
	if err != nil {
		return access.Entry{}, fmt.Errorf("entry %d has a hash that cannot be read", e.Seq)
	}
	out := access.Entry{Seq: e.Seq, At: e.At, Actor: e.Actor, Via: e.Via, Action: e.Action, DeviceName: orNothing(e.DeviceName),
		Detail: orNothing(e.Detail), Address: e.Address, Result: e.Result, Hash: hash}
	if e.Device != nil {
		out.Device = e.Device.String()
	}
	out.ActorID, out.ViaID, out.KeyID = orNothing(e.ActorID), orNothing(e.ViaID), orNothing(e.Key)
	if out.Signature, err = hex.DecodeString(orNothing(e.Signature)); err != nil {
		return out, fmt.Errorf("entry %d has a signature that cannot be read", e.Seq)
	}
	return out, nil
}

func exportAudit(ctx context.Context, c *cli.Command) error {
	k, err := dial()
	if err != nil {
		return err
	}
	p, err := auditParams(ctx, c, k)
	if err != nil {
		return err
	}
	answer, err := k.ExportAudit(ctx, &api.ExportAuditParams{Format: api.ExportAuditParamsFormat(c.String("format")), Device: p.Device,
		Text: p.Text, Since: p.Since})
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return client.Refusal(answer)
	}
	_, err = io.Copy(os.Stdout, answer.Body)
	return err
}
