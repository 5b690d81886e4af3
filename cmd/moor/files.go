package main

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/core/transfer"
)

var replaceFlag = &cli.BoolFlag{Name: "replace", Usage: "replace what stands there already"}

func putCommand() *cli.Command {
	return &cli.Command{
		Name:      "put",
		Usage:     "send a file or a folder to a device, unseen by its user",
		ArgsUsage: "NAME FILE PATH",
		Description: "PATH is whole, as the device writes it; one that ends in / is a folder, into which the file goes under\n" +
			"its own name. A file that is cut goes on by itself, and has its name once the device has compared its\n" +
			"SHA-256. Of a folder, what stands there with the same size and time is not sent again.",
		Flags: []cli.Flag{jsonFlag, replaceFlag,
			&cli.StringFlag{Name: "mode", Usage: "permission `BITS`, such as 0755; those of the file here if not given"}},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() != 3 {
				return errors.New("what goes where? moor put NAME FILE PATH")
			}
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			from, to := c.Args().Get(1), c.Args().Get(2)
			if strings.HasSuffix(to, "/") || strings.HasSuffix(to, `\`) {
				to += filepath.Base(from)
			}
			f, err := os.Open(from)
			if err != nil {
				return err
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			if info.IsDir() {
				return putFolder(ctx, c, k, d, from, to)
			}
			p := newProgress(c, filepath.Base(from))
			e, err := k.Put(ctx, d.ID, f, to, client.PutOptions{Replace: c.Bool("replace"), Folders: true, Bits: c.String("mode"),
				Progress: p.tell})
			p.end()
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(e)
			}
			fmt.Printf("%s: %s, %s, compared.\n", d.Name, device.CleanText(e.Path), health.Bytes(e.Size))
			return nil
		},
	}
}

// putFolder sends what below a folder is not there yet, or is there otherwise.
func putFolder(ctx context.Context, c *cli.Command, k *client.Client, d *api.Device, from, to string) error {
	there := map[string]link.FileEntry{}
	err := k.Walk(ctx, d.ID, to, true, func(b link.FileBatch) error {
		for _, e := range b.Entries {
			there[e.Name] = e
		}
		return nil
	})
	if p := (*client.Problem)(nil); err != nil && (!errors.As(err, &p) || p.Status != 404) {
		return err
	}
	var sent, same, bytes int64
	p := newProgress(c, filepath.Base(from))
	err = k.PutFolder(ctx, d.ID, to, func(w *tar.Writer) error {
		return filepath.WalkDir(from, func(at string, e fs.DirEntry, err error) error {
			if err != nil || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			info, err := e.Info()
			if err != nil || (!info.Mode().IsRegular() && !info.IsDir()) {
				return err
			}
			name, err := filepath.Rel(from, at)
			if err != nil || name == "." {
				return err
			}
			name = filepath.ToSlash(name)
			if old, ok := there[transfer.Text(name)]; ok && info.Mode().IsRegular() && old.Size == info.Size() &&
				old.Modified.Truncate(time.Second).Equal(info.ModTime().Truncate(time.Second)) {
				same++
				return nil
			}
			h, err := tar.FileInfoHeader(info, "")
			if err != nil {
				return err
			}
			h.Name, h.Format = name, tar.FormatPAX
			h.AccessTime, h.ChangeTime = time.Time{}, time.Time{}
			if err := w.WriteHeader(h); err != nil || info.IsDir() {
				return err
			}
			f, err := os.Open(at)
			if err != nil {
				return err
			}
			defer f.Close()
			n, err := io.Copy(w, f)
			sent++
			bytes += n
			p.tell(bytes, -1)
			return err
		})
	})
	p.end()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(map[string]int64{"sent": sent, "same": same, "bytes": bytes})
	}
	fmt.Printf("%s: %d files of %s sent to %s; %d were there already.\n", d.Name, sent, health.Bytes(bytes), to, same)
	return nil
}

func getCommand() *cli.Command {
	return &cli.Command{
		Name:          "get",
		Usage:         "fetch a file or a folder from a device, unseen by its user",
		ArgsUsage:     "NAME PATH [FILE]",
		Description:   "A file that is cut goes on by itself, also when the command is given again, and its SHA-256 is compared.",
		Flags:         []cli.Flag{replaceFlag, &cli.BoolFlag{Name: "quiet", Usage: "do not show how far it is"}},
		ShellComplete: completeDevices,
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() < 2 || c.NArg() > 3 {
				return errors.New("what from where? moor get NAME PATH [FILE]")
			}
			k, d, err := target(ctx, c)
			if err != nil {
				return err
			}
			from := c.Args().Get(1)
			base := transfer.Name(path.Base(strings.ReplaceAll(from, `\`, "/")))
			to := c.Args().Get(2)
			if to == "" {
				to = base
			} else if info, err := os.Stat(to); err == nil && info.IsDir() {
				to = filepath.Join(to, base)
			}
			e, err := client.Result(k.GetFileWithResponse(ctx, d.ID, &api.GetFileParams{Path: from}))
			if err != nil {
				return err
			}
			if e.Kind == link.KindFolder {
				return getFolder(ctx, c, k, d, from, to)
			}
			p := newProgress(c, base)
			err = k.Get(ctx, d.ID, from, to, c.Bool("replace"), p.tell)
			p.end()
			if err == nil {
				fmt.Printf("%s: %s, %s, compared.\n", d.Name, to, health.Bytes(e.Size))
			}
			return err
		},
	}
}

// getFolder fetches a folder below a new one here, out of which no name leads.
func getFolder(ctx context.Context, c *cli.Command, k *client.Client, d *api.Device, from, to string) error {
	if _, err := os.Lstat(to); err == nil && !c.Bool("replace") {
		return fmt.Errorf("%s is there already: choose another name, or use --replace", to)
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return err
	}
	defer root.Close()
	var files, bytes int64
	p := newProgress(c, filepath.Base(to))
	err = k.GetFolder(ctx, d.ID, from, func(h *tar.Header, r io.Reader) error {
		_, name, ok := strings.Cut(path.Clean(h.Name), "/") // without the folder's own name
		if !ok {
			if h.Typeflag != tar.TypeReg {
				return nil
			}
			name = path.Clean(h.Name) // the list of what was left out
		}
		switch h.Typeflag {
		case tar.TypeDir:
			return root.MkdirAll(filepath.FromSlash(name), 0o755)
		case tar.TypeReg:
			f, err := root.OpenFile(filepath.FromSlash(name), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, fs.FileMode(h.Mode).Perm())
			if err != nil {
				return err
			}
			n, err := io.Copy(f, r)
			files++
			bytes += n
			p.tell(bytes, -1)
			return errors.Join(err, f.Close(), root.Chtimes(filepath.FromSlash(name), time.Time{}, h.ModTime))
		}
		return nil // links
	})
	p.end()
	if err == nil {
		fmt.Printf("%s: %d files of %s fetched to %s.\n", d.Name, files, health.Bytes(bytes), to)
	}
	return err
}

// progress shows on a terminal how far a transfer is.
type progress struct {
	name  string
	began time.Time
	last  time.Time
	on    bool
	first int64
}

func newProgress(c *cli.Command, name string) *progress {
	return &progress{name: name, began: time.Now(), first: -1, on: term.IsTerminal(int(os.Stderr.Fd())) && !c.Bool("json") &&
		!c.Bool("quiet")}
}

func (p *progress) tell(done, size int64) {
	if p.first < 0 {
		p.first = done
	}
	if !p.on || time.Since(p.last) < 200*time.Millisecond {
		return
	}
	p.last = time.Now()
	speed := float64(done-p.first) / max(time.Since(p.began).Seconds(), 0.001)
	of := ""
	if size > 0 {
		of = fmt.Sprintf(" of %s, %d %%", health.Bytes(size), 100*done/size)
		if speed > 0 {
			of += fmt.Sprintf(", %s left", time.Duration(float64(size-done)/speed*float64(time.Second)).Round(time.Second))
		}
	}
	fmt.Fprintf(os.Stderr, "\r\x1b[K%s: %s%s, %s/s", device.CleanText(p.name), health.Bytes(done), of, health.Bytes(int64(speed)))
}

func (p *progress) end() {
	if p.on {
		fmt.Fprint(os.Stderr, "\r\x1b[K")
	}
}

func filesCommand() *cli.Command {
	change := func(name, usage, args string, least int, order func(c *cli.Command, rest []string) link.FileAction,
		flags ...cli.Flag) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: "NAME " + args, Flags: flags, ShellComplete: completeDevices,
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.NArg() < least+1 {
					return fmt.Errorf("moor files %s NAME %s", name, args)
				}
				k, d, err := target(ctx, c)
				if err != nil {
					return err
				}
				return changeFiles(ctx, k, d.ID, order(c, c.Args().Tail()))
			},
		}
	}
	into := func(action string) func(c *cli.Command, rest []string) link.FileAction {
		return func(c *cli.Command, rest []string) link.FileAction {
			return link.FileAction{Action: action, Paths: rest[:len(rest)-1], To: rest[len(rest)-1], Replace: c.Bool("replace")}
		}
	}
	simple := func(action string) func(c *cli.Command, rest []string) link.FileAction {
		return func(_ *cli.Command, rest []string) link.FileAction {
			return link.FileAction{Action: action, Paths: rest}
		}
	}
	return &cli.Command{
		Name:  "files",
		Usage: "list, show and change the files of a device, unseen by its user",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list a folder", ArgsUsage: "NAME PATH",
				Flags: []cli.Flag{jsonFlag, &cli.BoolFlag{Name: "deep", Usage: "everything below too"}}, ShellComplete: completeDevices,
				Action: listFiles},
			{Name: "show", Usage: "print a text", ArgsUsage: "NAME PATH", ShellComplete: completeDevices, Action: showFile},
			{Name: "follow", Usage: "print the last lines of a file, and those that are added", ArgsUsage: "NAME PATH",
				ShellComplete: completeDevices, Action: followFile,
				Flags: []cli.Flag{&cli.StringFlag{Name: "filter", Usage: "only lines that match this `PATTERN` (RE2)"},
					&cli.IntFlag{Name: "back", Value: 10, Usage: "lines from before"}}},
			{Name: "access", Usage: "tell whose a file is, and who may do what with it", ArgsUsage: "NAME PATH",
				Flags: []cli.Flag{jsonFlag}, ShellComplete: completeDevices, Action: fileAccess},
			{Name: "digest", Usage: "print the digest of a file", ArgsUsage: "NAME PATH",
				Flags:         []cli.Flag{&cli.StringFlag{Name: "kind", Value: "sha256", Usage: "sha256, sha512 or md5"}},
				ShellComplete: completeDevices, Action: digestFile},
			change("make", "make folders", "PATH ...", 1, simple(link.FileMake)),
			change("rename", "rename one thing", "PATH NEWPATH", 2, func(c *cli.Command, rest []string) link.FileAction {
				return link.FileAction{Action: link.FileRename, Paths: rest[:1], To: rest[1], Replace: c.Bool("replace")}
			}, replaceFlag),
			change("copy", "copy into a folder", "PATH ... FOLDER", 2, into(link.FileCopy), replaceFlag),
			change("move", "move into a folder", "PATH ... FOLDER", 2, into(link.FileMove), replaceFlag),
			change("remove", "remove to the recoverable place of the disk", "PATH ...", 1, simple(link.FileRemove)),
			{Name: "removed", Usage: "list what was removed and can be restored", ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag},
				ShellComplete: completeDevices, Action: listRemoved},
			change("restore", "restore what was removed", "ID ...", 1, simple(link.FileRestore)),
			change("purge", "remove for good what was removed", "ID ...", 1, simple(link.FilePurge)),
			change("permit", "set permission bits, owner and access", "PATH ...", 1, func(c *cli.Command, rest []string) link.FileAction {
				return link.FileAction{Action: link.FilePermit, Paths: rest, Bits: c.String("mode"), Owner: c.String("owner"),
					Group: c.String("group"), Deep: c.Bool("deep"), Who: c.String("who"), May: c.String("may")}
			}, &cli.StringFlag{Name: "mode", Usage: "permission `BITS`, such as 0644"}, &cli.StringFlag{Name: "owner", Usage: "`ACCOUNT`"},
				&cli.StringFlag{Name: "group", Usage: "`GROUP`"}, &cli.BoolFlag{Name: "deep", Usage: "everything below too"},
				&cli.StringFlag{Name: "who", Usage: "`ACCOUNT` whose entry of the access list is set, on Windows"},
				&cli.StringFlag{Name: "may", Usage: "what it may do: nothing, read, change, everything or inherited"}),
		},
	}
}

// place finds the device and path that a command names.
func place(ctx context.Context, c *cli.Command) (*client.Client, *api.Device, string, error) {
	if c.NArg() != 2 {
		return nil, nil, "", errors.New("name a device and a path")
	}
	k, d, err := target(ctx, c)
	return k, d, c.Args().Get(1), err
}

func listFiles(ctx context.Context, c *cli.Command) error {
	k, d, path, err := place(ctx, c)
	if err != nil {
		return err
	}
	t := newTable("MODE", "OWNER", "SIZE", "CHANGED", "NAME")
	err = k.Walk(ctx, d.ID, path, c.Bool("deep"), func(b link.FileBatch) error {
		for _, e := range b.Entries {
			if c.Bool("json") {
				text, err := jsonLine(e)
				if err != nil {
					return err
				}
				fmt.Println(text)
				continue
			}
			size, name := "", e.Name
			if e.Kind == link.KindFile {
				size = health.Bytes(e.Size)
			}
			if e.Target != "" {
				name += " -> " + e.Target
			}
			t.row(e.Mode, strings.TrimSuffix(e.Owner+":"+e.Group, ":"), size, minute(e.Modified), name)
		}
		return nil
	})
	if err == nil && !c.Bool("json") {
		err = t.flush()
	}
	return err
}

func showFile(ctx context.Context, c *cli.Command) error {
	k, d, path, err := place(ctx, c)
	if err != nil {
		return err
	}
	text, err := client.Result(k.ReadTextWithResponse(ctx, d.ID, &api.ReadTextParams{Path: path}))
	if err == nil {
		printLines(text.Text)
	}
	return err
}

// printLines prints a text of a device, cleaned where it goes to a terminal, so that it cannot
// steer that.
func printLines(text string) {
	if !term.IsTerminal(int(os.Stdout.Fd())) {
		fmt.Print(text)
		return
	}
	for line := range strings.Lines(text) {
		fmt.Println(device.CleanText(strings.ReplaceAll(strings.TrimRight(line, "\r\n"), "\t", "    ")))
	}
}

func followFile(ctx context.Context, c *cli.Command) error {
	k, d, path, err := place(ctx, c)
	if err != nil {
		return err
	}
	r, err := k.FollowFile(ctx, d.ID, link.Follow{Path: path, Filter: c.String("filter"), Back: c.Int("back")})
	return client.Lines(ctx, r, err, "while the file was followed", func(l link.Lines) (bool, error) {
		if l.Note != "" {
			fmt.Fprintln(os.Stderr, l.Note)
		}
		if l.Skipped > 0 {
			fmt.Fprintf(os.Stderr, "%d lines were left out, as they came too fast.\n", l.Skipped)
		}
		if len(l.Lines) > 0 {
			printLines(strings.Join(l.Lines, "\n") + "\n")
		}
		return false, nil
	})
}

func fileAccess(ctx context.Context, c *cli.Command) error {
	k, d, path, err := place(ctx, c)
	if err != nil {
		return err
	}
	e, err := client.Result(k.GetFileWithResponse(ctx, d.ID, &api.GetFileParams{Path: path}))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(e)
	}
	fmt.Println(device.CleanText(e.Path))
	for _, line := range [][2]string{{"owner", e.Owner}, {"group", e.Group}} {
		if line[1] != "" {
			fmt.Printf("  %s  %s\n", line[0], device.CleanText(line[1]))
		}
	}
	if len(e.Access) == 0 {
		fmt.Printf("  bits   %s (%s)\n", e.Bits, e.Mode)
	}
	for _, line := range e.Access {
		fmt.Printf("  %s\n", device.CleanText(line))
	}
	return nil
}

func digestFile(ctx context.Context, c *cli.Command) error {
	k, d, path, err := place(ctx, c)
	if err != nil {
		return err
	}
	kind := api.GetFileParamsDigest(c.String("kind"))
	e, err := client.Result(k.GetFileWithResponse(ctx, d.ID, &api.GetFileParams{Path: path, Digest: &kind}))
	if err == nil {
		fmt.Printf("%s  %s\n", e.Digest, device.CleanText(e.Path))
	}
	return err
}

func listRemoved(ctx context.Context, c *cli.Command) error {
	k, d, err := target(ctx, c)
	if err != nil {
		return err
	}
	list, err := client.Result(k.ListRemovedFilesWithResponse(ctx, d.ID))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(list.Items)
	}
	t := newTable("ID", "REMOVED", "SIZE", "WHERE IT WAS")
	for _, r := range list.Items {
		t.row(r.ID, ago(r.At), health.Bytes(r.Size), r.Path)
	}
	return t.flush()
}

// changeFiles does an action and prints what failed.
func changeFiles(ctx context.Context, k *client.Client, id uuid.UUID, order link.FileAction) error {
	failed, done := 0, 0
	r, err := k.ChangeFiles(ctx, id, order)
	err = client.Lines(ctx, r, err, "before all was done", func(e link.FileEvent) (bool, error) {
		if e.Error != "" {
			failed++
			fmt.Fprintln(os.Stderr, device.CleanText(e.Error))
		}
		done = max(done, e.Files)
		return e.Done, nil
	})
	if err != nil {
		return err
	}
	if failed > 0 {
		return fmt.Errorf("done to %d, not to %d", done, failed)
	}
	fmt.Printf("Done to %d.\n", done)
	return nil
}
