package demo

import (
	"context"
	"fmt"
	"strings"
	"time"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/calendar"
	"moorwatch.example/core/health"
)

// settle sets up what Curlew & Sedge would have: groups, policies, a maintenance window, and who is
// told of what.
func (d *demo) settle(ctx context.Context) error {
	sites := map[string]string{}
	limit := 500
	page, err := client.Result(d.client.ListOrganisationsWithResponse(ctx, &api.ListOrganisationsParams{Limit: &limit}))
	if err != nil {
		return err
	}
	for _, o := range page.Items {
		sites[o.Name] = o.ID.String()
	}
	groups := map[string]string{}
	for name, expression := range map[string]string{
		"Public PCs":        `name.contains("-desk-") && os == "windows"`,
		"Servers":           `name.endsWith("-records") || name.endsWith("-catalogue")`,
		"New print driver":  `"Fennick Print Driver" in software && software["Fennick Print Driver"] == "4.2.0"`,
		"Hill stations":     `site.startsWith("Hill station")`,
		"Kiosks":            `name.contains("kiosk")`,
		"Nearly full disks": "disk > 85",
	} {
		g, err := client.Made(d.client.AddGroupWithResponse(ctx, api.NewGroup{Name: name, Expression: &expression, Global: new(true)}))
		if err != nil {
			return err
		}
		groups[name] = g.ID.String()
	}
	work, err := d.libraries(ctx)
	if err != nil {
		return fmt.Errorf("filling the libraries: %w", err)
	}
	number := func(v float64) *float64 { return &v }
	for _, y := range []api.NewPolicy{
		{Name: "Servers", Scope: health.Scope{Kind: health.Group, ID: groups["Servers"]}, Settings: []health.Setting{
			{Check: "service", Subject: "postgresql", Level: health.Critical, EverySeconds: 30, ForSeconds: 60},
			{Check: "log", Subject: "journal", Pattern: "no record copied", Above: &health.Limits{Warning: number(0.05)}, EverySeconds: 30},
			{Check: "latency", Above: &health.Limits{Warning: number(40), Critical: number(200)}, ForSeconds: 300}}},
		{Name: "Hill stations run warm", Scope: health.Scope{Kind: health.Group, ID: groups["Hill stations"]}, Settings: []health.Setting{
			{Check: "temperature", Above: &health.Limits{Warning: number(78), Critical: number(92)},
				Below: &health.Limits{Warning: number(-25)}, Back: 4, ForSeconds: 60},
			{Check: "voltage", Subject: "supply", Below: &health.Limits{Warning: number(11.6), Critical: number(11)}, Back: 0.2,
				ForSeconds: 300}}},
		{Name: "Vets", Scope: health.Scope{Kind: health.Organisation, ID: sites[vets]}, Settings: []health.Setting{
			{Check: "tcp", Subject: "records.sallowbrook.example:443", EverySeconds: 60, ForSeconds: 120}}},
	} {
		if _, err := client.Made(d.client.AddPolicyWithResponse(ctx, y)); err != nil {
			return err
		}
	}
	for _, y := range work.policies(groups) {
		if _, err := client.Made(d.client.AddPolicyWithResponse(ctx, y)); err != nil {
			return err
		}
	}
	// A demo that begins within its own window would tell none of its stories: alerts are held back there.
	night, day := "Sunday", "SU"
	if begins := d.Began.Weekday(); begins == time.Sunday || begins == time.Monday {
		night, day = "Wednesday", "WE"
	}
	if _, err := client.Made(d.client.AddWindowWithResponse(ctx,
		api.NewWindow{Name: "Libraries, " + night + " night", Scope: health.Scope{Kind: health.Organisation, ID: sites[libraries]},
			Span: calendar.Window{Start: d.Began.Format("2006-01-02") + "T22:00", Rule: "FREQ=WEEKLY;BYDAY=" + day,
				Minutes: 240}})); err != nil {
		return err
	}
	if err := d.approvals(ctx); err != nil {
		return fmt.Errorf("approving updates: %w", err)
	}
	if err := d.advisories(ctx); err != nil {
		return fmt.Errorf("importing advisories: %w", err)
	}
	if err := d.reports(ctx, sites[libraries]); err != nil {
		return fmt.Errorf("scheduling a report: %w", err)
	}
	duty, err := client.Made(d.client.AddChannelWithResponse(ctx,
		api.NewChannel{Name: "Duty", Kind: "email", Target: "duty@curlew-sedge.example"}))
	if err != nil {
		return err
	}
	lead, err := client.Made(d.client.AddChannelWithResponse(ctx, api.NewChannel{Name: "Lead", Kind: "email", Target: user}))
	if err != nil {
		return err
	}
	everywhere := health.Scope{Kind: health.Everywhere}
	for _, r := range []health.Rule{
		{Name: "Duty is told of warnings", Scope: everywhere, Least: health.Warning, Ends: true, Channel: duty.ID.String(),
			Checks: []string{"silent", "disk", "disk-days", "memory", "temperature", "voltage", "service", "tcp"}, EscalateMinutes: 30,
			EscalateTo: lead.ID.String()},
		{Name: "Slow log-ons, gathered", Scope: everywhere, Least: health.Warning, Checks: []string{"log-on"}, Channel: lead.ID.String(),
			DigestMinutes: 1},
	} {
		if _, err := client.Made(d.client.AddRuleWithResponse(ctx, r)); err != nil {
			return err
		}
	}
	// The libraries' screens are public and are seen on the wall; the vets' stay blurred.
	if _, err := client.Made(d.client.AddConsentRuleWithResponse(ctx,
		api.NewConsentRule{Scope: health.Scope{Kind: health.Organisation, ID: sites[libraries]}, Tool: new("wall"),
			Mode: "silent"})); err != nil {
		return err
	}
	if err := d.colleagues(ctx, sites); err != nil {
		return err
	}
	return work.begin(ctx)
}

// colleagues adds who else works with the console, with what they may do where. Their set-up links
// are not used.
func (d *demo) colleagues(ctx context.Context, organisations map[string]string) error {
	about := "Keeps things running overnight: restarts services and processes, and hands the rest on."
	if _, err := client.Result(d.client.SetRoleWithResponse(ctx, "night-desk", api.NewRole{About: &about,
		Permissions: []access.Permission{access.AlertHandle, access.Of("services", access.Act), access.Of("processes", access.Act),
			access.Of("events", access.See)}})); err != nil {
		return err
	}
	at := func(organisation string) health.Scope {
		return health.Scope{Kind: health.Organisation, ID: organisations[organisation]}
	}
	everywhere := health.Scope{Kind: health.Everywhere}
	for name, grants := range map[string]api.Grants{
		"Ines Alder":   {{Role: access.Technician, Scope: everywhere}},
		"Odo Brack":    {{Role: access.Technician, Scope: at("Larkmoor Libraries")}, {Role: access.Viewer, Scope: at("Sallowbrook Vets")}},
		"Maren Tussok": {{Role: "night-desk", Scope: everywhere}},
		"Jory Fennel":  {{Role: access.Viewer, Scope: at("Tarnhead Weather Trust")}},
	} {
		first, _, _ := strings.Cut(strings.ToLower(name), " ")
		if _, err := client.Made(d.client.AddPersonWithResponse(ctx,
			api.NewPerson{Name: name, Email: first + "@curlew-sedge.example", Grants: grants})); err != nil {
			return err
		}
	}
	return nil
}
