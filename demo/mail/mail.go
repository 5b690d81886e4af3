// Package mail is a mail server that delivers nothing: it keeps what it is handed in a folder, for
// the demo and the tests to look at. It listens on loopback alone.
package mail

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
)

// Message is a mail that was taken.
type Message struct {
	ID, Subject, Text string
	To                []string
	File              string // where it is kept; "" for a sink without a folder
	Raw               []byte // all of it
}

// Sink takes mail.
type Sink struct {
	URL string // smtp://host:port

	dir    string
	server *smtp.Server
	mu     sync.Mutex
	taken  []Message
	more   chan struct{} // closed at the next mail
	refuse bool
}

// maxMessage is the largest mail that is taken, in bytes.
const maxMessage = 1 << 20

// Start listens on a free port of loopback. dir, unless empty, is the folder that mail is kept in,
// each in a file of its own that mail programs can open.
func Start(dir string) (*Sink, error) {
	if dir != "" {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Sink{URL: "smtp://" + l.Addr().String(), dir: dir, more: make(chan struct{})}
	s.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{sink: s}, nil }))
	s.server.Domain, s.server.MaxMessageBytes = "localhost", maxMessage
	s.server.ReadTimeout, s.server.WriteTimeout = 30*time.Second, 30*time.Second
	go s.server.Serve(l)
	return s, nil
}

// Stop ends it.
func (s *Sink) Stop() { s.server.Close() }

// Refuse has the sink take no mail, or take it again.
func (s *Sink) Refuse(on bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refuse = on
}

// Taken lists the mail that was taken, oldest first, and a channel that is closed at the next.
func (s *Sink) Taken() ([]Message, <-chan struct{}) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Message(nil), s.taken...), s.more
}

type session struct {
	sink *Sink
	to   []string
}

// Mail implements smtp.Session.
func (c *session) Mail(string, *smtp.MailOptions) error {
	c.sink.mu.Lock()
	defer c.sink.mu.Unlock()
	if c.sink.refuse {
		return &smtp.SMTPError{Code: 451, Message: "the sink takes no mail now"}
	}
	return nil
}

// Rcpt implements smtp.Session.
func (c *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	c.to = append(c.to, to)
	return nil
}

// Data implements smtp.Session.
func (c *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m := Message{To: c.to, Raw: raw}
	read, err := mail.CreateReader(bytes.NewReader(raw))
	if err != nil {
		return errors.New("the message cannot be read")
	}
	m.ID, _ = read.Header.MessageID()
	m.Subject, _ = read.Header.Subject()
	if part, err := read.NextPart(); err == nil {
		text, _ := io.ReadAll(part.Body)
		m.Text = string(text)
	}
	return c.sink.keep(m, raw)
}

func (s *Sink) keep(m Message, raw []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dir != "" {
		m.File = filepath.Join(s.dir, fmt.Sprintf("%s-%04d.eml", time.Now().UTC().Format("20060102-150405"), len(s.taken)+1))
		if err := os.WriteFile(m.File, raw, 0o600); err != nil {
			return err
		}
	}
	s.taken = append(s.taken, m)
	close(s.more)
	s.more = make(chan struct{})
	return nil
}

// Reset implements smtp.Session.
func (c *session) Reset() { c.to = nil }

// Logout implements smtp.Session.
func (c *session) Logout() error { return nil }
