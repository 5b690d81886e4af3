package demo

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/response"
	"moorwatch.example/core/work"
)

// brought are the files that the sample packages bring.
//
//go:embed brought
var brought embed.FS

// library is what stands in the sample world's libraries, by name.
type library struct {
	client   *client.Client
	packages map[string]uuid.UUID
	scripts  map[string]uuid.UUID
}

// libraries fills the library of packages.
func (d *demo) libraries(ctx context.Context) (*library, error) {
	l := &library{client: d.client, packages: map[string]uuid.UUID{}, scripts: map[string]uuid.UUID{}}
	dir, err := os.MkdirTemp("", "moorwatch-demo-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	files := map[string]pack.File{}
	entries, err := fs.ReadDir(brought, "brought")
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		text, err := brought.ReadFile(path.Join("brought", e.Name()))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, e.Name()), text, 0o600)
		}
		if err != nil {
			return nil, err
		}
		if files[e.Name()], err = d.client.StoreContent(ctx, filepath.Join(dir, e.Name()), nil); err != nil {
			return nil, fmt.Errorf("storing %s: %w", e.Name(), err)
		}
	}
	for _, p := range []pack.Package{
		{Name: "Catalogue Fonts", Version: "1.4", Description: "The typefaces in which the catalogue is shown, with old shelf marks.",
			Systems: []string{"linux"},
			Files:   []pack.File{files["catalogue-fonts_1.4_all.deb"]},
			There:   pack.There{Condition: work.Condition{Kind: work.OfSoftware, Of: "catalogue-fonts"}},
			Install: []work.Step{{Do: work.Install, File: "catalogue-fonts_1.4_all.deb", OnError: work.OnUndo}},
			Remove:  []work.Step{{Do: work.Uninstall, Name: "catalogue-fonts"}}},
		{Name: "Catalogue Screen settings", Version: "3",
			Description: "How the kiosks show the catalogue: large type, back to the first page after two minutes.",
			Systems:     []string{"linux"}, Needs: []string{"Catalogue Fonts"},
			Files: []pack.File{files["screen.conf"]}, There: pack.There{Condition: work.Condition{Kind: work.OfFile,
				Of: "/etc/catalogue/screen.conf"}, Pattern: `(?m)^version=(\S+)`},
			Install: []work.Step{{Do: work.Copy, File: "screen.conf", To: "/etc/catalogue/screen.conf", OnError: work.OnUndo},
				{Do: work.Service, Name: "catalogue-screen.service", Action: "restart", OnError: work.OnUndo},
				{Do: work.Wait, Seconds: 30, If: []work.Condition{{Kind: work.OfService, Of: "catalogue-screen.service"}},
					OnError: work.OnUndo}},
			Remove: []work.Step{{Do: work.Delete, Path: "/etc/catalogue/screen.conf"},
				{Do: work.Service, Name: "catalogue-screen.service", Action: "restart", OnError: work.OnContinue}}},
		{Name: "Van route", Version: "2026.48", Description: "Where the book van stops, week 48.", Systems: []string{"linux"},
			Files: []pack.File{files["route.txt"]}, There: pack.There{Condition: work.Condition{Kind: work.OfFile,
				Of: "/srv/van/route.txt"}, Pattern: `^Week (\S+)`},
			Install: []work.Step{{Do: work.Copy, File: "route.txt", To: "/srv/van/route.txt"},
				{Do: work.Service, Name: "position.service", Action: "restart"}}},
	} {
		file, err := p.File()
		if err != nil {
			return nil, err
		}
		made, err := client.Made(d.client.AddPackageWithResponse(ctx, api.NewPackage{File: string(file)}))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		l.packages[p.Name] = made.ID
	}
	page, err := client.Result(d.client.ListScriptsWithResponse(ctx, &api.ListScriptsParams{Limit: new(500)}))
	if err != nil {
		return nil, err
	}
	for _, s := range page.Items {
		l.scripts[s.Content.Name] = s.ID
	}
	return l, nil
}

// policies are those that put things right by themselves.
func (l *library) policies(groups map[string]string) []api.NewPolicy {
	return []api.NewPolicy{
		{Name: "Kiosks", Scope: health.Scope{Kind: health.Group, ID: groups["Kiosks"]},
			Settings: []health.Setting{{Check: health.CheckService, Subject: "catalogue-screen.service", Level: health.Critical,
				EverySeconds: 10},
				{Check: health.CheckSoftware, Subject: "catalogue-fonts", Value: "1.4", Fix: l.packages["Catalogue Fonts"].String(),
					Level: health.Notice}},
			Responses: &[]response.Response{{Name: "Bring the catalogue back", Check: health.CheckService, Subject: "catalogue-screen*",
				Steps: []response.Step{{Do: response.RestartService, Watch: 60},
					{Do: response.RestartDevice, Windows: true, Watch: 600}},
				Attempts: 3, Hours: 24}}},
		{Name: "Servers, settings", Scope: health.Scope{Kind: health.Group, ID: groups["Servers"]},
			Settings: []health.Setting{{Check: health.CheckSetting, Subject: "kernel/vm/swappiness", Value: "10", Fix: health.Self,
				Level: health.Notice}}},
		{Name: "Hill stations save power", Scope: health.Scope{Kind: health.Group, ID: groups["Hill stations"]},
			Agent: &health.Agent{Withhold: []string{"screen"}},
			Settings: []health.Setting{{Check: health.CheckSetting, Subject: "power/governor", Value: "powersave", Fix: health.Self,
				Level: health.Notice}}},
	}
}

// begin begins the jobs of the sample world: one that waits for the van, and one that recurs.
func (l *library) begin(ctx context.Context) error {
	later := time.Now().Add(vanAway)
	van, name := l.packages["Van route"], "The van's route of this week"
	if _, err := client.Made(l.client.AddJobWithResponse(ctx,
		api.NewJob{Package: &van, Name: &name, Where: new(`name == "van-board"`), BeginAt: &later,
			Limits: &job.Limits{WaitHours: 72}})); err != nil {
		return fmt.Errorf("beginning the job of the van: %w", err)
	}
	screen := l.packages["Catalogue Screen settings"]
	if _, err := client.Made(l.client.AddJobWithResponse(ctx,
		api.NewJob{Package: &screen, Where: new(`name.contains("kiosk")`), BeginAt: new(time.Now().Add(screenLater)),
			Limits: &job.Limits{AtOnce: 4, StopShare: 30, WaitHours: 48}})); err != nil {
		return fmt.Errorf("beginning the job of the kiosks: %w", err)
	}
	clocks := l.scripts["Is the clock right?"]
	if _, err := client.Made(l.client.AddJobWithResponse(ctx,
		api.NewJob{Script: &clocks, Where: new(`site.startsWith("Hill station")`), BeginAt: new(time.Now().Add(screenLater)),
			Limits: &job.Limits{WaitHours: 24}})); err != nil {
		return fmt.Errorf("beginning the job of the stations: %w", err)
	}
	nightly, title := l.scripts["Services that failed"], "Services that failed, each night"
	if _, err := client.Made(l.client.AddJobWithResponse(ctx, api.NewJob{Script: &nightly, Name: &title, Where: new(`os == "linux"`),
		When:   &job.When{Rule: "FREQ=DAILY", Start: time.Now().Format("2006-01-02") + "T02:30"},
		Limits: &job.Limits{WaitHours: 6, Spread: 600}})); err != nil {
		return fmt.Errorf("beginning the nightly job: %w", err)
	}
	return nil
}
