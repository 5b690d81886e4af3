// Package query answers queries over a device's management data: it makes classes, with rows and
// fields, of what the host's capabilities tell, and of the system's own sources beside them.
package query

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/inventory"
	"moorwatch.example/core/query"
)

// Answerer answers queries.
type Answerer struct {
	host    host.Host
	sources []host.Source

	mu    sync.Mutex // of what follows; the host lists its inventory to one at a time
	items []inventory.Item
	at    time.Time
}

// keepItems is for how long an inventory that was taken for one query serves others.
const keepItems = 20 * time.Second

// New makes one over a host.
func New(h host.Host) *Answerer { return &Answerer{host: h, sources: append(own(h), h.Sources...)} }

func text(name, about string) link.QueryField {
	return link.QueryField{Name: name, Type: "text", About: about}
}

func number(name, about string) link.QueryField {
	return link.QueryField{Name: name, Type: "number", About: about}
}

func flag(name, about string) link.QueryField {
	return link.QueryField{Name: name, Type: "flag", About: about}
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// own are the classes of what a host tells by its other capabilities.
func own(h host.Host) (all []host.Source) {
	add := func(name, title, source string, rows func(ctx context.Context, each func(map[string]any) error) error,
		fields ...link.QueryField) {
		all = append(all, host.Source{Class: link.QueryClass{Name: name, Title: title, Source: source, Fields: fields}, Rows: rows})
	}
	add("computer", "This computer", "facts", func(ctx context.Context, each func(map[string]any) error) error {
		f, err := h.Informer.Facts(ctx)
		if err != nil {
			return err
		}
		return each(map[string]any{"name": f.HostName, "os": f.OS, "os_name": f.OSName, "os_version": f.OSVersion, "kernel": f.Kernel,
			"arch": f.Arch, "vendor": f.Vendor,
			"model": f.Model, "serial": f.Serial, "cores": float64(f.Cores), "memory": float64(f.MemoryBytes), "booted": stamp(f.BootedAt),
			"time_zone": f.TimeZone})
	}, text("name", ""), text("os", ""), text("os_name", ""), text("os_version", ""), text("kernel", ""), text("arch", ""),
		text("vendor", ""), text("model", ""), text("serial", ""),
		number("cores", ""), number("memory", "bytes"), text("booted", "time"), text("time_zone", ""))
	if h.Processes != nil {
		add("process", "Processes", "the process table", func(ctx context.Context, each func(map[string]any) error) error {
			l, err := h.Processes.Another().List(ctx)
			if err != nil {
				return err
			}
			for _, p := range l.Items {
				if err := each(map[string]any{"pid": float64(p.PID), "parent": float64(p.Parent), "name": p.Name, "command": p.Command,
					"person": p.Person, "started": stamp(p.Started),
					"cpu": math.Round(10*p.CPU) / 10, "memory": float64(p.Memory), "state": p.State, "priority": p.Priority,
					"listening": strings.Join(p.Listening, ", ")}); err != nil {
					return err
				}
			}
			return nil
		}, number("pid", ""), number("parent", "pid"), text("name", ""), text("command", ""), text("person", "whom it runs as"),
			text("started", "time"), number("cpu", "percent of a core, since its start"),
			number("memory", "bytes"), text("state", ""), text("priority", ""), text("listening", "protocol and address"))
	}
	if h.Services != nil {
		add("service", "Services", "the service manager", func(ctx context.Context, each func(map[string]any) error) error {
			l, err := h.Services.List(ctx)
			if err != nil {
				return err
			}
			for _, s := range l.Items {
				if err := each(map[string]any{"name": s.Name, "title": s.Title, "state": s.State, "detail": s.Detail, "start": s.Start,
					"pid": float64(s.PID), "memory": float64(s.Memory), "since": s.Since}); err != nil {
					return err
				}
			}
			return nil
		}, text("name", ""), text("title", ""), text("state", "running, stopped, starting, stopping or failed"), text("detail", ""),
			text("start", "automatic, manual, disabled or other"),
			number("pid", ""), number("memory", "bytes"), text("since", "time"))
	}
	if h.Network != nil {
		network := func(rows func(n link.Network, each func(map[string]any) error) error) func(ctx context.Context,
			each func(map[string]any) error) error {
			return func(ctx context.Context, each func(map[string]any) error) error {
				n, err := h.Network.Network(ctx)
				if err != nil {
					return err
				}
				return rows(n, each)
			}
		}
		add("interface", "Network interfaces", "the network", network(func(n link.Network, each func(map[string]any) error) error {
			return every(n.Interfaces, each, func(i link.Interface) map[string]any {
				return map[string]any{"name": i.Name, "hardware": i.Hardware, "addresses": strings.Join(i.Addresses, ", "), "up": i.Up,
					"mtu": float64(i.MTU)}
			})
		}), text("name", ""), text("hardware", "MAC address"), text("addresses", ""), flag("up", ""), number("mtu", "bytes"))
		add("route", "Routes", "the network", network(func(n link.Network, each func(map[string]any) error) error {
			return every(n.Routes, each, func(r link.Route) map[string]any {
				return map[string]any{"to": r.To, "by": r.By, "interface": r.Interface, "metric": float64(r.Metric)}
			})
		}), text("to", ""), text("by", ""), text("interface", ""), number("metric", ""))
		add("neighbour", "Neighbours", "the network", network(func(n link.Network, each func(map[string]any) error) error {
			return every(n.Neighbours, each, func(x link.Neighbour) map[string]any {
				return map[string]any{"address": x.Address, "hardware": x.Hardware, "interface": x.Interface}
			})
		}), text("address", ""), text("hardware", "MAC address"), text("interface", ""))
		add("connection", "Open connections", "the network", network(func(n link.Network, each func(map[string]any) error) error {
			return every(n.Connections, each, func(x link.Connection) map[string]any {
				return map[string]any{"protocol": x.Protocol, "local": x.Local, "remote": x.Remote, "state": x.State, "pid": float64(x.PID),
					"process": x.Process}
			})
		}), text("protocol", ""), text("local", ""), text("remote", ""), text("state", ""), number("pid", ""), text("process", ""))
	}
	if h.People != nil {
		add("presence", "People signed in", "the session manager", func(ctx context.Context, each func(map[string]any) error) error {
			l, err := h.People.People(ctx)
			if err != nil {
				return err
			}
			return every(l.Items, each, func(p link.Presence) map[string]any {
				return map[string]any{"session": p.Session, "name": p.Name, "kind": p.Kind, "place": p.Where, "since": stamp(p.Since),
					"idle": float64(p.IdleSeconds), "locked": p.Locked}
			})
		}, text("session", ""), text("name", ""), text("kind", "console, remote or terminal"), text("place", ""), text("since", "time"),
			number("idle", "seconds; -1 when not known"), flag("locked", ""))
	}
	return all
}

func every[T any](items []T, each func(map[string]any) error, row func(T) map[string]any) error {
	for _, i := range items {
		if err := each(row(i)); err != nil {
			return err
		}
	}
	return nil
}

// inventoryNames are the classes made of the sections of the inventory.
var inventoryNames = map[string]string{"system": "system", "hardware": "hardware", "memory": "memory_module", "disks": "disk",
	"adapters": "adapter", "monitors": "monitor",
	"batteries": "battery", "peripherals": "peripheral", "software": "software", "services": "installed_service", "startup": "startup_item",
	"users": "user", "groups": "user_group",
	"network": "network_setting", "ports": "listening_port", "certificates": "certificate", "tasks": "scheduled_task", "safety": "safety"}

// inventory is the inventory as it is now, or was a moment ago.
func (a *Answerer) inventory(ctx context.Context) ([]inventory.Item, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if time.Since(a.at) < keepItems {
		return a.items, nil
	}
	items, err := a.host.Lister.Items(ctx)
	if err == nil {
		a.items, a.at = items, time.Now()
	}
	return items, err
}

func fieldName(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return '_'
	}, strings.ToLower(s))
}

// Classes lists the classes with their fields.
func (a *Answerer) Classes(ctx context.Context) (link.QueryClasses, error) {
	out := link.QueryClasses{}
	for _, s := range a.sources {
		out.Items = append(out.Items, s.Class)
	}
	items, err := a.inventory(ctx)
	if err != nil {
		return out, err
	}
	for _, section := range inventory.Sections {
		class := link.QueryClass{Name: inventoryNames[section.Name], Title: section.Title, Source: "the inventory",
			Fields: []link.QueryField{text("name", ""), text("key", "")}}
		kinds := map[string]string{}
		there := false
		for _, i := range items {
			if i.Section != section.Name {
				continue
			}
			there = true
			for field, value := range i.Fields {
				kind := "text"
				if _, err := strconv.ParseFloat(value, 64); err == nil {
					kind = "number"
				}
				if name := fieldName(field); kinds[name] == "" || kind == "text" {
					kinds[name] = kind
				}
			}
		}
		for _, name := range slices.Sorted(maps.Keys(kinds)) {
			class.Fields = append(class.Fields, link.QueryField{Name: name, Type: kinds[name]})
		}
		if there && class.Name != "" {
			out.Items = append(out.Items, class)
		}
	}
	slices.SortFunc(out.Items, func(a, b link.QueryClass) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

var errEnough = errors.New("enough rows were found")

// Ask sends the rows that a query wants, and at last one with Done.
func (a *Answerer) Ask(ctx context.Context, in link.Query, send func(link.QueryRow) error) error {
	q, err := query.Parse(in.Text)
	var m *query.Matcher
	if err == nil {
		m, err = q.Compile()
	}
	if err != nil {
		return &link.Problem{Status: http.StatusBadRequest, Reason: err.Error()}
	}
	rows := a.rows(q.Class)
	if rows == nil {
		there, err := a.Classes(ctx)
		if err != nil {
			return err
		}
		names := make([]string, len(there.Items))
		for i, class := range there.Items {
			names[i] = class.Name
		}
		return &link.Problem{Status: http.StatusNotFound,
			Reason: fmt.Sprintf("there is no class %q on this device: it has %s", q.Class, strings.Join(names, ", "))}
	}
	checked, found := 0, 0
	err = rows(ctx, func(r map[string]any) error {
		checked++
		row, ok := m.Take(r)
		if !ok {
			return ctx.Err()
		}
		if found++; found > q.Rows() {
			return errEnough
		}
		return send(link.QueryRow{Row: row})
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	return send(link.QueryRow{Done: true, Checked: checked, More: err != nil})
}

// rows finds the class of a name; nil for none.
func (a *Answerer) rows(class string) func(ctx context.Context, each func(map[string]any) error) error {
	for _, s := range a.sources {
		if s.Class.Name == class {
			return s.Rows
		}
	}
	for section, name := range inventoryNames {
		if name != class {
			continue
		}
		return func(ctx context.Context, each func(map[string]any) error) error {
			items, err := a.inventory(ctx)
			if err != nil {
				return err
			}
			for _, i := range items {
				if i.Section != section {
					continue
				}
				row := map[string]any{"name": i.Name, "key": i.Key}
				for field, value := range i.Fields {
					row[fieldName(field)] = value
					if n, err := strconv.ParseFloat(value, 64); err == nil {
						row[fieldName(field)] = n
					}
				}
				if err := each(row); err != nil {
					return err
				}
			}
			return nil
		}
	}
	return nil
}
