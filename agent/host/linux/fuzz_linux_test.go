package linux

import "testing"

// FuzzCrashes reads what the journal tells of crashes, whose names people at the device choose.
func FuzzCrashes(f *testing.F) {
	f.Add([]byte(`{"COREDUMP_COMM":"x","COREDUMP_SIGNAL_NAME":"SIGSEGV","__REALTIME_TIMESTAMP":"1700000000000000"}` + "\n"))
	f.Add([]byte(`{"COREDUMP_COMM":[1,2,3],"__REALTIME_TIMESTAMP":-1}`))
	f.Fuzz(func(t *testing.T, out []byte) {
		all := Crashes(out)
		if merged := MergeCrashes(all); len(merged) > len(all) {
			t.Errorf("%d crashes became %d", len(all), len(merged))
		}
	})
}
