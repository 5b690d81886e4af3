package selector

import (
	"slices"
	"testing"
)

func TestReported(t *testing.T) {
	for expression, want := range map[string][]string{
		`true`: nil,
		`organisation == "a" && site.startsWith("b") && "loan" in tags`: nil,
		`name.contains("kiosk")`:                                         {"name"},
		`tags.exists(name, name == "loan")`:                              {"name"}, // a name of its own, and yet the safe answer
		`tags.exists(t, t == name)`:                                      {"name"},
		`"x" in software && software["x"] == "1" || readings["a"] > 1.0`: {"readings", "software"},
		`since < now - duration("24h")`:                                  {"since"},
		`site == "a" ? os == "linux" : disk > 90`:                        {"disk", "os"},
		`[name].exists(n, n == "x")`:                                     {"name"},
	} {
		got, err := Reported(expression)
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s rests on %q, %v; want %q", expression, got, err, want)
		}
	}
	if _, err := Reported("os =="); err == nil {
		t.Error("half an expression was read")
	}
	for _, name := range Variables { // each is one or the other, on purpose
		if got, err := Reported(name + " == " + name); err != nil || (len(got) == 0) != assigned[name] {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
}
