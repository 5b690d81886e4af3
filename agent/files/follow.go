package files

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"regexp"
	"time"

	"moorwatch.example/contract/link"
)

// followEvery is how often a followed file is looked at. What came since is sent at once.
const followEvery = 200 * time.Millisecond

// longLine is the most of a line that is sent, in bytes; the rest of it is cut.
const longLine = 8 << 10

// Follow sends the last lines of a file and then those that are added, until ctx ends. A file that
// is replaced or cut, as logs are when they are rotated, is read on from its new beginning.
func (f *Files) Follow(ctx context.Context, q link.Follow, send func(link.Lines) error) error {
	var filter *regexp.Regexp
	if q.Filter != "" {
		var err error
		if filter, err = regexp.Compile(q.Filter); err != nil {
			return refuse(http.StatusBadRequest, "The filter cannot be read: %v.", err)
		}
	}
	file, info, err := f.open(q.Path)
	if err != nil {
		return err
	}
	defer func() { file.Close() }()
	if err := seekLines(file, info.Size(), min(max(q.Back, 0), 10_000)); err != nil {
		return explain(q.Path, err)
	}
	tail := &tail{filter: filter, send: send}
	if err := tail.read(ctx, file); err != nil {
		return err
	}
	if err := send(link.Lines{}); err != nil { // what was there is complete
		return err
	}
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		if err := tail.read(ctx, file); err != nil {
			return err
		}
		at, err := file.Seek(0, io.SeekCurrent)
		if err != nil {
			return explain(q.Path, err)
		}
		now, err := os.Stat(file.Name())
		switch {
		case err != nil:
			continue // between two names, or gone: it may come again
		case !os.SameFile(info, now):
			next, nextInfo, err := f.open(q.Path)
			if err != nil {
				continue
			}
			file.Close()
			file, info = next, nextInfo
		case now.Size() < at:
			if _, err := file.Seek(0, io.SeekStart); err != nil {
				return explain(q.Path, err)
			}
		default:
			continue
		}
		tail.rest = tail.rest[:0]
		if err := send(link.Lines{Note: "The file began anew."}); err != nil {
			return err
		}
	}
}

// seekLines goes to where the last n lines begin, within the last 4 MiB.
func seekLines(file *os.File, size int64, n int) error {
	const most = 4 << 20
	b := make([]byte, 64<<10)
	at, seen := size, 0
	for at > 0 && size-at < most {
		k := min(int64(len(b)), at)
		if _, err := file.ReadAt(b[:k], at-k); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		for i := int(k) - 1; i >= 0; i-- {
			if b[i] != '\n' || at-k+int64(i) == size-1 {
				continue
			}
			if seen++; seen >= n {
				_, err := file.Seek(at-k+int64(i)+1, io.SeekStart)
				return err
			}
		}
		at -= k
	}
	if n == 0 {
		at = size
	}
	_, err := file.Seek(at, io.SeekStart)
	return err
}

// tail cuts what is added to a file into lines.
type tail struct {
	filter *regexp.Regexp
	send   func(link.Lines) error
	rest   []byte // of a line that is not at its end
	pace   Pace
}

func (t *tail) read(ctx context.Context, file *os.File) error {
	r := bufio.NewReaderSize(file, 64<<10)
	var out link.Lines
	for {
		piece, err := r.ReadSlice('\n')
		if len(t.rest)+len(piece) <= longLine {
			t.rest = append(t.rest, piece...)
		} else if len(t.rest) < longLine {
			t.rest = append(t.rest, piece[:longLine-len(t.rest)]...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case errors.Is(err, io.EOF):
			if len(out.Lines) > 0 || out.Skipped > 0 {
				return t.send(out)
			}
			return nil
		case err != nil:
			return explain(file.Name(), err)
		}
		line := bytes.TrimRight(t.rest, "\r\n")
		if t.filter == nil || t.filter.Match(line) {
			if t.pace.Room() {
				text, _, ok := decode(line)
				if !ok {
					text = string(bytes.ToValidUTF8(bytes.ReplaceAll(line, []byte{0}, []byte("␀")), []byte("�")))
				}
				out.Lines = append(out.Lines, text)
			} else {
				out.Skipped++
			}
		}
		t.rest = t.rest[:0]
		if len(out.Lines) >= 500 {
			if err := t.send(out); err != nil || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			out = link.Lines{}
		}
	}
}

// Pace bounds what is sent on while something is followed: link.MaxFollowed lines a second.
type Pace struct {
	second time.Time // of which sent counts the lines
	sent   int
}

// Room tells whether one more line may be sent this second.
func (p *Pace) Room() bool {
	if now := time.Now(); now.Sub(p.second) > time.Second {
		p.second, p.sent = now, 0
	}
	p.sent++
	return p.sent <= link.MaxFollowed
}
