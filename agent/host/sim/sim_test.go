package sim

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"moorwatch.example/contract/link"
)

var noon = time.Date(2026, 11, 20, 12, 30, 0, 0, time.UTC)

// Every reading that a simulated device gives is one that the service believes, and follows from
// its seed and the time alone.
func TestReadings(t *testing.T) {
	for kind := range natures {
		d := Device{Name: string(kind), Kind: kind, Seed: 42, People: []string{"Wren Ashdown"}}
		for at := noon.AddDate(0, 0, -8); at.Before(noon); at = at.Add(37 * time.Minute) {
			v := d.At(at)
			if _, err := v.Check(); err != nil {
				t.Fatalf("%s at %s: %v", kind, at, err)
			}
			if !reflect.DeepEqual(v, d.At(at)) {
				t.Fatalf("%s at %s reads differently the second time", kind, at)
			}
		}
	}
}

func TestStories(t *testing.T) {
	full := Device{Kind: Server, Seed: 1, FullAt: noon.Add(72 * time.Hour)}
	before, _ := full.At(noon.AddDate(0, 0, -7)).FullestDisk()
	now, _ := full.At(noon).FullestDisk()
	if p := now.Percent(); p < 90 || p > 96 || before.Percent() >= p-5 {
		t.Errorf("three days before it is full the disk is at %.1f %%, a week earlier at %.1f %%", p, before.Percent())
	}
	hot := Device{Kind: Station, Seed: 1, HotAt: noon}
	day, _ := hot.At(noon).Hottest()
	night, _ := hot.At(noon.Add(-10 * time.Hour)).Hottest()
	if day.Celsius < 80 || night.Celsius > 55 {
		t.Errorf("the hot station reads %g °C at noon and %g °C at night", day.Celsius, night.Celsius)
	}
	desk := Device{Kind: Desk, Seed: 3, People: []string{"Wren Ashdown"}}
	people := 0
	for h := range 24 {
		people += len(desk.At(noon.Truncate(24 * time.Hour).Add(time.Duration(h) * time.Hour)).People)
	}
	if people < 4 || people > 14 {
		t.Errorf("somebody sits at a desk for %d hours of a day", people)
	}
}

func TestShell(t *testing.T) {
	h := Device{Name: "cen-kiosk-1", Kind: Kiosk, Seed: 9}.Host(time.Now)
	term, err := h.Terminals.Open(t.Context(), link.ShellOrder{})
	if err != nil {
		t.Fatal(err)
	}
	go term.Write([]byte("hostnamex\x7f\r\x1b[200~echo moor\x1b[201~\rexit 4\r"))
	var all strings.Builder
	b := make([]byte, 256)
	for {
		n, err := term.Read(b)
		all.Write(b[:n])
		if err != nil {
			break
		}
	}
	if exit := term.Wait(); exit != 4 || !strings.Contains(all.String(), "\r\ncen-kiosk-1\r\n") ||
		!strings.Contains(all.String(), "\r\nmoor\r\n") {
		t.Errorf("exit %d after %q", exit, all.String())
	}
}
