package windows

import (
	"errors"
	"testing"
	"time"

	"golang.org/x/sys/windows"

	"moorwatch.example/test/wait"
)

// While the computer that knows an account is away, its SID is told, at once from the second time on.
func TestAccountsOfAComputerThatIsAway(t *testing.T) {
	back := make(chan struct{})
	asked := 0
	a := &lookups{lookup: func(*windows.SID) (string, string, error) {
		asked++
		<-back
		return "wren", "LARKMOOR", nil
	}}
	sid, err := windows.StringToSid("S-1-5-21-1-2-3-1001")
	if err != nil {
		t.Fatal(err)
	}
	if got := a.short(sid); got != sid.String() {
		t.Errorf("at first: %s", got)
	}
	began := time.Now()
	for range 1000 { // as in a folder with as many files
		a.short(sid)
	}
	if took := time.Since(began); took > accountWithin {
		t.Errorf("a thousand took %s", took)
	}
	close(back)
	wait.Until(t, time.Minute, "the account has its name", func() bool { return a.short(sid) == `LARKMOOR\wren` })
	if got := a.short(sid); got != `LARKMOOR\wren` || asked != 1 {
		t.Errorf("once it is back: %s, asked %d times", got, asked)
	}
}

func TestAccountThatNobodyKnows(t *testing.T) {
	asked := 0
	a := &lookups{lookup: func(*windows.SID) (string, string, error) { asked++; return "", "", errors.New("nobody") }}
	sid, err := windows.StringToSid("S-1-5-21-1-2-3-1002")
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		if got := a.short(sid); got != sid.String() {
			t.Errorf("%s", got)
		}
	}
	if asked != 1 {
		t.Errorf("asked %d times", asked)
	}
}
