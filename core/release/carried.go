package release

import (
	"encoding/binary"
	"errors"
	"io"
)

// A program may carry an enrolment file behind its end, so that one file installs an agent at one site: the
// file, its length as eight bytes with the least first, and carriedMark. Systems run a program whatever stands
// behind its end.
const carriedMark = "moorwatch enrol\n"

// MaxCarried is the most that is carried, in bytes.
const MaxCarried = 64 << 10

// Carry is what has to be written behind a program.
func Carry(enrolment []byte) ([]byte, error) {
	if len(enrolment) == 0 || len(enrolment) > MaxCarried {
		return nil, errors.New("a program carries no such enrolment file")
	}
	b := append([]byte(nil), enrolment...)
	b = binary.LittleEndian.AppendUint64(b, uint64(len(enrolment)))
	return append(b, carriedMark...), nil
}

// Carried returns what a program of size bytes carries, nil where it is nothing, and how many bytes are the program
// itself.
func Carried(r io.ReaderAt, size int64) (enrolment []byte, program int64, err error) {
	tail := make([]byte, 8+len(carriedMark))
	if size < int64(len(tail)) {
		return nil, size, nil
	}
	if _, err := r.ReadAt(tail, size-int64(len(tail))); err != nil {
		return nil, size, err
	}
	if string(tail[8:]) != carriedMark {
		return nil, size, nil
	}
	n := binary.LittleEndian.Uint64(tail)
	if n == 0 || n > MaxCarried || int64(n) > size-int64(len(tail)) {
		return nil, size, errors.New("what the program carries is damaged: get it again")
	}
	enrolment = make([]byte, n)
	program = size - int64(len(tail)) - int64(n)
	_, err = r.ReadAt(enrolment, program)
	return enrolment, program, err
}
