package firmware

import "testing"

func TestMonitorName(t *testing.T) {
	edid := make([]byte, 128)
	copy(edid[72:], append([]byte{0, 0, 0, 0xfc, 0}, "Fennick 24\n  "...))
	if got := MonitorName(edid); got != "Fennick 24" {
		t.Errorf("%q", got)
	}
	if got := MonitorName(make([]byte, 128)); got != "monitor" {
		t.Errorf("%q", got)
	}
}

func FuzzTable(f *testing.F) {
	f.Add(append([]byte{1, 27, 0, 1, 1, 2, 0, 3}, make([]byte, 30)...))
	f.Fuzz(func(t *testing.T, table []byte) {
		n := 0
		for s := range All(table) {
			s.Text(7)
			s.UUID()
			s.Module(func(string, string, string, ...string) {}, n)
			if n++; n > len(table) {
				t.Fatal("it does not end")
			}
		}
		MonitorName(table)
	})
}
