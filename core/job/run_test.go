package job_test

import (
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/core/device"
	"moorwatch.example/core/job"
	"moorwatch.example/core/pack"
	"moorwatch.example/core/script"
	"moorwatch.example/core/selector"
)

// A device that is connected and has not told yet what it offers is waited for: a job that was begun
// just then was over at once.
func TestRunsOfDevicesThatToldNothingYet(t *testing.T) {
	bash := job.Work{Action: job.RunIt, Script: &script.Script{Interpreter: "bash", Systems: []string{"linux"}}}
	install := job.Work{Action: job.Install, Parts: []pack.Part{{}}}
	for name, c := range map[string]struct {
		work   job.Work
		device selector.Subject
		want   job.State
	}{
		"just connected":       {bash, selector.Subject{Online: true}, job.Waiting},
		"its system is known":  {bash, selector.Subject{Online: true, OS: "linux"}, job.Waiting},
		"another system":       {bash, selector.Subject{Online: true, OS: "windows"}, job.Unfit},
		"another system, away": {bash, selector.Subject{OS: "windows"}, job.Unfit},
		"offers it": {bash, selector.Subject{Online: true, OS: "linux", Capabilities: []string{device.CapabilityCommands}},
			job.Waiting},
		"offers something else": {bash, selector.Subject{Online: true, OS: "linux", Capabilities: []string{device.CapabilityPackages}},
			job.Unfit},
		"offered something else": {bash, selector.Subject{OS: "linux", Capabilities: []string{device.CapabilityPackages}}, job.Waiting},
		"installs no packages": {install, selector.Subject{Online: true, OS: "linux", Capabilities: []string{device.CapabilityCommands}},
			job.Unfit},
		"connected, for packages": {install, selector.Subject{Online: true}, job.Waiting},
	} {
		due := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
		runs := job.RunsFor(c.work, []job.Device{{ID: uuid.New(), Subject: &c.device}}, "", due, due, uuid.New)
		if len(runs) != 1 || runs[0].State != c.want {
			t.Errorf("%s: %s, %s", name, runs[0].State, runs[0].Reason)
		}
	}
}
