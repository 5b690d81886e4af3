package job_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"moorwatch.example/core/job"
)

// Whatever devices and people do, in whatever order: a device has one run at a time, limits hold, what is over stays
// over, and all ends once everybody is back.
func FuzzSchedule(f *testing.F) {
	f.Add([]byte("\x00\x01\x02\x03\x04\x05\x06\x07\x08\x09"))
	f.Add([]byte(strings.Repeat("\x0a\x03\x1f\x04\x2b", 40)))
	f.Add([]byte(strings.Repeat("\x05\x10\x06\x20\x07\x30\x00\x09", 30)))
	f.Fuzz(func(t *testing.T, script []byte) {
		if len(script) > 2000 {
			return
		}
		const devices, atOnce = 6, 3
		a := begin(t, devices)
		var jobs []*job.Job
		for i := range 3 {
			jobs = append(jobs, a.job(fmt.Sprint("job ", i), func(j *job.Job) { j.Limits.AtOnce, j.Limits.WaitHours = atOnce, 24*(i+1) }))
		}
		over := map[job.ID]job.State{}
		var seen []*job.Run
		for _, d := range a.devices {
			seen = append(seen, a.At(d.ID)...)
		}
		slices.SortFunc(seen, func(x, y *job.Run) int { return int(x.ID[15]) - int(y.ID[15]) })
		check := func(step string) {
			t.Helper()
			sentAt, sentOf := map[job.ID]int{}, map[*job.Job]int{}
			for _, r := range seen {
				if was, ok := over[r.ID]; ok && r.State != was {
					t.Fatalf("%s: a run that was %s is %s", step, was, r.State)
				}
				if r.State.Over() {
					over[r.ID] = r.State
				}
				if r.State == job.Sent {
					sentAt[r.Device]++
					sentOf[r.Job]++
				}
			}
			for d, n := range sentAt {
				if n > 1 {
					t.Fatalf("%s: %d runs at once at %s", step, n, a.known[d].Name)
				}
			}
			for j, n := range sentOf {
				if n > atOnce {
					t.Fatalf("%s: %d runs of %s at once", step, n, j.Name)
				}
			}
		}
		put := func(e *job.End) {
			if e != nil {
				a.Schedule.End(*e)
			}
		}
		poll := func(recorded bool, answer func(*job.Run) job.Answer) {
			orders := a.Poll(a.now)
			if !recorded {
				a.Unsent(orders.Begin)
				orders.Begin = nil
			}
			a.Sent(orders.Begin, a.now)
			check("sent")
			for _, r := range append(orders.Begin, orders.Ask...) {
				put(a.hears(r, answer(r)))
			}
			for _, e := range orders.End {
				put(&e)
			}
		}
		answers := []func(r *job.Run) job.Answer{
			func(*job.Run) job.Answer { return job.Answer{Begun: true} },
			func(*job.Run) job.Answer { return job.Answer{Lost: true} },
			func(*job.Run) job.Answer { return job.Answer{Refused: "no"} },
			func(*job.Run) job.Answer { return job.Answer{Journal: "new"} },
			func(r *job.Run) job.Answer {
				return job.Answer{End: &job.End{Run: r.ID, Device: r.Device, State: job.Succeeded}}
			},
		}
		for i, b := range script {
			what, which := b%10, int(b/10)
			d, j, r := a.devices[which%devices], jobs[which%len(jobs)], seen[which%len(seen)]
			switch what {
			case 0:
				a.hangUp(d.ID)
			case 1:
				a.connect(d.ID)
			case 2:
				poll(true, answers[which%len(answers)])
			case 3:
				poll(false, answers[0])
			case 4:
				a.now = a.now.Add(time.Duration(1+which) * time.Minute)
			case 5:
				if r.State == job.Sent {
					a.ends(r, job.Failed)
				}
			case 6, 7, 8:
				to := []job.JobState{job.JobPaused, job.JobRunning, job.JobCancelled}[what-6]
				if ends, _, err := a.Steer(j.ID, to, a.now); err == nil {
					for _, e := range ends {
						put(&e)
					}
				}
			case 9:
				a.settled()
			}
			check(fmt.Sprint("step ", i))
		}
		// Everybody comes back, and all is done.
		for _, d := range a.devices {
			a.connect(d.ID)
		}
		for _, j := range jobs {
			a.Steer(j.ID, job.JobRunning, a.now)
		}
		for range 40 {
			a.now = a.now.Add(time.Minute)
			poll(true, answers[4])
			a.settled()
		}
		for _, j := range jobs {
			if a.Job(j.ID) != nil {
				all, done, away := a.Progress(j, a.now)
				t.Errorf("%s is %s: %d of %d over, %d away", j.Name, j.State, done, all, away)
			}
		}
		for id := range maps.Keys(a.known) {
			if left := a.At(id); len(left) > 0 {
				t.Errorf("%d runs are left at %s", len(left), a.known[id].Name)
			}
		}
	})
}
