package access

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"slices"
	"strings"
	"testing"
)

func TestSignatures(t *testing.T) {
	public, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	id := KeyID(public)
	keys := map[string]ed25519.PublicKey{id: public, "short": public[:5]}
	e := Entry{Seq: 7, Hash: bytes.Repeat([]byte{1}, 32), KeyID: id}
	e.Signature = SignEntry(key, e.Hash)
	if err := VerifySignature(keys, e); err != nil || len(id) != 16 {
		t.Errorf("%q, %v", id, err)
	}
	for want, change := range map[string]func(e *Entry){
		"key that is not known": func(e *Entry) { e.KeyID = "another" },
		"not known, \"short\"":  func(e *Entry) { e.KeyID = "short" },
		"was not signed by":     func(e *Entry) { e.Hash = bytes.Repeat([]byte{2}, 32) },
		"does not hold":         func(e *Entry) { e.Signature = ed25519.Sign(key, e.Hash) }, // of something else
	} {
		changed := e
		if change(&changed); VerifySignature(keys, changed) == nil || !strings.Contains(VerifySignature(keys, changed).Error(), want) {
			t.Errorf("%s: %v", want, VerifySignature(keys, changed))
		}
	}
	if err := VerifySignature(keys, Entry{Seq: 1}); !errors.Is(err, ErrUnsigned) {
		t.Errorf("%v", err)
	}
}

// Roles grant what is known, in one order; an owner everything, a viewer nothing that changes.
func TestPermissionsOfRoles(t *testing.T) {
	if len(Owner.Permissions()) < len(Technician.Permissions()) || len(Technician.Permissions()) < len(Helper.Permissions()) {
		t.Error("a lesser role grants more")
	}
	for _, role := range BuiltInRoles() {
		all := role.Permissions()
		if len(all) == 0 || !slices.IsSortedFunc(all, func(a, b Permission) int {
			list := List(func(Permission) bool { return true })
			return slices.Index(list, a) - slices.Index(list, b)
		}) {
			t.Errorf("%s grants %v", role, all)
		}
	}
	for _, p := range Viewer.Permissions() {
		for _, level := range []Level{Act, Administer} {
			if strings.HasSuffix(string(p), "."+string(level)) {
				t.Errorf("a viewer has %s", p)
			}
		}
	}
	if Role("of our own").Permissions() != nil && len(Role("of our own").Permissions()) != 0 {
		t.Error("a role that is not built in grants something")
	}
}

func TestCommonForms(t *testing.T) {
	for password, want := range map[string][]string{
		"Password": {"password"}, "P@ssw0rd2026!": {"p@ssw0rd2026!", "password"}, "12345678": {"12345678"}, "cat!!": {"cat!!"},
	} {
		if got := CommonForms(password); !slices.Equal(got, want) {
			t.Errorf("%q: %q", password, got)
		}
	}
}
