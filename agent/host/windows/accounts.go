//go:build windows

package windows

import (
	"context"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/windows"
)

const (
	accountWithin = time.Second      // how long a name is waited for
	accountAgain  = 10 * time.Minute // when one that nobody knew is looked up again
)

// lookups are the names of accounts. The computer that knows one may be away, and then a lookup takes as long as
// it likes: nobody waits for it longer than accountWithin, and is told the SID until the name is there.
type lookups struct {
	lookup func(sid *windows.SID) (account, domain string, err error)
	mu     sync.Mutex
	known  map[string]*named
}

// named is an account that was looked up, or is being.
type named struct {
	account, domain string
	since           time.Time
	done            chan struct{} // closed when the lookup has ended
}

// names are those of this computer, for all that tell of accounts.
var names = &lookups{lookup: func(sid *windows.SID) (account, domain string, err error) {
	account, domain, _, err = sid.LookupAccount("")
	return account, domain, err
}}

func (a *lookups) find(sid *windows.SID) (account, domain string) {
	key, now := sid.String(), time.Now()
	a.mu.Lock()
	n := a.known[key]
	if n == nil || n.account == "" && now.Sub(n.since) > accountAgain {
		n = &named{since: now, done: make(chan struct{})}
		if a.known == nil {
			a.known = map[string]*named{}
		}
		a.known[key] = n
		own, err := sid.Copy() // it may be gone before the lookup has ended
		if err != nil {
			own, _ = windows.StringToSid(key)
		}
		go func() {
			account, domain, err := a.lookup(own)
			a.mu.Lock()
			defer a.mu.Unlock()
			if err == nil {
				n.account, n.domain = account, domain
			}
			close(n.done)
		}()
	}
	left := accountWithin - now.Sub(n.since)
	a.mu.Unlock()
	select {
	case <-n.done:
	case <-time.After(max(left, 0)):
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if n.account == "" {
		return key, ""
	}
	return n.account, n.domain
}

// short is an account's name as people write it: that of the computer's own stand alone.
func (a *lookups) short(sid *windows.SID) string {
	account, domain := a.find(sid)
	computer, _ := windows.ComputerName()
	if strings.EqualFold(domain, computer) || strings.EqualFold(domain, "BUILTIN") || strings.EqualFold(domain, "NT AUTHORITY") {
		return account
	}
	return qualified(account, domain)
}

// qualified is an account's name with the computer or domain that knows it, where one does.
func qualified(account, domain string) string {
	if domain == "" {
		return account
	}
	return domain + `\` + account
}

// runsAs is whose a process is, with the computer or domain that knows the account.
func runsAs(_ context.Context, p *process.Process) string {
	h, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(p.Pid))
	if err != nil {
		return ""
	}
	defer windows.CloseHandle(h)
	var token windows.Token
	if err := windows.OpenProcessToken(h, windows.TOKEN_QUERY, &token); err != nil {
		return ""
	}
	defer token.Close()
	user, err := token.GetTokenUser()
	if err != nil {
		return ""
	}
	return qualified(names.find(user.User.Sid))
}
