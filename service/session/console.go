package session

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// consolePrefix marks a desktop that is a console of another computer, and consolePort is that of
// RFB's first display.
const (
	consolePrefix = "console:"
	consolePort   = "5900"
	// mostConsoles of one device are listed with its desktops.
	mostConsoles = 100
)

// ListConsoles lists a device's consoles: GET /devices/{id}/consoles.
func (s *Service) ListConsoles(c *gin.Context, id api.ID, in api.ListConsolesParams) {
	front.List(c, in.Cursor, in.Limit, "", func(ctx context.Context, after string, limit int) ([]api.Console, error) {
		return s.store.consoles(ctx, id, after, limit)
	}, func(o api.Console) string { return o.Name },
		func(items []api.Console, next *string) any { return api.ConsolePage{Items: items, Next: next} })
}

// AddConsole adds a console: POST /devices/{id}/consoles.
func (s *Service) AddConsole(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.NewConsole](c)
	if !ok {
		return
	}
	d, o, err := s.addConsole(c, id, in)
	if s.consoled(c, d, "console.add", o.Name+" at "+o.Address, err) {
		c.JSON(http.StatusCreated, o)
	}
}

func (s *Service) addConsole(c *gin.Context, id uuid.UUID, in api.NewConsole) (d api.Device, o api.Console, err error) {
	ctx := c.Request.Context()
	if d, err = s.devices.Device(ctx, id); err != nil {
		return d, o, err
	}
	o = api.Console{ID: uuid.New(), Name: device.CleanText(strings.TrimSpace(in.Name)), AddedAt: time.Now().Truncate(time.Microsecond),
		AddedBy: front.CallerOf(c).Email, Secret: in.Password != nil}
	if o.Address, err = address(in.Address); err != nil {
		return d, o, err
	}
	if o.Name == "" {
		return d, o, front.Problem(http.StatusBadRequest, "The console has no name.", "Give it one, such as that of the machine.")
	}
	var kept []byte
	if in.Password != nil {
		kept = s.box.Seal(*in.Password, consolePrefix+o.ID.String())
	}
	if err = s.store.addConsole(ctx, id, o, kept); db.Duplicate(err) {
		err = front.Problem(http.StatusConflict, d.Name+" has a console named "+o.Name+" already.",
			"Give it another name, or remove that one.")
	}
	return d, o, err
}

// RemoveConsole removes a console: DELETE /devices/{id}/consoles/{console}.
func (s *Service) RemoveConsole(c *gin.Context, id api.ID, console uuid.UUID) {
	ctx := c.Request.Context()
	d, err := s.devices.Device(ctx, id)
	var name string
	if err == nil {
		if name, err = s.store.removeConsole(ctx, id, console); db.Missing(err) {
			err = front.NotFound("console")
		}
	}
	if s.consoled(c, d, "console.remove", name, err) {
		c.Status(http.StatusNoContent)
	}
}

// consoled notes a change of a device's consoles, or answers with what went wrong.
func (s *Service) consoled(c *gin.Context, d api.Device, action, detail string, err error) bool {
	return front.Changed(c, s.audit, front.Change{Action: action, Detail: detail, Device: d.ID, DeviceName: d.Name, What: "console"}, err)
}

// address reads a host and a port.
func address(text string) (string, error) {
	host, port, err := net.SplitHostPort(text)
	if err != nil {
		host, port = strings.Trim(text, "[]"), consolePort
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil || n == 0 || host == "" || strings.ContainsAny(host, " /@?#%") || device.CleanText(host) != host {
		return "", front.Problem(http.StatusBadRequest, "The console's address cannot be read.",
			"Write a host and, where it is not 5900, a port, such as board7.example:5901 or [2001:db8::7]:5900.")
	}
	return net.JoinHostPort(host, port), nil
}

// consoleOrder is what a device is told of a console that is one of its desktops; nil where the
// desktop is its own.
func (s *Service) consoleOrder(ctx context.Context, d api.Device, desktop string) (*link.ConsoleOrder, error) {
	text, ok := strings.CutPrefix(desktop, consolePrefix)
	if !ok {
		return nil, nil
	}
	id, err := uuid.Parse(text)
	if err != nil {
		return nil, front.NotFound("console")
	}
	name, address, kept, err := s.store.console(ctx, d.ID, id)
	if db.Missing(err) {
		return nil, front.NotFound("console")
	}
	if err != nil {
		return nil, err
	}
	secret, err := s.box.Open(kept, desktop)
	if err != nil {
		return nil, front.Problem(http.StatusConflict, "The password of the console "+name+" cannot be read with the service's key.",
			"Remove the console, and add it again with its password.")
	}
	return &link.ConsoleOrder{ID: desktop, Title: name, Address: address, Secret: secret}, nil
}

// withConsoles adds a device's consoles to its desktops.
func (s *Service) withConsoles(ctx context.Context, id uuid.UUID, list *link.DesktopList) error {
	all, err := s.store.consoles(ctx, id, "", mostConsoles)
	for _, o := range all {
		list.Items = append(list.Items, link.Desktop{ID: consolePrefix + o.ID.String(), Title: o.Name + ", a console at " + o.Address,
			Active: true})
	}
	return err
}

// reseal seals anew what was sealed under an older key, and returns how much that was.
func (s *Service) reseal(ctx context.Context) (int, error) {
	recordings, bad := s.store.resealRecordings(ctx)
	n, err := s.store.resealConsoles(ctx, s.box)
	return n + recordings, errors.Join(err, bad)
}
