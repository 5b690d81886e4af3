// Package spool keeps reports on the device's disk until the service has them on its own.
//
// A report is numbered within an epoch, which begins when the spool is opened; the service passes
// over a number it has. So a report that was stored, but whose receipt got lost, is not stored
// twice. Reports of an earlier epoch are sent before those of this one.
package spool

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"github.com/google/uuid"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/device"
)

// Limits of a spool. Beyond them the oldest reports are dropped, and Add says so.
const (
	MaxBytes  = 32 << 20 // on disk, about two weeks at a report every 30 s
	MaxMemory = 240      // reports in memory while the disk takes none: two hours
	maxLine   = 1 << 20
)

// Spool is used by one goroutine that adds and one that sends.
type Spool struct {
	mu     sync.Mutex
	path   string
	epoch  string
	seq    uint64
	size   int64    // of the file
	kept   int      // reports in the file
	memory []record // reports that the disk did not take, newer than all in the file
}

type record struct {
	Epoch string `json:"epoch"`
	link.Report
}

// Open reads what is left in dir from the last time. A line that was not written whole is dropped.
func Open(dir string) (*Spool, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Spool{path: filepath.Join(dir, "reports.jsonl"), epoch: uuid.NewString()}
	size, err := s.repair()
	s.size = size
	return s, err
}

// Len is how many reports are kept.
func (s *Spool) Len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.kept + len(s.memory)
}

// repair cuts a last line that was not written whole.
func (s *Spool) repair() (int64, error) {
	f, err := os.OpenFile(s.path, os.O_RDWR, 0o600)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	defer f.Close()
	var whole int64
	for r := bufio.NewReader(f); ; {
		line, err := r.ReadSlice('\n')
		if err == nil {
			whole += int64(len(line))
			s.kept++
			continue
		}
		if errors.Is(err, bufio.ErrBufferFull) { // a part of a long line; its end decides
			n, err := skipLine(r)
			if err == nil {
				whole += int64(len(line)) + n
				s.kept++
				continue
			}
		}
		break
	}
	return whole, f.Truncate(whole)
}

func skipLine(r *bufio.Reader) (n int64, err error) {
	for {
		part, err := r.ReadSlice('\n')
		n += int64(len(part))
		if !errors.Is(err, bufio.ErrBufferFull) {
			return n, err
		}
	}
}

// Add keeps a report. When the disk does not take it, it is kept in memory and the error says so:
// such a report is sent when the service can be reached, but lost if the agent ends before.
func (s *Spool) Add(v device.Vitals) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.seq++
	r := record{s.epoch, link.Report{Seq: s.seq, Vitals: v}}
	line, err := json.Marshal(r)
	if err != nil {
		s.seq--
		return err
	}
	if len(s.memory) > 0 || s.size+int64(len(line)) > MaxBytes {
		err = errors.New("the spool is full")
	} else {
		err = s.append(append(line, '\n'))
	}
	if err == nil {
		return nil
	}
	if s.memory = append(s.memory, r); len(s.memory) > MaxMemory {
		s.memory = append([]record(nil), s.memory[1:]...)
		return fmt.Errorf("the disk takes no reports (%w): the oldest of %d in memory was dropped", err, MaxMemory)
	}
	return fmt.Errorf("the disk takes no reports (%w): %d are kept in memory", err, len(s.memory))
}

func (s *Spool) append(line []byte) error {
	f, err := os.OpenFile(s.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(line)
	err = errors.Join(err, f.Close())
	if err != nil {
		return errors.Join(err, os.Truncate(s.path, s.size)) // no half line stays before the next
	}
	s.size += int64(len(line))
	s.kept++
	return nil
}

// Next returns the oldest reports of one epoch, at most link.MaxSends; none when there are none.
func (s *Spool) Next() (epoch string, reports []link.Report, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	err = s.each(func(r record, _ []byte) bool {
		if epoch == "" {
			epoch = r.Epoch
		}
		if r.Epoch != epoch || len(reports) == link.MaxSends {
			return false
		}
		reports = append(reports, r.Report)
		return true
	})
	return epoch, reports, err
}

// each calls f for every report, oldest first, until it returns false. A line that cannot be read
// is passed over.
func (s *Spool) each(f func(r record, line []byte) bool) error {
	file, err := os.Open(s.path)
	if err == nil {
		defer file.Close()
		lines := bufio.NewScanner(io.LimitReader(file, s.size))
		lines.Buffer(make([]byte, 0, 4<<10), maxLine)
		for lines.Scan() {
			var r record
			if json.Unmarshal(lines.Bytes(), &r) == nil && r.Seq > 0 && !f(r, lines.Bytes()) {
				return nil
			}
		}
		err = lines.Err()
	} else if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	for _, r := range s.memory {
		if !f(r, nil) {
			break
		}
	}
	return err
}

// Forget drops the reports of an epoch up to a number: the service has them. If what is left
// cannot be written back it is kept in memory, since a report must never be sent as new again.
func (s *Spool) Forget(epoch string, through uint64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var left bytes.Buffer
	var memory, kept []record
	err := s.each(func(r record, line []byte) bool {
		switch {
		case r.Epoch == epoch && r.Seq <= through:
		case line == nil:
			memory = append(memory, r)
		default:
			left.Write(line)
			left.WriteByte('\n')
			kept = append(kept, r)
		}
		return true
	})
	if err != nil {
		return err
	}
	if left.Len() > 0 {
		if err = atomicfile.Write(s.path, left.Bytes(), atomicfile.Soon); err == nil {
			s.memory, s.size, s.kept = memory, int64(left.Len()), len(kept)
			return nil
		}
		memory = append(kept[max(0, len(kept)-MaxMemory):], memory...)
	}
	s.memory, s.size, s.kept = memory, 0, 0
	if gone := os.Remove(s.path); gone != nil && !errors.Is(gone, os.ErrNotExist) {
		return gone
	}
	return err
}
