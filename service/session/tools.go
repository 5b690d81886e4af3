package session

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
	"moorwatch.example/service/front"
)

// told gives how an action ended in the words of the device.
func told(_ *work, o *link.Outcome) string {
	o.Message = device.CleanText(o.Message)
	return "done: " + o.Message
}

// need answers a caller who lacks a permission that one kind of an action needs beyond the operation's.
func need(c *gin.Context, p access.Permission) bool {
	if front.May(c, p) {
		return true
	}
	front.Fail(c, front.Lacking(p))
	return false
}

// ListProcesses lists processes: GET /devices/{id}/processes.
func (s *Service) ListProcesses(c *gin.Context, id api.ID) {
	one[link.Processes](s, c, id, http.StatusOK, job{tool: "processes", path: "/processes/list"}, nil)
}

// WatchProcesses lists them again and again: GET /devices/{id}/processes/live.
func (s *Service) WatchProcesses(c *gin.Context, id api.ID) {
	s.passLines(c, id, job{tool: "processes", path: "/processes/watch"})
}

// ListSpikes lists what was busiest in the last hour: GET /devices/{id}/processes/past.
func (s *Service) ListSpikes(c *gin.Context, id api.ID) {
	one[link.Spikes](s, c, id, http.StatusOK, job{tool: "processes", path: "/processes/past"}, nil)
}

// ChangeProcess does an action to a process: POST /devices/{id}/processes.
func (s *Service) ChangeProcess(c *gin.Context, id api.ID) {
	d, ok := front.Bind[link.ProcessAction](c)
	if !ok {
		return
	}
	if d.PID <= 0 && d.Name == "" {
		front.Fail(c, front.Problem(http.StatusBadRequest, "The action names no process.",
			"Give its pid and started, as the list tells them."))
		return
	}
	one(s, c, id, http.StatusOK, processJob(d), told)
}

func processJob(d link.ProcessAction) job {
	detail := fmt.Sprintf("process %d", d.PID)
	if d.Name != "" {
		detail = "all named " + d.Name
	}
	if d.Priority != "" {
		detail += ", " + d.Priority
	}
	if d.Force {
		detail += ", by force"
	}
	return job{"processes", "/processes/do", d, "process." + d.Action, detail}
}

// StartProgram starts a program: POST /devices/{id}/programs.
func (s *Service) StartProgram(c *gin.Context, id api.ID) {
	p, ok := front.Bind[link.Program](c)
	if !ok {
		return
	}
	detail := strings.Join(p.Argv, " ")
	if p.Person != "" {
		detail += " as " + p.Person
	}
	one(s, c, id, http.StatusOK, job{"processes", "/processes/start", p, "program.start", detail}, told)
}

// ListServices lists services: GET /devices/{id}/services.
func (s *Service) ListServices(c *gin.Context, id api.ID) {
	one[link.Services](s, c, id, http.StatusOK, job{tool: "services", path: "/services/list"}, nil)
}

// GetService shows one service: GET /devices/{id}/services/{name}.
func (s *Service) GetService(c *gin.Context, id api.ID, name string) {
	one[link.Service](s, c, id, http.StatusOK, job{tool: "services", path: "/services/service", in: link.Service{Name: name}}, nil)
}

// ChangeService does an action to a service: POST /devices/{id}/services.
func (s *Service) ChangeService(c *gin.Context, id api.ID) {
	d, ok := front.Bind[link.ServiceAction](c)
	if !ok || (d.Action == link.ServiceMode && !need(c, access.Of("services", access.Administer))) {
		return
	}
	one(s, c, id, http.StatusOK, serviceJob(d), told)
}

func serviceJob(d link.ServiceAction) job {
	detail := d.Name
	if d.Start != "" {
		detail += ", " + d.Start
	}
	if len(d.Stops) > 0 {
		detail += ", and with it " + strings.Join(d.Stops, ", ")
	}
	return job{"services", "/services/do", d, "service." + d.Action, detail}
}

// ListEventSources lists logs: GET /devices/{id}/event-sources.
func (s *Service) ListEventSources(c *gin.Context, id api.ID) {
	one[link.EventSources](s, c, id, http.StatusOK, job{tool: "events", path: "/events/sources"}, nil)
}

// ReadEvents reads and follows a log: POST /devices/{id}/events.
func (s *Service) ReadEvents(c *gin.Context, id api.ID) {
	if q, ok := front.Bind[link.EventQuery](c); ok {
		s.passLines(c, id, job{tool: "events", path: "/events/read", in: q})
	}
}

// GetNetwork shows the network as a device sees it: GET /devices/{id}/network.
func (s *Service) GetNetwork(c *gin.Context, id api.ID) {
	one(s, c, id, http.StatusOK, job{tool: "network", path: "/network/read"}, func(w *work, n *link.Network) string {
		s.name(w.ctx, front.CallerOf(c), n.Neighbours)
		return "done"
	})
}

// name names the neighbours that are devices of the fleet.
func (s *Service) name(ctx context.Context, caller *front.Caller, all []link.Neighbour) {
	addresses := make([]string, len(all))
	for i, n := range all {
		addresses[i] = n.Address
	}
	known, err := s.devices.ByAddress(ctx, caller, addresses)
	if err != nil {
		return // they stay without names
	}
	for i := range all {
		if d, ok := known[all[i].Address]; ok {
			all[i].Device, all[i].DeviceID = d.Name, d.ID.String()
		}
	}
}

// TestReach tests whether a device reaches something: POST /devices/{id}/network/reach.
func (s *Service) TestReach(c *gin.Context, id api.ID) {
	if r, ok := front.Bind[link.Reach](c); ok {
		s.passLines(c, id, job{"network", "/network/reach", r, "network.reach", r.Kind + " " + r.Target})
	}
}

// ScanNetwork looks for hosts: POST /devices/{id}/network/scan.
func (s *Service) ScanNetwork(c *gin.Context, id api.ID) {
	if n, ok := front.Bind[link.Scan](c); ok {
		s.passLines(c, id, job{"network", "/network/scan", n, "network.scan", n.Network})
	}
}

// Times and numbers of waking a device.
const (
	wakeWithin  = 10 * time.Second
	wakeCallers = 5
)

// WakeDevice wakes a device through its neighbours: POST /devices/{id}/wake.
func (s *Service) WakeDevice(c *gin.Context, id api.ID) {
	front.Read(c, func(ctx context.Context) (out api.WakeResult, err error) {
		d, err := s.devices.Device(ctx, id)
		if err != nil {
			return out, err
		}
		return s.wake(ctx, d, front.EntryOf(c, "power.wake", "begun"))
	})
}

// Online tells whether a device is connected.
func (s *Service) Online(id uuid.UUID) bool { return s.hub.Online(id) }

// Wake wakes a device through its neighbours, for a rollout.
func (s *Service) Wake(ctx context.Context, id uuid.UUID, by string) error {
	d, err := s.devices.Device(ctx, id)
	if err != nil {
		return err
	}
	_, err = s.wake(ctx, d, front.Entry{Actor: by, Via: "rollout", Action: "power.wake", Result: "begun"})
	return err
}

// ShutDown shuts a device down, for a rollout, unless somebody is signed in there.
func (s *Service) ShutDown(ctx context.Context, id uuid.UUID, by string) (stays string, err error) {
	d, err := s.devices.Device(ctx, id)
	if err != nil {
		return "", err
	}
	there, err := call[link.PresenceList](ctx, s.hub, id, "/people/list", struct{}{})
	if err != nil {
		return "", err
	}
	if len(there.Items) > 0 {
		return there.Items[0].Name + " is signed in", nil
	}
	entry := front.Entry{Actor: by, Via: "rollout", Action: "power." + link.PowerOff, Device: id, DeviceName: d.Name,
		Detail: "it was woken for a rollout", Result: "begun"}
	if err := s.audit.Record(ctx, entry); err != nil {
		return "", err
	}
	_, err = call[link.Outcome](ctx, s.hub, id, "/power/do", link.PowerAction{Action: link.PowerOff})
	return "", err
}

// wake has the neighbours of a device send it the call to wake, and notes the action.
func (s *Service) wake(ctx context.Context, d api.Device, entry front.Entry) (out api.WakeResult, err error) {
	out.By = []string{}
	if d.Online {
		return out, front.Problem(http.StatusConflict, d.Name+" is awake.", "It is connected.")
	}
	hardware, near, err := s.wakers(ctx, d)
	switch {
	case err != nil:
		return out, err
	case len(hardware) == 0:
		return out, front.Problem(http.StatusConflict, "The hardware address of "+d.Name+" is not known.",
			"It is part of its inventory; the device has not sent one.")
	case len(near) == 0:
		return out, front.Problem(http.StatusConflict, "No device is online beside "+d.Name+".",
			"The call must come from its own network. Wake one there by hand, or have the site's router send it.")
	}
	entry.Device, entry.DeviceName, entry.Detail = d.ID, d.Name, strings.Join(hardware, ", ")
	if err := s.audit.Record(ctx, entry); err != nil {
		return out, err
	}
	ctx, cancel := context.WithTimeout(ctx, wakeWithin)
	defer cancel()
	var mu sync.Mutex
	var why string
	var all sync.WaitGroup
	for _, n := range near {
		all.Go(func() {
			_, err := call[link.Outcome](ctx, s.hub, n.ID, "/network/wake", link.Wake{Hardware: hardware})
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				why = n.Name + ": " + err.Error()
			} else {
				out.By = append(out.By, n.Name)
			}
		})
	}
	all.Wait()
	entry.Result = "sent by " + strings.Join(out.By, ", ")
	if len(out.By) == 0 {
		entry.Result = "not sent: " + why
	}
	s.audit.Note(entry)
	if len(out.By) == 0 {
		return out, front.Problem(http.StatusBadGateway, "No neighbour could send the call.", why)
	}
	slices.Sort(out.By)
	out.Message = fmt.Sprintf("The call was sent to %s. A device that is set to wake connects within a minute or two.",
		strings.Join(hardware, ", "))
	return out, nil
}

// wakers finds the hardware addresses of a device, and devices online beside it: those of its site
// whose addresses lie in the same /24 or /64, else any of its site.
func (s *Service) wakers(ctx context.Context, d api.Device) (hardware []string, near []api.Device, err error) {
	items, err := s.inventory.Section(ctx, d.ID, "adapters")
	if err != nil {
		return nil, nil, err
	}
	for _, i := range items {
		if a := i.Fields["hardware_address"]; a != "" {
			hardware = append(hardware, a)
		}
	}
	place, err := s.devices.Place(ctx, d.ID)
	if err != nil {
		return nil, nil, err
	}
	site, err := s.devices.Scopes(ctx, siteScope(place.Site))
	if err != nil {
		return nil, nil, err
	}
	site = slices.DeleteFunc(site, func(o api.Device) bool {
		return o.ID == d.ID || !o.Online || !slices.Contains(o.Capabilities, device.CapabilityNetwork)
	})
	for _, o := range site {
		if slices.ContainsFunc(o.Addresses, func(a string) bool {
			return slices.ContainsFunc(d.Addresses, func(b string) bool { return sameNetwork(a, b) })
		}) {
			near = append(near, o)
		}
	}
	if len(near) == 0 {
		near = site
	}
	return hardware, near[:min(len(near), wakeCallers)], nil
}

func sameNetwork(a, b string) bool {
	x, err := netip.ParseAddr(a)
	y, err2 := netip.ParseAddr(b)
	if err != nil || err2 != nil || x.Is4() != y.Is4() {
		return false
	}
	bits := 64
	if x.Is4() {
		bits = 24
	}
	p, err := x.Prefix(bits)
	return err == nil && p.Contains(y)
}

// ListPresence tells who is signed in: GET /devices/{id}/people.
func (s *Service) ListPresence(c *gin.Context, id api.ID) {
	one[link.PresenceList](s, c, id, http.StatusOK, job{tool: "people", path: "/people/list"}, nil)
}

// ShowMessage shows a message to the person at a device: POST /devices/{id}/messages.
func (s *Service) ShowMessage(c *gin.Context, id api.ID) {
	m, ok := front.Bind[link.Message](c)
	if !ok {
		return
	}
	if m.Title == "" {
		m.Title = "Message from " + front.CallerOf(c).Name
	}
	one(s, c, id, http.StatusOK, messageJob(m), func(w *work, a *link.MessageAnswer) string {
		w.session.interrupted(a.After)
		return answered(a)
	})
}

func messageJob(m link.Message) job {
	return job{"people", "/people/show", m, "message.show", m.Text}
}

func answered(a *link.MessageAnswer) string {
	a.Answer, a.By, a.Reason = device.CleanText(a.Answer), device.CleanText(a.By), device.CleanText(a.Reason)
	if a.Answer != "" {
		return "answered: " + a.Answer
	}
	return "no answer: " + a.Reason
}

// SetClipboard puts a text on a person's clipboard: POST /devices/{id}/clipboard. The text itself
// is not put on record: it may be a password.
func (s *Service) SetClipboard(c *gin.Context, id api.ID) {
	if in, ok := front.Bind[link.Clip](c); ok {
		one(s, c, id, http.StatusOK, job{"people", "/people/clip", in, "clipboard.set", fmt.Sprintf("%d characters", len([]rune(in.Text)))},
			told)
	}
}

// ChangePower restarts or ends a device, or a session on it: POST /devices/{id}/power.
func (s *Service) ChangePower(c *gin.Context, id api.ID) {
	d, ok := front.Bind[link.PowerAction](c)
	if !ok || (administers(d) && !need(c, access.Of("power", access.Administer))) {
		return
	}
	one(s, c, id, http.StatusOK, powerJob(d), told)
}

func administers(d link.PowerAction) bool {
	return d.Action == link.PowerFirmware || d.Action == link.PowerRecovery
}

func powerJob(d link.PowerAction) job {
	detail := d.Session
	if d.DelaySeconds > 0 {
		detail = strings.TrimSpace(fmt.Sprintf("%s in %d s", detail, d.DelaySeconds))
	}
	return job{"power", "/power/do", d, "power." + d.Action, detail}
}

// Inventory reads what devices consist of.
type Inventory interface {
	// Section returns the items of one section of a device's inventory.
	Section(ctx context.Context, id uuid.UUID, section string) ([]inventory.Item, error)
}
