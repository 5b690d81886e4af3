// Package inventory is what a device consists of, as items in sections: how a snapshot is told from
// the one before by their differences, and how a difference reads as a change. Where items come
// from and where they are kept is no matter of this package.
package inventory

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"moorwatch.example/core/device"
)

// Section is a part of the inventory.
type Section struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	One   string `json:"-"` // one item of it, in a sentence
}

// Sections are all parts, in the order in which they are shown.
var Sections = []Section{
	{"system", "Operating system", "Operating system"}, {"hardware", "Hardware", "Hardware"}, {"memory", "Memory modules", "Memory module"},
	{"disks", "Disks", "Disk"}, {"adapters", "Network adapters", "Network adapter"}, {"monitors", "Monitors", "Monitor"},
	{"batteries", "Batteries", "Battery"}, {"peripherals", "Peripherals", "Peripheral"}, {"software", "Software", "Software"},
	{"services", "Services", "Service"}, {"startup", "Start-up items", "Start-up item"}, {"users", "Local users", "Local user"},
	{"groups", "Local groups", "Local group"}, {"network", "Network", "Network setting"}, {"ports", "Listening ports", "Listening port"},
	{"certificates", "Certificates", "Certificate"}, {"tasks", "Scheduled tasks", "Scheduled task"}, {"safety", "Safety", "Safety setting"},
}

// Sections that other packages name.
const (
	Software = "software"
	Safety   = "safety"
)

var sections = func() map[string]*Section {
	m := map[string]*Section{}
	for i := range Sections {
		m[Sections[i].Name] = &Sections[i]
	}
	return m
}()

// Item is one thing of a section. Section and Key identify it on the device.
type Item struct {
	Section string            `json:"section"`
	Key     string            `json:"key"`
	Name    string            `json:"name"`
	Fields  map[string]string `json:"fields,omitempty"`
}

// Ref names an item.
type Ref struct {
	Section string `json:"section"`
	Key     string `json:"key"`
}

// Ref is what identifies the item.
func (i Item) Ref() Ref { return Ref{i.Section, i.Key} }

func (i Item) equal(o Item) bool { return i.Name == o.Name && maps.Equal(i.Fields, o.Fields) }

// Snapshot is the items of a device at one time.
type Snapshot map[Ref]Item

// Limits of a snapshot. What is longer is cut; what there is more of is left out.
const (
	MaxItems  = 20_000
	MaxFields = 40
	maxField  = 1000 // characters of a field
)

// Of makes a snapshot of items. Items of unknown sections or without a key are left out, texts are
// made safe to show and cut; of items with the same key the last stays.
func Of(items []Item) Snapshot {
	s := Snapshot{}
	for _, i := range items {
		i, ok := i.clean()
		if _, replaces := s[i.Ref()]; ok && (replaces || len(s) < MaxItems) {
			s[i.Ref()] = i
		}
	}
	return s
}

func (i Item) clean() (Item, bool) {
	i.Key, i.Name = device.CleanText(i.Key), device.CleanText(i.Name)
	if sections[i.Section] == nil || i.Key == "" {
		return i, false
	}
	fields := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(i.Fields)) {
		value := device.CleanLong(i.Fields[name], maxField)
		if name = device.CleanText(name); name != "" && value != "" && len(fields) < MaxFields {
			fields[name] = value
		}
	}
	i.Fields = fields
	if i.Name == "" {
		i.Name = i.Key
	}
	return i, true
}

// Items lists the snapshot in the order of sections, names and keys.
func (s Snapshot) Items() []Item {
	order := map[string]int{}
	for i, section := range Sections {
		order[section.Name] = i
	}
	return slices.SortedFunc(maps.Values(s), func(a, b Item) int {
		return cmp.Or(cmp.Compare(order[a.Section], order[b.Section]), cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)),
			cmp.Compare(a.Key, b.Key))
	})
}

// Digest identifies the snapshot's content: SHA-256 in hexadecimal digits.
func (s Snapshot) Digest() string {
	h := sha256.New()
	e := json.NewEncoder(h)
	for _, i := range s.Items() {
		e.Encode(i) // writing to a hash cannot fail; maps are written in the order of their keys
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Delta leads from one snapshot to another. An empty Base means from nothing.
type Delta struct {
	Base   string `json:"base"`   // digest of the snapshot it starts from
	Digest string `json:"digest"` // of the one it leads to
	Put    []Item `json:"put"`
	Gone   []Ref  `json:"gone,omitempty"`
}

// Compare returns what leads from a to b.
func Compare(a, b Snapshot) Delta {
	d := Delta{Digest: b.Digest(), Put: []Item{}}
	if len(a) > 0 {
		d.Base = a.Digest()
	}
	for _, i := range b.Items() {
		if old, ok := a[i.Ref()]; !ok || !old.equal(i) {
			d.Put = append(d.Put, i)
		}
	}
	for _, i := range a.Items() {
		if _, ok := b[i.Ref()]; !ok {
			d.Gone = append(d.Gone, i.Ref())
		}
	}
	return d
}

// Apply returns the snapshot that d leads to from s. It fails when d does not start from s, or
// leads elsewhere than it says: then the whole must be sent.
func (s Snapshot) Apply(d Delta) (Snapshot, error) {
	base := ""
	if len(s) > 0 {
		base = s.Digest()
	}
	if d.Base != "" && d.Base != base {
		return nil, fmt.Errorf("the differences do not start from what is known")
	}
	next := Snapshot{}
	if d.Base != "" {
		next = maps.Clone(s)
	}
	for _, r := range d.Gone {
		delete(next, r)
	}
	for ref, i := range Of(d.Put) {
		next[ref] = i
	}
	if len(next) > MaxItems {
		return nil, fmt.Errorf("the inventory has %d items; at most %d are kept", len(next), MaxItems)
	}
	if got := next.Digest(); got != d.Digest {
		return nil, fmt.Errorf("the differences lead to %.12s, not to %.12s", got, d.Digest)
	}
	return next, nil
}

// ChangeKind is what happened to an item.
type ChangeKind string

// What may happen to an item.
const (
	Added   ChangeKind = "added"
	Removed ChangeKind = "removed"
	Changed ChangeKind = "changed"
)

// Change is a difference between two snapshots of one device.
type Change struct {
	Section string     `json:"section"`
	Key     string     `json:"key"`
	Name    string     `json:"name"`
	Kind    ChangeKind `json:"kind"`
	Summary string     `json:"summary"` // what changed, in a sentence
	Before  *Item      `json:"before,omitempty"`
	After   *Item      `json:"after,omitempty"`
}

// Signature is equal for the same change on different devices.
func (c Change) Signature() string {
	parts := []string{c.Section, c.Key, string(c.Kind)}
	side := func(i *Item) string {
		if i == nil {
			return ""
		}
		if v := i.Fields["version"]; v != "" {
			return v
		}
		text, _ := json.Marshal(i.Fields) // a map of texts can always be written
		return string(text)
	}
	sum := sha256.Sum256([]byte(strings.Join(append(parts, side(c.Before), side(c.After)), "\x00")))
	return hex.EncodeToString(sum[:12])
}

// Changes reads what leads from a to b as changes, in the order of sections.
func Changes(a, b Snapshot) []Change {
	var all []Change
	for _, i := range b.Items() {
		old, ok := a[i.Ref()]
		switch {
		case !ok:
			all = append(all, change(Added, nil, &i))
		case !old.equal(i):
			all = append(all, change(Changed, &old, &i))
		}
	}
	for _, i := range a.Items() {
		if _, ok := b[i.Ref()]; !ok {
			all = append(all, change(Removed, &i, nil))
		}
	}
	return all
}

func change(kind ChangeKind, before, after *Item) Change {
	i := cmp.Or(after, before)
	c := Change{Section: i.Section, Key: i.Key, Name: i.Name, Kind: kind, Before: before, After: after}
	version := i.Fields["version"]
	switch one := sections[i.Section].One; {
	case i.Section == Software && kind == Added:
		c.Summary = strings.TrimSpace(fmt.Sprintf("%s %s installed", i.Name, version))
	case i.Section == Software && kind == Removed:
		c.Summary = strings.TrimSpace(fmt.Sprintf("%s %s removed", i.Name, version))
	case i.Section == Software && before.Fields["version"] != version:
		c.Summary = fmt.Sprintf("%s updated from %s to %s", i.Name, before.Fields["version"], version)
	case kind == Changed:
		c.Summary = fmt.Sprintf("%s %s: %s", one, i.Name, differences(before.Fields, after.Fields))
	default:
		c.Summary = fmt.Sprintf("%s %s %s", one, i.Name, kind)
	}
	return c
}

// differences says which fields differ, the first three of them.
func differences(a, b map[string]string) string {
	names := maps.Clone(a)
	maps.Copy(names, b)
	var all []string
	for _, name := range slices.Sorted(maps.Keys(names)) {
		switch before, after := a[name], b[name]; {
		case before == after:
		case before == "":
			all = append(all, fmt.Sprintf("%s is now %s", label(name), brief(after)))
		case after == "":
			all = append(all, fmt.Sprintf("%s is no longer %s", label(name), brief(before)))
		default:
			all = append(all, fmt.Sprintf("%s from %s to %s", label(name), brief(before), brief(after)))
		}
	}
	if len(all) == 0 {
		return "renamed"
	}
	if more := len(all) - 3; more > 0 {
		return strings.Join(all[:3], ", ") + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(all, ", ")
}

func label(field string) string { return strings.ReplaceAll(field, "_", " ") }

func brief(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return s
}
