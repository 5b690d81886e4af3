package access

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/core/secret"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
	"moorwatch.example/test/database"
)

var (
	everywhere = health.Scope{Kind: health.Everywhere}
	owners     = access.Rights{{Role: access.Owner, Scope: everywhere}}
	viewers    = access.Rights{{Role: access.Viewer, Scope: everywhere}}
)

func newStore(t *testing.T) store {
	t.Helper()
	ring, err := secret.NewRing("sign-in", map[uint32][]byte{1: bytes.Repeat([]byte{1}, 32)})
	if err != nil {
		t.Fatal(err)
	}
	return store{database.New(t), ring}
}

// some is a secret's hash, another each time.
func some() []byte {
	b := make([]byte, 32)
	rand.Read(b)
	return b
}

// someone is a person with a password, who chose it through a set-up link.
func (s store) someone(t *testing.T, name string, rights access.Rights) person {
	t.Helper()
	link := some()
	p, err := s.addPerson(t.Context(), strings.ToLower(name)+"@moor.example", name, rights, link, time.Now().Add(time.Hour))
	if err == nil {
		p, err = s.useLink(t.Context(), link, "hash of "+name, "", "")
	}
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func (s store) signIn(t *testing.T, p person) (hash []byte) {
	t.Helper()
	hash = some()
	if err := s.addSession(t.Context(), hash, p, time.Now().Add(time.Hour), "192.0.2.1", "a browser", false); err != nil {
		t.Fatal(err)
	}
	return hash
}

func (s store) count(t *testing.T, query string, args ...any) (n int) {
	t.Helper()
	if err := s.pool.QueryRow(t.Context(), query, args...).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// revocations take all that was issued to somebody.
var revocations = map[string]func(t *testing.T, s store, p person) error{
	"another password": func(t *testing.T, s store, p person) error { return s.setPassword(t.Context(), p.ID, "another", nil) },
	"a reset": func(t *testing.T, s store, p person) error {
		_, err := s.resetPerson(t.Context(), p.ID, some(), time.Now().Add(time.Hour))
		return err
	},
	"a removal": func(t *testing.T, s store, p person) error { return s.removePerson(t.Context(), p.ID) },
}

// Whoever is about to sign in with a password, or to make a token in a session, as these are taken, gets neither.
func TestNothingIsIssuedBesideARevocation(t *testing.T) {
	s := newStore(t)
	s.someone(t, "Robin", owners) // the last owner is nobody who is removed
	n := 0
	for name, revoke := range revocations {
		t.Run(name, func(t *testing.T) {
			// Between the check of the password and the session.
			n++
			p := s.someone(t, fmt.Sprint("Wren", n), viewers)
			session := s.signIn(t, p)
			if err := revoke(t, s, p); err != nil {
				t.Fatal(err)
			}
			if err := s.addSession(t.Context(), some(), p, time.Now().Add(time.Hour), "", "", false); !db.Missing(err) {
				t.Errorf("a password that is none any more opens a session: %v", err)
			}
			if _, err := s.addToken(t.Context(), p.ID, session, "late", some(), time.Now().Add(time.Hour),
				access.Limit{}); !db.Missing(err) {
				t.Errorf("a session that has ended makes a token: %v", err)
			}
			// At the same time, again and again.
			for range 40 {
				n++
				p := s.someone(t, fmt.Sprint("Wren", n), viewers)
				session := s.signIn(t, p)
				var all sync.WaitGroup
				for range 2 {
					all.Go(func() {
						if err := s.addSession(t.Context(), some(), p, time.Now().Add(time.Hour), "", "",
							false); err != nil && !db.Missing(err) {
							t.Error(err)
						}
					})
					all.Go(func() {
						if _, err := s.addToken(t.Context(), p.ID, session, "late", some(), time.Now().Add(time.Hour),
							access.Limit{}); err != nil && !db.Missing(err) {
							t.Error(err)
						}
					})
				}
				all.Go(func() {
					if err := revoke(t, s, p); err != nil {
						t.Error(err)
					}
				})
				all.Wait()
				if left := s.count(t, "SELECT (SELECT count(*) FROM sessions WHERE person_id = $1) + (SELECT count(*) FROM api_tokens "+
					"WHERE person_id = $1 AND revoked_at IS NULL)", p.ID); left != 0 {
					t.Fatalf("%d of what was issued meanwhile still holds", left)
				}
			}
		})
	}
}

// What lets somebody in does so until it is taken, ends or is not used for too long, and is nobody else's.
func TestSessions(t *testing.T) {
	s := newStore(t)
	robin, wren := s.someone(t, "Robin", owners), s.someone(t, "Wren", viewers)
	of := func(hash []byte, pending bool) string {
		p, _, err := s.personBySession(t.Context(), hash, pending)
		if db.Missing(err) {
			return ""
		}
		if err != nil {
			t.Fatal(err)
		}
		return p.Name
	}
	here, there := s.signIn(t, wren), s.signIn(t, wren)
	other := s.signIn(t, robin)
	half := some()
	if err := s.addSession(t.Context(), half, wren, time.Now().Add(time.Minute), "", "", true); err != nil {
		t.Fatal(err)
	}
	if of(here, false) != "Wren" || of(other, false) != "Robin" || of(some(), false) != "" {
		t.Error("sessions are not of whom they are")
	}
	if of(half, false) != "" || of(half, true) != "Wren" || of(here, true) != "" {
		t.Error("a sign-in without its second factor opens something, or a whole one counts as half")
	}
	listed, err := s.signIns(t.Context(), wren.ID)
	if err != nil || len(listed) != 2 {
		t.Fatalf("listed %d sign-ins, %v", len(listed), err)
	}
	if err := s.endSignIn(t.Context(), robin.ID, listed[0].ID); !db.Missing(err) {
		t.Errorf("somebody ended another's sign-in: %v", err)
	}
	if err := s.setPassword(t.Context(), wren.ID, "another", here); err != nil {
		t.Fatal(err)
	}
	if of(here, false) != "Wren" || of(there, false) != "" || of(half, true) != "" || of(other, false) != "Robin" {
		t.Error("another password ends all of one's sign-ins but this")
	}
	late := func(column string, by time.Duration) {
		t.Helper()
		if _, err := s.pool.Exec(t.Context(), "UPDATE sessions SET "+column+" = "+column+" - $2::interval WHERE hash = $1",
			here, by); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.setIdleMinutes(t.Context(), 10); err != nil {
		t.Fatal(err)
	}
	late("last_used_at", 11*time.Minute)
	late("created_at", 11*time.Minute)
	if of(here, false) != "" {
		t.Error("a sign-in that nobody used for too long still holds")
	}
	if err := s.expire(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left := s.count(t, "SELECT count(*) FROM sessions"); left != 1 {
		t.Errorf("%d sign-ins are kept, and one holds", left)
	}
	if _, err := s.pool.Exec(t.Context(), "UPDATE sessions SET expires_at = now() WHERE hash = $1", other); err != nil {
		t.Fatal(err)
	}
	if of(other, false) != "" {
		t.Error("a sign-in outlives its time")
	}
}

// An unattended look does not count as a use, or a stolen session would never end.
func TestLookingAtASessionIsNoUse(t *testing.T) {
	s := newStore(t)
	p := s.someone(t, "Robin", owners)
	hash := s.signIn(t, p)
	used := func() int { return s.count(t, "SELECT count(last_used_at) FROM sessions WHERE hash = $1", hash) }
	if _, _, err := s.personBySession(front.Unattended(t.Context()), hash, false); err != nil || used() != 0 {
		t.Errorf("a look is a use: %v", err)
	}
	if _, _, err := s.personBySession(t.Context(), hash, false); err != nil || used() != 1 {
		t.Errorf("a use is none: %v", err)
	}
}

// Somebody always owns the service, however many are removed, reset or moved at the same time.
func TestOneOwnerStays(t *testing.T) {
	s := newStore(t)
	for round := range 15 {
		var all []person
		for i := range 4 {
			all = append(all, s.someone(t, fmt.Sprintf("Owner%d-%d", round, i), owners))
		}
		var done sync.WaitGroup
		refused := make(chan error, 4)
		for i, p := range all {
			done.Go(func() {
				var err error
				if i%2 == 0 {
					err = s.removePerson(t.Context(), p.ID)
				} else {
					_, err = s.setPerson(t.Context(), p.ID, p.Name, viewers)
				}
				if err != nil {
					refused <- err
				}
			})
		}
		done.Wait()
		close(refused)
		n := 0
		for err := range refused {
			if !errors.Is(err, errLastOwner) {
				t.Error(err)
			}
			n++
		}
		left := s.count(t, `SELECT count(*) FROM grants g JOIN people p ON p.id = g.person_id AND p.removed_at IS NULL WHERE g.role = 'owner'`)
		if left != 1 || n != 1 && round == 0 {
			t.Fatalf("round %d: %d owners are left, %d were refused", round, left, n)
		}
	}
}

// A set-up link is used once, in its time, by one; it does not rename anybody but the first owner.
func TestSetUpLinks(t *testing.T) {
	s := newStore(t)
	first, err := s.addPerson(t.Context(), firstEmail, "Owner", owners, []byte("first"), time.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.addPerson(t.Context(), "wren@moor.example", "Wren", viewers, []byte("wren"), time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.addPerson(t.Context(), "late@moor.example", "Late", viewers, []byte("late"), time.Now().Add(-time.Second)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.addPerson(t.Context(), "wren@moor.example", "Another", viewers, some(), time.Now()); !db.Duplicate(err) {
		t.Errorf("an address is two people's: %v", err)
	}
	if _, err := s.useLink(t.Context(), []byte("wren"), "hash", "Robin", ""); !errors.Is(err, errNotFirst) {
		t.Errorf("a link renames somebody: %v", err)
	}
	if _, err := s.useLink(t.Context(), []byte("late"), "hash", "", ""); !db.Missing(err) {
		t.Errorf("a link outlives its time: %v", err)
	}
	var all sync.WaitGroup
	won := make(chan person, 8)
	for i := range 8 {
		all.Go(func() {
			if p, err := s.useLink(t.Context(), []byte("wren"), fmt.Sprint("hash ", i), "", ""); err == nil {
				won <- p
			} else if !db.Missing(err) {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if len(won) != 1 {
		t.Fatalf("%d used the same link", len(won))
	}
	p := <-won
	if now, err := s.personByEmail(t.Context(), "wren@moor.example"); err != nil || *now.Hash != *p.Hash || now.Name != "Wren" {
		t.Errorf("%+v, %v", now, err)
	}
	p, err = s.useLink(t.Context(), []byte("first"), "hash", "Robin Sedge", "robin@moor.example")
	if err != nil || p.ID != first.ID || p.Name != "Robin Sedge" || p.Email != "robin@moor.example" {
		t.Errorf("the first owner is %+v, %v", p, err)
	}
	if err := s.expire(t.Context()); err != nil || s.count(t, "SELECT count(*) FROM set_up_links") != 0 {
		t.Errorf("links that open nothing are kept: %v", err)
	}
	// A reset link works once more, and nothing from before it does.
	session := s.signIn(t, p)
	if p, err = s.resetPerson(t.Context(), p.ID, []byte("again"), time.Now().Add(time.Hour)); err != nil || p.Hash != nil {
		t.Errorf("after a reset: %+v, %v", p, err)
	}
	if _, _, err := s.personBySession(t.Context(), session, false); !db.Missing(err) {
		t.Errorf("a session from before a reset holds: %v", err)
	}
}

// Tokens are found while they hold, page by page, and only their owner's are revoked.
func TestTokens(t *testing.T) {
	s := newStore(t)
	robin, wren := s.someone(t, "Robin", owners), s.someone(t, "Wren", viewers)
	session := s.signIn(t, wren)
	var hashes [][]byte
	var made []uuid.UUID
	for i := range 25 {
		hash := some()
		limit := access.Limit{}
		if i == 0 {
			limit = access.Limit{Permissions: []access.Permission{access.FleetRead}, Scope: health.Scope{Kind: health.Site, ID: "a site"}}
		}
		k, err := s.addToken(t.Context(), wren.ID, session, fmt.Sprint("token ", i), hash, time.Now().Add(time.Hour), limit)
		if err != nil {
			t.Fatal(err)
		}
		hashes, made = append(hashes, hash), append(made, k.ID)
	}
	var listed []uuid.UUID
	before := time.Now().Add(time.Hour)
	for {
		page, err := s.tokens(t.Context(), wren.ID, before, 10)
		if err != nil {
			t.Fatal(err)
		}
		if len(page) == 0 {
			break
		}
		for _, k := range page {
			listed = append(listed, k.ID)
			before = k.CreatedAt
		}
	}
	slices.Reverse(listed)
	if !slices.Equal(listed, made) {
		t.Errorf("%d of %d tokens are listed, or in another order", len(listed), len(made))
	}
	p, k, err := s.personByToken(t.Context(), hashes[0])
	limit, limited := k.limit()
	if err != nil || p.Name != "Wren" || !limited || limit.Scope.ID != "a site" || !slices.Equal(limit.Permissions,
		[]access.Permission{access.FleetRead}) {
		t.Errorf("%s with %+v, %v", p.Name, limit, err)
	}
	if _, k, err = s.personByToken(t.Context(), hashes[1]); err != nil {
		t.Fatal(err)
	}
	if _, limited := k.limit(); limited {
		t.Error("a token without a limit has one")
	}
	if _, err := s.revokeToken(t.Context(), robin.ID, made[1]); !db.Missing(err) {
		t.Errorf("somebody revoked another's token: %v", err)
	}
	for want := range 2 {
		name, err := s.revokeToken(t.Context(), wren.ID, made[1])
		if want == 0 && (err != nil || name != "token 1") || want == 1 && !db.Missing(err) {
			t.Errorf("revoked %q, %v", name, err)
		}
	}
	if _, _, err := s.personByToken(t.Context(), hashes[1]); !db.Missing(err) {
		t.Errorf("a revoked token holds: %v", err)
	}
	if _, err := s.pool.Exec(t.Context(), "UPDATE api_tokens SET expires_at = now() WHERE id = $1", made[2]); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.personByToken(t.Context(), hashes[2]); !db.Missing(err) {
		t.Errorf("a token outlives its time: %v", err)
	}
}

// A role that somebody holds is not removed, also while it is given to them.
func TestRolesOfOnesOwn(t *testing.T) {
	s := newStore(t)
	p := s.someone(t, "Robin", owners)
	if _, err := s.setRole(t.Context(), "night shift", "At night", []access.Permission{access.FleetRead}, "robin"); err != nil {
		t.Fatal(err)
	}
	rights := slices.Concat(owners, access.Rights{{Role: "night shift", Scope: health.Scope{Kind: health.Site, ID: uuid.NewString()}}})
	if _, err := s.setPerson(t.Context(), p.ID, p.Name, rights); err != nil {
		t.Fatal(err)
	}
	if people, err := s.removeRole(t.Context(), "night shift"); err != nil || people != 1 {
		t.Errorf("removed beside %d who hold it: %v", people, err)
	}
	changed, err := s.setRole(t.Context(), "night shift", "Later", []access.Permission{access.FleetRead, access.AuditRead}, "robin")
	if err != nil || changed.People != 1 || changed.About != "Later" {
		t.Errorf("%+v, %v", changed, err)
	}
	if now, err := s.personByID(t.Context(), p.ID); err != nil || !now.Rights.Somewhere(access.AuditRead) {
		t.Errorf("what a role grants anew is not granted: %v", err)
	}
	held, err := s.holders(t.Context())
	if err != nil || held["night shift"] != 1 || held[access.Owner] != 1 {
		t.Errorf("%v, %v", held, err)
	}
	if _, err := s.setPerson(t.Context(), p.ID, p.Name, owners); err != nil {
		t.Fatal(err)
	}
	if people, err := s.removeRole(t.Context(), "night shift"); err != nil || people != 0 {
		t.Errorf("%d, %v", people, err)
	}
	if _, err := s.removeRole(t.Context(), "night shift"); !db.Missing(err) {
		t.Errorf("removed twice: %v", err)
	}
}

// People are listed page by page, by name, each once; those who were removed are not.
func TestPeopleByPages(t *testing.T) {
	s := newStore(t)
	s.someone(t, "Robin", owners)
	for i := range 23 {
		s.someone(t, fmt.Sprintf("Wren%02d", i%12+i/12*20), viewers)
	}
	gone := s.someone(t, "Wren90", viewers)
	if err := s.removePerson(t.Context(), gone.ID); err != nil {
		t.Fatal(err)
	}
	var names []string
	var at place
	for {
		page, err := s.people(t.Context(), at, 7)
		if err != nil {
			t.Fatal(err)
		}
		if len(page) == 0 {
			break
		}
		for _, p := range page {
			names = append(names, p.Name)
			at = place{p.Name, p.ID}
		}
	}
	if len(names) != 24 || !slices.IsSorted(names) || slices.Contains(names, "Wren90") || len(slices.Compact(names)) != 24 {
		t.Errorf("listed %q", names)
	}
}
