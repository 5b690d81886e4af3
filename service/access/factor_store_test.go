package access

import (
	"bytes"
	"errors"
	"sync"
	"testing"

	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/service/db"
)

// A code, a recovery code and a challenge count once, whoever brings them at the same time.
func TestSecondFactorsCountOnce(t *testing.T) {
	s := newStore(t)
	p := s.someone(t, "Robin", owners)
	session := s.signIn(t, p)
	if fresh, err := s.beginAuthenticator(t.Context(), p.ID, "SEED"); err != nil || !fresh {
		t.Fatal(fresh, err)
	}
	if fresh, err := s.beginAuthenticator(t.Context(), p.ID, "SEED TWO"); err != nil || !fresh {
		t.Errorf("one that waits for its first code is not replaced: %v, %v", fresh, err)
	}
	if err := s.confirmAuthenticator(t.Context(), p.ID, 100); err != nil {
		t.Fatal(err)
	}
	if fresh, err := s.beginAuthenticator(t.Context(), p.ID, "SEED THREE"); err != nil || fresh {
		t.Errorf("one that is used is replaced: %v, %v", fresh, err)
	}
	if f, err := s.authenticator(t.Context(), p.ID); err != nil || f.Secret != "SEED TWO" {
		t.Errorf("the seed is %q, %v", f.Secret, err)
	}
	if s.count(t, "SELECT count(*) FROM authenticators WHERE strpos(encode(sealed, 'escape'), 'SEED') > 0") != 0 {
		t.Error("a seed is kept in plain text")
	}
	recovery := some()
	if err := s.setRecovery(t.Context(), p.ID, [][]byte{recovery, some()}); err != nil {
		t.Fatal(err)
	}
	if err := s.setChallenge(t.Context(), session, &webauthn.SessionData{Challenge: "once"}); err != nil {
		t.Fatal(err)
	}
	for name, use := range map[string]func() (bool, error){
		"a code":          func() (bool, error) { return s.useCode(t.Context(), p.ID, 101) },
		"a recovery code": func() (bool, error) { return s.useRecovery(t.Context(), p.ID, recovery) },
		"a challenge": func() (bool, error) {
			data, err := s.takeChallenge(t.Context(), session)
			if db.Missing(err) {
				return false, nil
			}
			return data.Challenge == "once", err
		},
	} {
		var all sync.WaitGroup
		used := make(chan bool, 8)
		for range 8 {
			all.Go(func() {
				ok, err := use()
				if err != nil {
					t.Errorf("%s: %v", name, err)
				}
				if ok {
					used <- true
				}
			})
		}
		all.Wait()
		if len(used) != 1 {
			t.Errorf("%s counted %d times", name, len(used))
		}
	}
	if ok, err := s.useCode(t.Context(), p.ID, 100); err != nil || ok {
		t.Errorf("an older code counts: %v", err)
	}
	if n, err := s.recoveryLeft(t.Context(), p.ID); err != nil || n != 1 {
		t.Errorf("%d recovery codes are left, %v", n, err)
	}
}

// The last second factor goes with the recovery codes, and not where the policy asks for one.
func TestLastFactor(t *testing.T) {
	s := newStore(t)
	p, other := s.someone(t, "Robin", owners), s.someone(t, "Wren", viewers)
	key := &webauthn.Credential{ID: some()}
	if err := s.addPasskey(t.Context(), p.ID, "a key", key); err != nil {
		t.Fatal(err)
	}
	if _, err := s.beginAuthenticator(t.Context(), p.ID, "SEED"); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.confirmAuthenticator(t.Context(), p.ID, 1), s.setRecovery(t.Context(), p.ID, [][]byte{some()})); err != nil {
		t.Fatal(err)
	}
	if err := s.removeFactor(t.Context(), other.ID, key.ID, false); !errors.Is(err, pgx.ErrNoRows) {
		t.Errorf("somebody removed another's passkey: %v", err)
	}
	if err := s.removeFactor(t.Context(), p.ID, key.ID, true); err != nil {
		t.Errorf("one of two: %v", err)
	}
	if err := s.removeFactor(t.Context(), p.ID, nil, true); !errors.Is(err, errLastFactor) {
		t.Errorf("the last, which is asked for: %v", err)
	}
	if now, err := s.personByID(t.Context(), p.ID); err != nil || !now.SecondFactor {
		t.Errorf("what was refused was done: %v", err)
	}
	if err := s.removeFactor(t.Context(), p.ID, nil, false); err != nil {
		t.Error(err)
	}
	if n, err := s.recoveryLeft(t.Context(), p.ID); err != nil || n != 0 {
		t.Errorf("%d recovery codes stand in for no factor, %v", n, err)
	}
}

// Seeds are sealed anew under the newest key, once.
func TestSeedsAreSealedAnew(t *testing.T) {
	s := newStore(t)
	p := s.someone(t, "Robin", owners)
	if _, err := s.beginAuthenticator(t.Context(), p.ID, "SEED"); err != nil {
		t.Fatal(err)
	}
	if n, err := s.reseal(t.Context()); err != nil || n != 0 {
		t.Errorf("%d were sealed anew under the same key, %v", n, err)
	}
	if err := s.ring.Set(map[uint32][]byte{1: bytes.Repeat([]byte{1}, 32), 2: bytes.Repeat([]byte{2}, 32)}); err != nil {
		t.Fatal(err)
	}
	for want := 1; want >= 0; want-- {
		if n, err := s.reseal(t.Context()); err != nil || n != want {
			t.Errorf("%d were sealed anew, want %d: %v", n, want, err)
		}
	}
	if err := s.ring.Set(map[uint32][]byte{2: bytes.Repeat([]byte{2}, 32)}); err != nil {
		t.Fatal(err)
	}
	if f, err := s.authenticator(t.Context(), p.ID); err != nil || f.Secret != "SEED" {
		t.Errorf("the seed is %q without the old key, %v", f.Secret, err)
	}
}
