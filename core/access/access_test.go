package access

import (
	"crypto/rand"
	"errors"
	"strings"
	"testing"
	"time"
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
	for _, bad := range []string{"", "$argon2id$", strings.Replace(hash, "m=19456", "m=99999999", 1), strings.Replace(hash, "argon2id", "argon2i", 1), hash[:len(hash)-4] + "!!!!"} {
		if VerifyPassword(bad, "four quiet moor words") {
			t.Errorf("the malformed hash %q verifies", bad)
		}
	}
	for password, ok := range map[string]bool{"short": false, "ten chars!": true, strings.Repeat("x", 2000): false, "Robin@Curlew.example": false} {
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
	}{{Viewer, FleetRead, true}, {Viewer, Of("command", Act), false}, {Viewer, Of("shell", Act), false}, {Viewer, AuditRead, false}, {Technician, Of("shell", Act), true},
		{Technician, PeopleManage, false}, {Technician, FleetManage, false}, {Owner, PeopleManage, true}, {Owner, "nosuch", false}, {"", FleetRead, false}, {"", Self, false}, {Viewer, Self, true}} {
		if c.role.May(c.p) != c.may {
			t.Errorf("%q may %q: %t", c.role, c.p, !c.may)
		}
	}
	if Permission("nosuch").Known() || !Anyone.Known() || !Of("shell", Act).Known() {
		t.Error("Known does not know")
	}
}

func TestPause(t *testing.T) {
	for failures, want := range map[int]time.Duration{0: 0, 4: 0, 5: 2 * time.Second, 6: 4 * time.Second, 12: 256 * time.Second, 20: 15 * time.Minute, 1 << 30: 15 * time.Minute} {
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
			e := Entry{Seq: int64(i + 1), At: time.Date(2026, 11, 23, 9, i, 0, 123456789, time.Local), Actor: "robin", Action: "command.start", Detail: "df"}
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
	e := Entry{Seq: 7, At: time.Date(2026, 3, 1, 4, 5, 6, 7000, time.UTC), Actor: "robin@curlew-sedge.example", Action: "command.start", Detail: "echo \"a]\\\n\"", Result: "refused: no", Hash: []byte{1, 0xab}}
	want := `<108>1 2026-03-01T04:05:06.000007Z moor moorwatch - command.start [audit@32473 seq="7" actor="robin@curlew-sedge.example" detail="echo \"a\]\\ \"" result="refused: no" hash="01ab"] command.start`
	if got := e.Syslog("moor"); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if got := (Entry{Action: "naïve\x00 " + strings.Repeat("x", 99)}).Syslog("a b\n"); !strings.HasPrefix(got, "<109>1 0001-01-01T00:00:00Z ab moorwatch - nave") {
		t.Error(got)
	}
}
