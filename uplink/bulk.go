package uplink

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"
)

// Bulk is the protocol, by HTTP's Upgrade (RFC 9110, 7.8), in which a stream carries bytes one way
// and acknowledgements the other. The sender writes pieces, each its length as four bytes, most
// significant first, and then its bytes; a length of 0 ends them, followed by a digest of 32
// bytes, and a length of 0xFFFFFFFF fails them, followed by two bytes of length and the reason.
// The receiver writes, after each piece that it has taken, how many bytes it has taken in all, as
// eight bytes, and one more than that once it is content with the digest; 0xFFFFFFFFFFFFFFFF and a
// reason say that it will take no more.
const Bulk = "moorwatch-bulk/1"

const (
	bulkPiece  = 256 << 10 // the most that a piece may hold
	bulkFailed = ^uint32(0)
	bulkRefuse = ^uint64(0)
	bulkReason = 1000 // bytes of a reason
	digestSize = 32
	// readAtLeast is how much of a piece is waited for: TLS gives a reader no more than 16 KiB at once.
	readAtLeast = 64 << 10
)

// Stopped is why the other end of a bulk transfer gave up.
type Stopped struct{ Reason string }

func (s *Stopped) Error() string { return s.Reason }

// AcceptBulk answers a request for Bulk, and returns its stream. What was to be said as an HTTP
// error must have been said before.
func AcceptBulk(w http.ResponseWriter, r *http.Request) (io.ReadWriteCloser, error) {
	if r.Header.Get("Upgrade") != Bulk {
		http.Error(w, "this path speaks "+Bulk, http.StatusUpgradeRequired)
		return nil, errors.New("no upgrade was asked for")
	}
	c, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return nil, err
	}
	head := "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: " + Bulk + "\r\n"
	for name := range w.Header() {
		head += name + ": " + w.Header().Get(name) + "\r\n"
	}
	if _, err := io.WriteString(c, head+"\r\n"); err != nil {
		c.Close()
		return nil, err
	}
	return struct {
		io.Reader
		io.WriteCloser
	}{buffered.Reader, c}, c.SetDeadline(time.Time{})
}

// AskBulk asks for Bulk with a request, and returns the stream, or the answer where that is
// another.
func AskBulk(t http.RoundTripper, r *http.Request) (io.ReadWriteCloser, *http.Response, error) {
	r.Header.Set("Connection", "Upgrade")
	r.Header.Set("Upgrade", Bulk)
	answer, err := t.RoundTrip(r)
	if err != nil {
		return nil, nil, err
	}
	if answer.StatusCode != http.StatusSwitchingProtocols {
		return nil, answer, nil
	}
	return answer.Body.(io.ReadWriteCloser), answer, nil
}

// sent is a piece that awaits its acknowledgement.
type sent struct {
	through uint64
	n       int
	at      time.Time
}

// SendBulk sends what r gives until its end, then the digest that digest gives, and returns how
// many bytes the receiver took. It waits until the receiver is content with all of it. When ctx
// ends, or r fails, the receiver is told so; a receiver that gives up is a *Stopped. It closes the
// stream.
func SendBulk(ctx context.Context, stream io.ReadWriteCloser, gate *Gate, r io.Reader, digest func() []byte) (int64, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	s := &bulkSender{stream: stream, gate: gate, all: make(chan struct{})}
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	defer stream.Close()
	var acks sync.WaitGroup
	acks.Go(func() { cancel(s.acknowledged()) })
	err := s.send(ctx, r, digest)
	if err == nil {
		select {
		case <-s.all:
		case <-ctx.Done():
			err = context.Cause(ctx)
		}
	}
	if cause := context.Cause(ctx); err != nil && cause != nil {
		err = cause // why the stream was closed says more than that it was
	}
	if s.finished() {
		err = nil
	}
	stream.Close()
	acks.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.under {
		gate.lost(p.n)
	}
	return int64(s.taken), err
}

type bulkSender struct {
	stream io.ReadWriteCloser
	gate   *Gate

	mu      sync.Mutex
	under   []sent
	taken   uint64
	through uint64        // what was sent
	ended   bool          // the digest was sent
	all     chan struct{} // closed when the receiver is content
}

func (s *bulkSender) send(ctx context.Context, r io.Reader, digest func() []byte) error {
	b := make([]byte, 4+bulkPiece)
	for {
		room, err := s.gate.enter(ctx, bulkPiece)
		if err != nil {
			return err
		}
		n, err := io.ReadAtLeast(r, b[4:4+room], min(room, readAtLeast))
		if n < room {
			s.gate.spare(room - n)
		}
		if n > 0 {
			s.mu.Lock()
			s.through += uint64(n)
			s.under = append(s.under, sent{s.through, n, time.Now()})
			s.mu.Unlock()
			binary.BigEndian.PutUint32(b, uint32(n))
			if _, err := s.stream.Write(b[:4+n]); err != nil {
				return err
			}
		}
		switch {
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			s.mu.Lock()
			s.ended = true
			s.mu.Unlock()
			_, err = s.stream.Write(append(make([]byte, 4, 4+digestSize), fill(digest(), digestSize)...))
			return err
		case err != nil:
			s.stream.Write(appendReason(binary.BigEndian.AppendUint32(b[:0], bulkFailed), err))
			return err
		}
	}
}

func fill(b []byte, n int) []byte { return append(b, make([]byte, max(0, n-len(b)))...)[:n] }

// acknowledged reads what the receiver takes, until the stream ends, and returns why.
func (s *bulkSender) acknowledged() error {
	r := bufio.NewReaderSize(s.stream, 256)
	for {
		var b [8]byte
		if _, err := io.ReadFull(r, b[:]); err != nil {
			return fmt.Errorf("the connection was lost: %w", err)
		}
		through := binary.BigEndian.Uint64(b[:])
		if through == bulkRefuse {
			reason, err := readReason(r)
			if err != nil {
				return err
			}
			return &Stopped{reason}
		}
		now := time.Now()
		s.mu.Lock()
		content := s.ended && through == s.through+1
		s.taken = max(s.taken, min(through, s.through))
		k := 0
		for ; k < len(s.under) && s.under[k].through <= through; k++ {
			s.gate.done(s.under[k].n, now.Sub(s.under[k].at))
		}
		s.under = s.under[:copy(s.under, s.under[k:])]
		s.mu.Unlock()
		if content {
			close(s.all)
			return nil
		}
	}
}

func (s *bulkSender) finished() bool {
	select {
	case <-s.all:
		return true
	default:
		return false
	}
}

func readReason(r io.Reader) (string, error) {
	var size [2]byte
	if _, err := io.ReadFull(r, size[:]); err != nil {
		return "", err
	}
	reason := make([]byte, min(int(binary.BigEndian.Uint16(size[:])), bulkReason))
	_, err := io.ReadFull(r, reason)
	return string(reason), err
}

// ReceiveBulk writes what comes on the stream to w, acknowledging each piece that w took, and
// returns how many bytes it took. In the end it asks content whether the sender's digest is right.
// A sender that gives up is a *Stopped; an error of w or content is told to the sender. It leaves
// the stream open.
func ReceiveBulk(stream io.ReadWriter, w io.Writer, content func(digest []byte) error) (n int64, err error) {
	r := bufio.NewReaderSize(stream, 4<<10)
	var b []byte
	for {
		var head [4]byte
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return n, fmt.Errorf("the connection was lost: %w", err)
		}
		size := binary.BigEndian.Uint32(head[:])
		switch {
		case size == bulkFailed:
			reason, err := readReason(r)
			if err != nil {
				return n, err
			}
			return n, &Stopped{reason}
		case size == 0:
			digest := make([]byte, digestSize)
			if _, err := io.ReadFull(r, digest); err != nil {
				return n, fmt.Errorf("the connection was lost: %w", err)
			}
			if err := content(digest); err != nil {
				refuse(stream, err)
				return n, err
			}
			return n, acknowledge(stream, n+1)
		case size > bulkPiece:
			return n, fmt.Errorf("a piece of %d bytes came, and at most %d may", size, bulkPiece)
		}
		if int(size) > cap(b) {
			b = make([]byte, size)
		}
		if _, err := io.ReadFull(r, b[:size]); err != nil {
			return n, fmt.Errorf("the connection was lost: %w", err)
		}
		k, err := w.Write(b[:size])
		n += int64(k)
		if err != nil {
			refuse(stream, err)
			return n, err
		}
		if err := acknowledge(stream, n); err != nil {
			return n, err
		}
	}
}

func acknowledge(stream io.Writer, n int64) error {
	if _, err := stream.Write(binary.BigEndian.AppendUint64(nil, uint64(n))); err != nil {
		return fmt.Errorf("the connection was lost: %w", err)
	}
	return nil
}

// refuse tells the sender why no more will be taken.
func refuse(stream io.Writer, why error) {
	stream.Write(appendReason(binary.BigEndian.AppendUint64(nil, bulkRefuse), why))
}

// appendReason writes a reason as readReason reads it.
func appendReason(b []byte, why error) []byte {
	reason := why.Error()
	reason = reason[:min(len(reason), bulkReason)]
	return append(binary.BigEndian.AppendUint16(b, uint16(len(reason))), reason...)
}
