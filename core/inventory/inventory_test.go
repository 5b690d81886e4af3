package inventory

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

func software(name, version string) Item {
	return Item{Section: Software, Key: "deb " + name, Name: name, Fields: map[string]string{"version": version}}
}

func random(r *rand.Rand) Snapshot {
	var items []Item
	for range r.IntN(40) {
		items = append(items, software(fmt.Sprint("p", r.IntN(20)), fmt.Sprint(r.IntN(3))),
			Item{Section: "services", Key: fmt.Sprint(r.IntN(9)), Fields: map[string]string{"start": fmt.Sprint(r.IntN(2))}})
	}
	return Of(items)
}

// What leads from any snapshot to any other leads there, and an equal one needs nothing.
func TestDelta(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		a, b := random(r), random(r)
		d := Compare(a, b)
		got, err := a.Apply(d)
		if err != nil || got.Digest() != b.Digest() {
			t.Fatalf("%v: %d items, want %d", err, len(got), len(b))
		}
		if n := len(Changes(a, b)); n != len(d.Put)+len(d.Gone) {
			t.Fatalf("%d changes for %d differences", n, len(d.Put)+len(d.Gone))
		}
		if same := Compare(b, b); len(same.Put)+len(same.Gone) != 0 {
			t.Fatalf("an equal snapshot differs by %+v", same)
		}
		if _, err := random(r).Apply(Delta{Base: "other", Digest: d.Digest}); err == nil {
			t.Fatal("differences from an unknown snapshot were taken")
		}
		if _, err := a.Apply(Delta{Base: d.Base, Digest: "wrong", Put: d.Put, Gone: d.Gone}); err == nil {
			t.Fatal("differences that lead elsewhere were taken")
		}
	}
}

func TestSummaries(t *testing.T) {
	service := func(start string) Item {
		return Item{Section: "services", Key: "cups", Name: "cups", Fields: map[string]string{"start": start}}
	}
	for _, c := range []struct {
		before, after []Item
		want          string
	}{
		{nil, []Item{software("curl", "7.88")}, "curl 7.88 installed"},
		{[]Item{software("curl", "7.88")}, nil, "curl 7.88 removed"},
		{[]Item{software("curl", "7.88")}, []Item{software("curl", "8.5")}, "curl updated from 7.88 to 8.5"},
		{[]Item{service("auto")}, []Item{service("off")}, "Service cups: start from auto to off"},
		{nil, []Item{{Section: "users", Key: "501", Name: "wren"}}, "Local user wren added"},
	} {
		got := Changes(Of(c.before), Of(c.after))
		if len(got) != 1 || got[0].Summary != c.want {
			t.Errorf("%+v, want %q", got, c.want)
		}
	}
}

// The same update has one signature on all devices, another update has another.
func TestSignature(t *testing.T) {
	update := func(from, to, extra string) string {
		a, b := software("printer", from), software("printer", to)
		b.Fields["installed"] = extra
		return Changes(Of([]Item{a}), Of([]Item{b}))[0].Signature()
	}
	if update("1", "2", "monday") != update("1", "2", "tuesday") || update("1", "2", "") == update("1", "3", "") ||
		update("1", "2", "") == update("0", "2", "") {
		t.Error("signatures do not tell updates apart")
	}
}

func TestHostileItems(t *testing.T) {
	s := Of([]Item{{Section: "nonsense", Key: "a"}, {Section: "users", Key: ""},
		{Section: "users", Key: "\u202ea\x00", Fields: map[string]string{"x": "\x1b[31mred"}}})
	if len(s) != 1 || s[Ref{"users", "a"}].Fields["x"] != "[31mred" || s[Ref{"users", "a"}].Name != "a" {
		t.Errorf("%+v", s)
	}
}

func TestPackageURL(t *testing.T) {
	for want, got := range map[string]string{
		"pkg:deb/debian/libc%2B%2B1@2:1.0~rc1-3?arch=amd64": PackageURL("deb", "debian", "libc++1", "2:1.0~rc1-3", "arch", "amd64"),
		"pkg:generic/Fennick%20Print@4.2":                   PackageURL("generic", "", "Fennick Print", "4.2", "arch", ""),
	} {
		if got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
