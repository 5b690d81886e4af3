package demo

import (
	"fmt"
	"hash/fnv"
	"time"

	"moorwatch.example/agent/host/sim"
	"moorwatch.example/demo/fleet"
)

// site is a place of the sample world with its devices.
type site struct {
	organisation, name string
	devices            []fleet.Device
}

const (
	libraries = "Larkmoor Libraries"
	vets      = "Sallowbrook Vets"
	weather   = "Tarnhead Weather Trust"
)

// kioskStops is how long after the demo's start a kiosk's program stops; the book van leaves, and is back
// later, after each start.
const (
	kioskStops  = 45 * time.Second
	vanLeaves   = 10 * time.Second
	vanReturns  = 2*time.Minute + 30*time.Second
	screenLater = 25 * time.Second // when devices have told what they are
	vanAway     = 45 * time.Second // when it has left for certain
)

// routerFails is how long after the demo's start the router of Haywater branch fails.
const routerFails = 25 * time.Second

// world is the sample world: about 120 devices of three organisations. began is when the demo was
// first started, by which its stories run.
func world(began time.Time) []site {
	w := &builder{next: map[string]int{}}
	librarians := []string{"Wren Ashdown", "Tobias Fell", "Ines Marlowe", "Petra Quill", "Hal Brook", "Maud Ferris", "Osric Lane",
		"Juno Thorne"}
	w.site(libraries, "Central Library", "192.0.2.", librarians)
	w.add("cen-desk", sim.Desk, 12)
	w.add("cen-staff", sim.Laptop, 4)
	w.add("cen-mac", sim.Mac, 2)
	w.add("cen-kiosk", sim.Kiosk, 4)
	w.add("cen-catalogue", sim.Server, 1)
	for i, branch := range []struct{ name, code string }{{"Haywater branch", "hay"}, {"Brackenside branch", "bra"},
		{"Millrace branch", "mil"},
		{"Otterford branch", "ott"}, {"Quarry Lane branch", "qua"}, {"Stonebeck branch", "sto"}, {"Withy End branch", "wit"},
		{"Gorsefield branch", "gor"},
		{"Lower Fell branch", "low"}, {"Priory Green branch", "pri"}, {"Eastmere branch", "eas"}} {
		w.site(libraries, branch.name, "192.0.2.", []string{librarians[i%8], librarians[(i+3)%8]})
		w.add(branch.code+"-desk", sim.Desk, 3)
		w.add(branch.code+"-staff", sim.Laptop, 1)
		w.add(branch.code+"-kiosk", sim.Kiosk, 1)
	}
	w.site(libraries, "Book van", "192.0.2.", nil)
	w.add("van-board", sim.Board, 1)
	for _, surgery := range []struct {
		name, code string
		people     []string
	}{{"Sallowbrook surgery", "sal", []string{"Dr Idris Vane", "Nell Harrow", "Bram Otter"}},
		{"Rushey surgery", "rus", []string{"Dr Ada Pike", "Cleo Marsh"}},
		{"Aldercombe surgery", "ald", []string{"Dr Finn Sorrel", "Ottilie Reed"}}} {
		w.site(vets, surgery.name, "198.51.100.", surgery.people)
		w.add(surgery.code+"-reception", sim.Mac, 2)
		w.add(surgery.code+"-consult", sim.Desk, 4)
		if surgery.code == "sal" {
			w.add("sal-xray", sim.Imaging, 1)
			w.add("sal-records", sim.Server, 1)
		}
	}
	w.site(weather, "Valley office", "203.0.113.", []string{"Greta Holm", "Silas Crane"})
	w.add("tarn-office", sim.Mac, 1)
	w.add("tarn-field", sim.Laptop, 2)
	for _, hill := range []string{"ridge", "fell", "moss", "scar", "gill"} {
		w.site(weather, "Hill station "+hill, "203.0.113.", nil)
		w.add("tarn-"+hill, sim.Station, 3)
		w.add("tarn-"+hill+"-board", sim.Board, 1)
	}
	w.stories(began)
	return w.sites
}

// stories are what the demo tells.
func (w *builder) stories(began time.Time) {
	for i := range w.sites {
		for j := range w.sites[i].devices {
			d := &w.sites[i].devices[j]
			switch d.Name {
			case "sal-records": // full in three days
				d.FullAt = began.Add(72 * time.Hour)
				d.Stuck = began.Add(-40 * time.Minute) // and its copying of records hangs
			case "cen-kiosk-2": // full tonight
				d.FullAt = began.Add(9 * time.Hour)
			case "tarn-ridge-3": // overheats at noon, which the demo takes to be soon after its start
				d.HotAt = began.Add(20 * time.Minute)
			case "ott-desk-02":
				d.Busy = 0.92
			case "cen-kiosk-3": // what it shows stops, and is started again by a policy
				d.Stops = began.Add(kioskStops)
			case "van-board": // on its round, until it is back at the library
				d.Leaves, d.Returns = vanLeaves, vanReturns
			case "gor-kiosk": // its plug was pulled for a while
				d.Leaves, d.Returns = routerFails, 90*time.Second
			}
			// A new printer driver reached two desks of three, three days ago, and slows log-on.
			if d.Kind == sim.Desk && d.Seed%3 != 0 {
				d.Driver = began.Add(-3*24*time.Hour + time.Duration(d.Seed%300)*time.Minute)
			}
			if w.sites[i].name == "Haywater branch" { // its router fails
				d.Leaves = routerFails
			}
		}
	}
}

type builder struct {
	sites  []site
	prefix string
	people []string
	next   map[string]int // last number used of an address range
}

func (w *builder) site(organisation, name, prefix string, people []string) {
	w.sites = append(w.sites, site{organisation: organisation, name: name})
	w.prefix, w.people = prefix, people
}

// add adds n devices to the last site: name, or name-1 to name-n; desks are numbered 01 to n.
func (w *builder) add(name string, kind sim.Kind, n int) {
	s := &w.sites[len(w.sites)-1]
	for i := 1; i <= n; i++ {
		own := name
		switch {
		case kind == sim.Desk:
			own = fmt.Sprintf("%s-%02d", name, i)
		case n > 1:
			own = fmt.Sprintf("%s-%d", name, i)
		}
		w.next[w.prefix]++
		seed := fnv.New64a()
		seed.Write([]byte(own))
		d := sim.Device{Name: own, Kind: kind, Seed: seed.Sum64() >> 16, Address: fmt.Sprint(w.prefix, w.next[w.prefix]+9)}
		if kind == sim.Desk || kind == sim.Laptop || kind == sim.Mac || kind == sim.Imaging {
			d.People = w.people
		}
		s.devices = append(s.devices, fleet.Device{Device: d})
	}
}
