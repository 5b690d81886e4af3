package test

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/screen"
	"moorwatch.example/test/wait"
)

// echoes is the boot sector of a disk: it prints each key that is pressed, by the computer's firmware.
var echoes = []byte{
	0xb8, 0x03, 0x00, 0xcd, 0x10, // a screen of text
	0x31, 0xc0, 0xcd, 0x16, // wait for a key
	0xb4, 0x0e, 0x31, 0xdb, 0xcd, 0x10, // print it
	0xeb, 0xf4, // again
}

// machine is a virtual machine whose console is served by RFB.
type virtual struct {
	address string
	monitor string
}

// virtualMachine starts one that prints what is typed, with a password or without.
func virtualMachine(t *testing.T, secret string) *virtual {
	t.Helper()
	if _, err := exec.LookPath("qemu-system-x86_64"); err != nil {
		t.Skip("qemu-system-x86_64 is missing")
	}
	dir := t.TempDir()
	disk := make([]byte, 1440<<10)
	copy(disk, echoes)
	disk[510], disk[511] = 0x55, 0xaa
	must(0, os.WriteFile(filepath.Join(dir, "disk"), disk, 0o600))(t)
	l := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	v := &virtual{address: fmt.Sprintf("127.0.0.1:%d", port), monitor: filepath.Join(dir, "monitor")}
	args := []string{"-nodefaults", "-display", "none", "-vga", "std", "-m", "16", "-drive", "if=floppy,format=raw,file=" +
		filepath.Join(dir, "disk"), "-boot", "a",
		"-monitor", "unix:" + v.monitor + ",server=on,wait=off"}
	console := fmt.Sprintf("127.0.0.1:%d", port-5900)
	if secret != "" {
		must(0, os.WriteFile(filepath.Join(dir, "secret"), []byte(secret), 0o600))(t)
		args = append(args, "-object", "secret,id=s,file="+filepath.Join(dir, "secret"))
		console += ",password-secret=s"
	}
	cmd := exec.Command("qemu-system-x86_64", append(args, "-vnc", console)...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		if t.Failed() {
			t.Logf("qemu: %s", out.String())
		}
	})
	for deadline := time.Now().Add(soon); ; {
		c, err := net.Dial("tcp", v.address)
		if err == nil {
			c.Close()
			return v
		}
		if time.Now().After(deadline) {
			t.Fatalf("the virtual machine has no console: %v", err)
		}
		wait.Pause(t, 50*time.Millisecond)
	}
}

// shows is what the machine really shows, as it writes it to a file itself (PPM).
func (v *virtual) shows(t *testing.T) *screen.Picture {
	t.Helper()
	c := must(net.Dial("unix", v.monitor))(t)
	defer c.Close()
	path := filepath.Join(filepath.Dir(v.monitor), "picture.ppm")
	c.SetDeadline(time.Now().Add(soon))
	in := bufio.NewReader(c)
	prompt := func() { // the monitor is ready for the next order
		for said := ""; !strings.HasSuffix(said, "(qemu) "); {
			b, err := in.ReadByte()
			if err != nil {
				t.Fatalf("the monitor said %q: %v", said, err)
			}
			said += string(b)
		}
	}
	prompt()
	fmt.Fprintf(c, "screendump %s\n", path)
	prompt()
	f := must(os.Open(path))(t)
	defer f.Close()
	var w, h, most int
	b := bufio.NewReader(f)
	if n, err := fmt.Fscanf(b, "P6\n%d %d\n%d\n", &w, &h, &most); n != 3 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	rgb := must(io.ReadAll(b))(t)
	p := &screen.Picture{W: w, H: h, Pix: make([]uint32, w*h)}
	for i := range p.Pix {
		p.Pix[i] = uint32(rgb[3*i])<<16 | uint32(rgb[3*i+1])<<8 | uint32(rgb[3*i+2])
	}
	return p
}

// The console of a virtual machine, which a device reaches over its network, is listed with the
// device's desktops, seen exactly as it is, and typed into; its password is told to nobody. One that
// refuses, and one that is nowhere, are told in words.
func TestConsoleOfAVirtualMachine(t *testing.T) {
	t.Parallel()
	v := virtualMachine(t, "heath-7")
	w := begin(t, false)
	d := w.machine(t, "hay-board-01")
	ctx := t.Context()
	add := func(name, address, password string) api.Console {
		in := api.NewConsole{Name: name, Address: address}
		if password != "" {
			in.Password = &password
		}
		return *must(client.Made(w.owner.AddConsoleWithResponse(ctx, d.id, in)))(t)
	}
	o := add("Board 7", v.address, "heath-7")
	desktop := "console:" + o.ID.String()
	list := must(client.Result(w.owner.ListDesktopsWithResponse(ctx, d.id)))(t)
	if last := list.Items[len(list.Items)-1]; last.ID != desktop || !strings.Contains(last.Title, "Board 7") || last.Missing != "" {
		t.Errorf("listed as %+v", last)
	}
	seen := w.view(t, w.owner, d, client.ScreenOptions{Desktop: desktop})
	seen.until(t, "the console begins", func() bool { return seen.Picture() != nil && seen.Picture().W == 720 })
	if b := seen.events[0].Begin; b == nil || b.Desktop.ID != desktop || len(b.Monitors) != 1 {
		t.Errorf("it begins with %+v", seen.events[0])
	}
	dark := count(seen.Picture())
	seen.press(t, "m", "O", "o", "r", "!")
	seen.until(t, "what was typed is seen", func() bool { return count(seen.Picture()) > dark+100 })
	if err := seen.Still(ctx, 1500*time.Millisecond, 10*time.Second); err != nil {
		t.Fatal(err)
	}
	// The text cursor blinks: it is on at one look, and off at another.
	w.await(t, "the picture is the machine's own", func() bool {
		return differences(v.shows(t), seen.Picture()) < 2*9*16
	})

	add("Wrong password", v.address, "moor-7")
	add("Nowhere", "127.0.0.1:1", "")
	for o, err := range client.Pages(func(cursor *string) (*api.ConsolePage, error) {
		return client.Result(w.owner.ListConsolesWithResponse(ctx, d.id, &api.ListConsolesParams{Cursor: cursor, Limit: new(2)}))
	}) {
		if err != nil {
			t.Fatal(err)
		}
		words := map[string]string{"Wrong password": "does not take this password", "Nowhere": "does not answer"}[o.Name]
		if words == "" {
			continue
		}
		_, err := w.owner.Screen(ctx, d.id, client.ScreenOptions{Desktop: "console:" + o.ID.String()})
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", o.Name, err)
		}
	}
	for _, bad := range []string{"", "one two", "host:0", "host:70000", "user@host:5900"} {
		answer := must(w.owner.AddConsoleWithResponse(ctx, d.id, api.NewConsole{Name: "Bad", Address: bad}))(t)
		if answer.StatusCode() != http.StatusBadRequest {
			t.Errorf("the address %q: %s", bad, answer.Status())
		}
	}
	helper := w.person(t, access.Helper)
	if answer := must(helper.AddConsoleWithResponse(ctx, d.id,
		api.NewConsole{Name: "Mine", Address: "127.0.0.1"}))(t); answer.StatusCode() != http.StatusForbidden {
		t.Errorf("a helper adds a console: %s", answer.Status())
	}
	db := must(pgx.Connect(ctx, w.config.Owner))(t)
	defer db.Close(ctx)
	var kept string
	if err := db.QueryRow(ctx, "SELECT string_agg(encode(secret, 'escape'), ' ') FROM consoles").Scan(&kept); err != nil ||
		strings.Contains(kept, "heath-7") {
		t.Errorf("the password is kept as %q, %v", kept, err)
	}
	must(0, client.Done(w.owner.RemoveConsoleWithResponse(ctx, d.id, o.ID)))(t)
	if _, err := w.owner.Screen(ctx, d.id, client.ScreenOptions{Desktop: desktop}); err == nil {
		t.Error("a console that was removed is opened")
	}
}

// count counts the pixels that are not black.
func count(p *screen.Picture) (n int) {
	for _, v := range p.Pix {
		if v != 0 {
			n++
		}
	}
	return n
}

// differences counts the pixels that differ; all of them where the sizes do.
func differences(a, b *screen.Picture) (n int) {
	if a.W != b.W || a.H != b.H {
		return a.W * a.H
	}
	for _, r := range screen.Differences(a, b) {
		n += r.Dx() * r.Dy()
	}
	return n
}
