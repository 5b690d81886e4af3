//go:build windows

package windows

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host/helper"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// persons implements host.People through the terminal services.
type persons struct{ helpers *helpers }

var (
	wtsapi32            = windows.NewLazySystemDLL("wtsapi32.dll")
	wtsQuerySessionInfo = wtsapi32.NewProc("WTSQuerySessionInformationW")
	wtsLogoffSession    = wtsapi32.NewProc("WTSLogoffSession")
	noSession           = ^uint32(0)
)

// What WTSQuerySessionInformation is asked for (WTS_INFO_CLASS).
const (
	infoUser     = 5
	infoDomain   = 7
	infoClient   = 10
	infoProtocol = 16
	infoSession  = 24
	infoMore     = 25
)

// sessionInfo asks for one thing about a session.
func sessionInfo(session uint32, class uintptr) []byte {
	var at unsafe.Pointer
	var n uint32
	ok, _, _ := wtsQuerySessionInfo.Call(0, uintptr(session), class, uintptr(unsafe.Pointer(&at)), uintptr(unsafe.Pointer(&n)))
	if ok == 0 || at == nil {
		return nil
	}
	defer windows.WTSFreeMemory(uintptr(at))
	return slices.Clone(unsafe.Slice((*byte)(at), n))
}

func sessionText(session uint32, class uintptr) string {
	b := sessionInfo(session, class)
	if len(b) < 2 {
		return ""
	}
	return windows.UTF16ToString(unsafe.Slice((*uint16)(unsafe.Pointer(&b[0])), len(b)/2))
}

// session is one session with somebody signed in.
type session struct {
	id     uint32
	name   string // as accounts are written
	active bool   // it is shown somewhere
	remote bool
	from   string
	since  time.Time
	idle   int64 // seconds, -1 when not known
	locked bool
}

// wtsInfoEx is WTSINFOEXW with its first level.
type wtsInfoEx struct {
	level                                          uint32
	_                                              uint32
	session, state                                 uint32
	flags                                          int32
	station                                        [33]uint16
	user                                           [21]uint16
	domain                                         [18]uint16
	logon, connect, disconnect, lastInput, current int64
}

// sessions lists the sessions in which somebody is signed in, that at the computer itself first.
func sessions() []session {
	var list []session
	var all *windows.WTS_SESSION_INFO
	var n uint32
	if windows.WTSEnumerateSessions(0, 0, 1, &all, &n) == nil && all != nil {
		defer windows.WTSFreeMemory(uintptr(unsafe.Pointer(all)))
		for _, one := range unsafe.Slice(all, n) {
			s := session{id: one.SessionID, active: one.State == windows.WTSActive, idle: -1}
			user := sessionText(one.SessionID, infoUser)
			if user == "" {
				continue
			}
			s.name = accountText(sessionText(one.SessionID, infoDomain), user)
			if b := sessionInfo(one.SessionID, infoProtocol); len(b) >= 2 && b[0] != 0 {
				s.remote, s.from = true, sessionText(one.SessionID, infoClient)
			}
			if b := sessionInfo(one.SessionID, infoMore); len(b) >= int(unsafe.Sizeof(wtsInfoEx{})) {
				more := (*wtsInfoEx)(unsafe.Pointer(&b[0]))
				s.locked = more.flags == 0
				s.since = fileTime(more.logon)
				if more.lastInput > 0 && more.current >= more.lastInput {
					s.idle = (more.current - more.lastInput) / 1e7
				}
			}
			list = append(list, s)
		}
	}
	if len(list) == 0 { // a system that tells of no sessions has the agent's own
		own := ownSession()
		if name := ownName(); name != "" && own != 0 {
			list = append(list, session{id: own, name: name, active: true, idle: -1})
		}
	}
	console := windows.WTSGetActiveConsoleSessionId()
	slices.SortStableFunc(list, func(a, b session) int {
		return cmp.Compare(rank(a, console), rank(b, console))
	})
	return list
}

func rank(s session, console uint32) int {
	switch {
	case s.id == console:
		return 0
	case s.active:
		return 1
	}
	return 2
}

// ownSession is the session that the agent runs in.
func ownSession() (id uint32) {
	windows.ProcessIdToSessionId(windows.GetCurrentProcessId(), &id)
	return id
}

func ownName() string {
	text := make([]uint16, 257)
	n := uint32(len(text))
	if ok, _, _ := getUserNameW.Call(uintptr(unsafe.Pointer(&text[0])), uintptr(unsafe.Pointer(&n))); ok == 0 {
		return ""
	}
	return windows.UTF16ToString(text)
}

// fileTime reads a FILETIME.
func fileTime(t int64) time.Time {
	if t <= 0 {
		return time.Time{}
	}
	return time.Unix(0, (&windows.Filetime{LowDateTime: uint32(t), HighDateTime: uint32(t >> 32)}).Nanoseconds())
}

func accountText(domain, user string) string {
	computer, _ := windows.ComputerName()
	if domain == "" || strings.EqualFold(domain, computer) {
		return user
	}
	return domain + `\` + user
}

// activeSession is the session at the computer itself, or one that somebody looks at from afar.
func activeSession() uint32 {
	for _, s := range sessions() {
		return s.id
	}
	return windows.WTSGetActiveConsoleSessionId()
}

// tokenOf is the token of somebody who is signed in.
func tokenOf(person string) (windows.Token, error) {
	for _, s := range sessions() {
		if !strings.EqualFold(s.name, person) {
			continue
		}
		own := ownSession()
		if own == s.id && strings.EqualFold(ownName(), person) { // the agent is that person's own
			var token, copied windows.Token
			if err := windows.OpenProcessToken(windows.CurrentProcess(), windows.TOKEN_DUPLICATE|windows.TOKEN_QUERY, &token); err != nil {
				return 0, err
			}
			defer token.Close()
			err := windows.DuplicateTokenEx(token, windows.MAXIMUM_ALLOWED, nil, windows.SecurityImpersonation, windows.TokenPrimary,
				&copied)
			return copied, err
		}
		defer withPrivileges("SeTcbPrivilege")()
		var token windows.Token
		if err := windows.WTSQueryUserToken(s.id, &token); err != nil {
			return 0, refuse(http.StatusUnprocessableEntity, "The agent cannot act as %s, as it does not run as a service: %v.", person,
				err)
		}
		return token, nil
	}
	return 0, refuse(http.StatusConflict, "%s is not signed in here.", person)
}

// signedIn is who is signed in, for the vitals.
func signedIn(context.Context) []device.SignedIn {
	list := []device.SignedIn{}
	for _, s := range sessions() {
		list = append(list, device.SignedIn{Name: s.name, Where: s.where(), IdleSeconds: s.idle})
	}
	return list
}

func (s session) where() string {
	if s.remote {
		return s.from
	}
	return "console"
}

// People implements host.People.
func (persons) People(context.Context) (link.PresenceList, error) {
	out := link.PresenceList{Items: []link.Presence{}}
	for _, s := range sessions() {
		p := link.Presence{Session: strconv.Itoa(int(s.id)), Name: s.name, Kind: "console", Where: s.where(), Since: s.since,
			IdleSeconds: s.idle, Locked: s.locked, Graphic: true}
		if s.remote {
			p.Kind = "remote"
		}
		out.Items = append(out.Items, p)
		out.Means = "dialog"
	}
	return out, nil
}

// find returns a session by its number, or the one that is worked in.
func find(id string) (session, error) {
	all := sessions()
	if len(all) == 0 {
		return session{}, refuse(http.StatusConflict, "Nobody is signed in at this device.")
	}
	for _, s := range all {
		if id == "" || id == strconv.Itoa(int(s.id)) {
			return s, nil
		}
	}
	return session{}, refuse(http.StatusConflict, "Session %s has ended.", id)
}

// Show implements host.People.
func (p persons) Show(ctx context.Context, m link.Message) (answer link.MessageAnswer, err error) {
	s, err := find(m.Session)
	if err != nil {
		return link.MessageAnswer{Reason: err.Error()}, nil
	}
	err = p.helpers.With(s.id, func(d *helper.Client) (err error) {
		answer, err = d.Show(ctx, m)
		return err
	})
	if err != nil && ctx.Err() == nil {
		answer.Reason, err = err.Error(), nil
	}
	answer.By = s.name
	return answer, err
}

// Clip implements host.People.
func (p persons) Clip(ctx context.Context, c link.Clip) (out link.Outcome, err error) {
	s, err := find(c.Session)
	if err != nil {
		return out, err
	}
	err = p.helpers.With(s.id, func(d *helper.Client) (err error) {
		out, err = d.Clip(ctx, c)
		return err
	})
	if err == nil {
		out.Message = fmt.Sprintf("%d characters are on the clipboard of %s.", len([]rune(c.Text)), s.name)
	}
	return out, err
}
