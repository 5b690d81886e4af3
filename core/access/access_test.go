package access

import (
	"bytes"
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/health"
)

func TestPasswords(t *testing.T) {
	hash, err := HashPassword(rand.Reader, "four quiet moor words")
	if err != nil {
		t.Fatal(err)
	}
	if !VerifyPassword(hash, "four quiet moor words") || VerifyPassword(hash, "four quiet moor word") {
		t.Error("the right password must verify, and no other")
	}
	again, _ := HashPassword(rand.Reader, "four quiet moor words")
	if again == hash {
		t.Error("two hashes of one password are the same: the salt is not random")
	}
	for _, bad := range []string{"", "$argon2id$", strings.Replace(hash, "m=19456", "m=99999999", 1),
		strings.Replace(hash, "argon2id", "argon2i", 1), hash[:len(hash)-4] + "!!!!"} {
		if VerifyPassword(bad, "four quiet moor words") {
			t.Errorf("the malformed hash %q verifies", bad)
		}
	}
	for password, ok := range map[string]bool{"short": false, "twelve chars": true, strings.Repeat("x", 2000): false,
		"Robin@Curlew.example": false} {
		if err := CheckPassword(password, "robin@curlew.example"); (err == nil) != ok {
			t.Errorf("CheckPassword(%.20q) = %v", password, err)
		}
	}
}

func TestSecrets(t *testing.T) {
	s, err := NewSecret(rand.Reader, EnrolmentToken, "abc")
	if err != nil {
		t.Fatal(err)
	}
	if hint, err := ParseSecret(" "+s+"\n", EnrolmentToken); err != nil || hint != "abc" {
		t.Errorf("ParseSecret = %q, %v", hint, err)
	}
	for _, bad := range []string{"", s[:20], strings.Replace(s, "mw-enrol", "mw-api", 1), "mw-enrol.****"} {
		if _, err := ParseSecret(bad, EnrolmentToken); !errors.Is(err, ErrNotSecret) {
			t.Errorf("ParseSecret(%q) = %v", bad, err)
		}
	}
	if _, err := NewSecret(strings.NewReader("too little"), APIToken, ""); err == nil {
		t.Error("a secret was made without enough randomness")
	}
	if CSRF("a") == CSRF("b") || !SameSecret(CSRF("a"), CSRF("a")) {
		t.Error("CSRF tokens must follow from the session")
	}
}

func TestRoles(t *testing.T) {
	for _, c := range []struct {
		role Role
		p    Permission
		may  bool
	}{{Viewer, FleetRead, true}, {Viewer, Of("command", Act), false}, {Viewer, Of("shell", Act), false}, {Viewer, AuditRead, false},
		{Technician, Of("shell", Act), true},
		{Technician, PeopleManage, false}, {Technician, FleetManage, false}, {Owner, PeopleManage, true}, {Owner, "nosuch", false},
		{"", FleetRead, false}, {Viewer, Self, true}} {
		if (Rights{{Role: c.role, Scope: health.Scope{Kind: health.Everywhere}}}).Everywhere(c.p) != c.may {
			t.Errorf("%q may %q: %t", c.role, c.p, !c.may)
		}
	}
	if Permission("nosuch").Known() || !Anyone.Known() || !Of("shell", Act).Known() {
		t.Error("Known does not know")
	}
}

func TestRights(t *testing.T) {
	at := func(kind health.ScopeKind, id string) health.Scope { return health.Scope{Kind: kind, ID: id} }
	here := &health.Place{Device: "d", Site: "s", Organisation: "o", Groups: []string{"g"}}
	there := &health.Place{Device: "e", Site: "t", Organisation: "o"}
	shell := Of("shell", Act)
	for _, c := range []struct {
		rights                            Rights
		here, there, everywhere, anywhere bool
	}{
		{nil, false, false, false, false},
		{Rights{{Role: Technician, Scope: at(health.Everywhere, "")}}, true, true, true, true},
		{Rights{{Role: Technician, Scope: at(health.Organisation, "o")}}, true, true, false, true},
		{Rights{{Role: Technician, Scope: at(health.Site, "s")}}, true, false, false, true},
		{Rights{{Role: Technician, Scope: at(health.Group, "g")}}, true, false, false, true},
		{Rights{{Role: Technician, Scope: at(health.Organisation, "p")}}, false, false, false, true},
		{Rights{{Role: Technician, Scope: at(health.Site, "t")}, {Role: Viewer, Scope: at(health.Everywhere, "")}}, false, true, false,
			true},
		{Rights{{Role: "night-desk", Scope: at(health.Site, "s"), Permissions: []Permission{shell}}}, true, false, false, true},
		{Rights{{Role: "gone", Scope: at(health.Everywhere, "")}}, false, false, false, false},
	} {
		if c.rights.May(shell, here) != c.here || c.rights.May(shell, there) != c.there || c.rights.Everywhere(shell) != c.everywhere ||
			c.rights.Somewhere(shell) != c.anywhere {
			t.Errorf("%+v: %t %t %t %t", c.rights, c.rights.May(shell, here), c.rights.May(shell, there), c.rights.Everywhere(shell),
				c.rights.Somewhere(shell))
		}
	}
	manager := Rights{{Role: "manager", Scope: at(health.Everywhere, ""), Permissions: []Permission{FleetRead, PeopleManage}}}
	if manager.MayGrant(Grant{Role: Viewer}) != nil || manager.MayGrant(Grant{Role: Owner}) == nil ||
		manager.MayGrant(Grant{Role: "own", Permissions: []Permission{shell}}) == nil {
		t.Error("one may grant what one has, and no more")
	}
	if (Grant{Scope: at(health.Device, "d")}).CheckScope() == nil || (Grant{Scope: at(health.Site, "s")}).CheckScope() != nil {
		t.Error("roles are held at sites, and not at devices")
	}
}

func TestOwnRoles(t *testing.T) {
	got, err := Complete("night-desk", []Permission{Of("services", Administer), AlertHandle})
	if want := []Permission{FleetRead, AlertHandle, Of("services", See), Of("services", Act), Of("services", Administer)}; err != nil ||
		!slices.Equal(got, want) {
		t.Errorf("%v, %v", got, err)
	}
	for name, wanted := range map[Role][]Permission{"owner": nil, "Night desk": nil, "n": nil, "night-desk": {"nosuch"}, "nights": {Self}} {
		if _, err := Complete(name, wanted); err == nil {
			t.Errorf("the role %q of %v is taken", name, wanted)
		}
	}
	for _, p := range Grantable() {
		if p.About() == "" {
			t.Errorf("%s says nothing", p)
		}
	}
}

func TestSecondFactors(t *testing.T) {
	// The secret and the times of RFC 6238, appendix B, whose codes of eight digits end in these six.
	const secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
	for at, code := range map[int64]string{59: "287082", 1111111109: "081804", 1111111111: "050471", 1234567890: "005924",
		2000000000: "279037"} {
		step, ok := MatchCode(secret, " "+code[:3]+" "+code[3:], time.Unix(at, 0), 0)
		if !ok || step != at/30 {
			t.Errorf("at %d: %d, %t", at, step, ok)
		}
		if _, again := MatchCode(secret, code, time.Unix(at, 0), step); again {
			t.Errorf("at %d a code holds twice", at)
		}
		if _, late := MatchCode(secret, code, time.Unix(at+90, 0), 0); late {
			t.Errorf("the code of %d holds a minute and a half later", at)
		}
	}
	code, err := NewRecoveryCode(rand.Reader)
	if err != nil || len(code) != 19 {
		t.Fatal(code, err)
	}
	if !bytes.Equal(HashRecovery(code), HashRecovery(" "+strings.ToUpper(strings.ReplaceAll(code, "-", "")))) {
		t.Error("a recovery code must hold however it is typed")
	}
}

func TestPause(t *testing.T) {
	for failures, want := range map[int]time.Duration{0: 0, 4: 0, 5: 2 * time.Second, 6: 4 * time.Second, 12: 256 * time.Second,
		20: 15 * time.Minute, 1 << 30: 15 * time.Minute} {
		if got := Pause(failures); got != want {
			t.Errorf("Pause(%d) = %s, want %s", failures, got, want)
		}
	}
}

// Whatever is altered, left out or moved in a chain of entries is found.
func TestAuditChain(t *testing.T) {
	make5 := func() []Entry {
		var list []Entry
		var hash []byte
		for i := range 5 {
			e := Entry{Seq: int64(i + 1), At: time.Date(2026, 11, 23, 9, i, 0, 123456789, time.Local), Actor: "robin",
				Action: "command.start", Detail: "df"}
			hash = Chain(hash, e)
			e.Hash = hash
			list = append(list, e)
		}
		return list
	}
	check := func(list []Entry) (err error) {
		var seq int64
		var hash []byte
		for _, e := range list {
			if err = Verify(seq, hash, e); err != nil {
				return err
			}
			seq, hash = e.Seq, e.Hash
		}
		return nil
	}
	if err := check(make5()); err != nil {
		t.Fatal(err)
	}
	for name, spoil := range map[string]func([]Entry) []Entry{
		"altered":  func(l []Entry) []Entry { l[2].Detail = "rm"; return l },
		"left out": func(l []Entry) []Entry { return append(l[:2], l[3:]...) },
		"moved":    func(l []Entry) []Entry { l[1], l[2] = l[2], l[1]; return l },
		"forged":   func(l []Entry) []Entry { l[3].Hash = Chain(nil, l[3]); return l },
	} {
		if check(spoil(make5())) == nil {
			t.Errorf("an entry that was %s is not found", name)
		}
	}
}

func TestSyslog(t *testing.T) {
	e := Entry{Seq: 7, At: time.Date(2026, 3, 1, 4, 5, 6, 7000, time.UTC), Actor: "robin@curlew-sedge.example", Action: "command.start",
		Detail: "echo \"a]\\\n\"", Result: "refused: no", Hash: []byte{1, 0xab}}
	want := `<108>1 2026-03-01T04:05:06.000007Z moor moorwatch - command.start [audit@32473 seq="7" actor="robin@curlew-sedge.example" detail="echo \"a\]\\ \"" result="refused: no" hash="01ab"] command.start`
	if got := e.Syslog("moor"); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if got := (Entry{Action: "naïve\x00 " + strings.Repeat("x", 99)}).Syslog("a b\n"); !strings.HasPrefix(got,
		"<109>1 0001-01-01T00:00:00Z ab moorwatch - nave") {
		t.Error(got)
	}
}
