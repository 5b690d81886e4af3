package release

import "testing"

// FuzzReadEnrolment reads a file that somebody put beside an installer.
func FuzzReadEnrolment(f *testing.F) {
	f.Add([]byte(`{"service":"https://moor.example","token":"x"}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		if e, err := ReadEnrolment(text); err == nil && (e.Service == "" || e.Token == "") {
			t.Errorf("%+v is taken", e)
		}
	})
}
