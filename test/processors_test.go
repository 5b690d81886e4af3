package test

import (
	"debug/elf"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
)

// Agents for other processors run under emulation: they enrol, connect and tell how they fare, and run a command.
// They need no library of the system, so that they run where it is musl's as well.
func TestOtherProcessors(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	for arch, emulator := range map[string]string{"arm64": "qemu-aarch64", "arm": "qemu-arm"} {
		if _, err := exec.LookPath(emulator); err != nil {
			t.Skip(emulator + " is missing")
		}
		program, dir := filepath.Join(t.TempDir(), "moor-agent"), t.TempDir()
		build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", program, "../cmd/moor-agent")
		build.Env = append(os.Environ(), "HOME="+home, "GOOS=linux", "GOARCH="+arch, "GOARM=7", "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", arch, err, out)
		}
		f := must(elf.Open(program))(t)
		if slices.ContainsFunc(f.Progs, func(p *elf.Prog) bool { return p.Type == elf.PT_INTERP }) {
			t.Errorf("the agent for %s needs a library", arch)
		}
		f.Close()
		enrol := exec.Command(emulator, program, "enrol", "--dir", dir, "--service", w.Service.URL)
		enrol.Env = append(os.Environ(), "MOOR_AGENT_TOKEN="+w.enrolmentToken(t, 1))
		out, errs, exit := ran(t, enrol)
		if exit != 0 {
			t.Fatal(arch, out, errs)
		}
		_, rest, _ := strings.Cut(out, "(")
		text, _, _ := strings.Cut(rest, ")")
		id := must(uuid.Parse(text))(t)
		cmd := exec.Command(emulator, program, "run", "--dir", dir)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		w.await(t, arch+" tells how it fares", func() bool {
			d := w.device(t, id)
			return d.Device.Online && d.Vitals != nil && d.Vitals.MemoryBytes > 0 && len(d.Vitals.Disks) > 0
		})
		said, errs, exit := ran(t, w.moor(t, "run", id.String(), "--", "echo", "from "+arch))
		if exit != 0 || strings.TrimSpace(said) != "from "+arch {
			t.Errorf("%s: %q %q %d", arch, said, errs, exit)
		}
	}
}
