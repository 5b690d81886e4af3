//go:build linux

package linux_test

import (
	"testing"
	"time"

	"moorwatch.example/agent/host/linux"
	"moorwatch.example/core/device"
)

// As journalctl prints it, of a service that was killed by a signal, one that was stopped, a program of a person
// that left a core file, and of the kernel's notes of both.
const journalled = `{"__REALTIME_TIMESTAMP":"1795000000000000","MESSAGE_ID":"98e322203f7a4ed290d09fe03c09fe15","UNIT":"records.service","EXIT_CODE":"killed","EXIT_STATUS":"SEGV","MESSAGE":"records.service: Main process exited, code=killed, status=11/SEGV"}
{"__REALTIME_TIMESTAMP":"1795000001000000","MESSAGE_ID":"98e322203f7a4ed290d09fe03c09fe15","UNIT":"cron.service","EXIT_CODE":"killed","EXIT_STATUS":"TERM","MESSAGE":"cron.service: Main process exited"}
{"__REALTIME_TIMESTAMP":"1795000002000000","MESSAGE_ID":"98e322203f7a4ed290d09fe03c09fe15","UNIT":"sync.service","EXIT_CODE":"exited","EXIT_STATUS":"1"}
{"__REALTIME_TIMESTAMP":"1795000100000000","MESSAGE_ID":"fc2e22bc6ee647b6b90729ab34a250b1","COREDUMP_COMM":"catalogue-scree","MESSAGE":"Process 812 (catalogue-scree) of user 1000 dumped core."}
{"__REALTIME_TIMESTAMP":"1795000099000000","_TRANSPORT":"kernel","MESSAGE":"catalogue-screen[812]: segfault at 0 ip 000055d0 sp 00007ffd error 4 in catalogue-screen[55d0+1000]"}
{"__REALTIME_TIMESTAMP":"1795000300000000","_TRANSPORT":"kernel","MESSAGE":"traps: viewer[900] trap invalid opcode ip:55aa sp:7ffe error:0 in viewer"}
{"__REALTIME_TIMESTAMP":"x","MESSAGE":"viewer[900]: segfault at"}
{"MESSAGE":[1,2,3]}
no JSON
`

func TestCrashes(t *testing.T) {
	got := linux.MergeCrashes(linux.Crashes([]byte(journalled)))
	want := []device.Crash{{Program: "records", At: time.Unix(1795000000, 0)}, {Program: "catalogue-screen", At: time.Unix(1795000099, 0)},
		{Program: "viewer", At: time.Unix(1795000300, 0)}}
	if len(got) != len(want) {
		t.Fatalf("crashes are %+v", got)
	}
	for i, c := range got {
		if c.Program != want[i].Program || !c.At.Equal(want[i].At) {
			t.Errorf("the crash is %+v, want %+v", c, want[i])
		}
	}
}
