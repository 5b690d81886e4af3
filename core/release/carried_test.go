package release

import (
	"bytes"
	"testing"
)

func FuzzCarried(f *testing.F) {
	f.Add([]byte("a program"), []byte(`{"token":"t"}`))
	f.Add([]byte{}, bytes.Repeat([]byte("x"), MaxCarried+1))
	f.Fuzz(func(t *testing.T, program, enrolment []byte) {
		behind, err := Carry(enrolment)
		if (len(enrolment) == 0 || len(enrolment) > MaxCarried) != (err != nil) {
			t.Fatalf("%d bytes: %v", len(enrolment), err)
		}
		if err != nil {
			return
		}
		whole := append(bytes.Clone(program), behind...)
		got, n, err := Carried(bytes.NewReader(whole), int64(len(whole)))
		if err != nil || !bytes.Equal(got, enrolment) || n != int64(len(program)) {
			t.Fatalf("%q, %d, %v", got, n, err)
		}
		Carried(bytes.NewReader(program), int64(len(program))) // whatever it is
		cut := whole[1:]
		if got, n, err := Carried(bytes.NewReader(cut), int64(len(cut))); len(program) == 0 && err == nil && got != nil && n < 0 {
			t.Fatalf("a damaged one carries %q from %d on", got, n)
		}
	})
}
