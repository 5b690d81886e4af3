package windows

import (
	"reflect"
	"slices"
	"testing"

	"golang.org/x/sys/windows"

	on "moorwatch.example/agent/host/place"
	"moorwatch.example/contract/link"
	"moorwatch.example/test/scratch"
)

// Wine keeps of a file's access list what Unix has bits for; the lists themselves are built as on Windows.
func TestLet(t *testing.T) {
	sid := func(kind windows.WELL_KNOWN_SID_TYPE) *windows.SID {
		s, err := windows.CreateWellKnownSid(kind)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	d := &disk{}
	guests, users := d.name(sid(windows.WinBuiltinGuestsSid)), d.name(sid(windows.WinBuiltinUsersSid))
	var list *windows.ACL
	for _, c := range []struct {
		who  windows.WELL_KNOWN_SID_TYPE
		may  string
		want []string
	}{
		// There was no list: everybody stays let in.
		{windows.WinBuiltinGuestsSid, link.MayRead, []string{guests + " may read, run", d.name(sid(windows.WinWorldSid)) +
			" may do everything"}},
		{windows.WinWorldSid, link.MayInherited, []string{guests + " may read, run"}},
		{windows.WinBuiltinUsersSid, link.MayAll, []string{guests + " may read, run", users + " may do everything"}},
		{windows.WinBuiltinGuestsSid, link.MayChange, []string{guests + " may read, write, run, remove", users + " may do everything"}},
		{windows.WinBuiltinGuestsSid, link.MayNothing, []string{guests + " may not do everything", users + " may do everything"}},
		{windows.WinBuiltinUsersSid, link.MayInherited, []string{guests + " may not do everything"}},
		{windows.WinBuiltinGuestsSid, link.MayInherited, []string{}},
	} {
		var err error
		if list, err = let(list, sid(c.who), c.may, true); err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		got := d.words(list)
		if c.may != link.MayNothing { // what is denied stands first; of the others the order does not matter
			slices.Sort(got)
			slices.Sort(c.want)
		}
		if !reflect.DeepEqual(got, c.want) {
			t.Errorf("%+v: %q", c, got)
		}
	}
}

// Wine hides the folder, and lets everybody in all the same.
func TestSeclude(t *testing.T) {
	dir := scratch.Dir(t)
	in, base, err := on.Parent(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	for range 2 { // it is asked for at each removal
		if err := (&disk{}).Seclude(in, base); err != nil {
			t.Fatal(err)
		}
	}
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		t.Fatal(err)
	}
	if a, err := windows.GetFileAttributes(name); err != nil || a&windows.FILE_ATTRIBUTE_HIDDEN == 0 {
		t.Errorf("its attributes are %#x, %v", a, err)
	}
}
