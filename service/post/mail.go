// Package post carries messages out of the service: mail by SMTP (RFC 5321) and webhooks as signed
// CloudEvents. What is said, to whom and when is the columns' matter.
package post

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Post carries messages. Its zero value sends webhooks, and refuses mail.
type Post struct {
	// SMTP is where mail is handed over: smtp://host:port, or smtps://host:port for TLS from the
	// start, with user and password before the host where it asks for them. Beyond loopback, mail
	// is sent over TLS only.
	SMTP string
	From string // the sender's address
	// Reach are networks that webhooks may reach beside public addresses, by plain HTTP too.
	Reach []netip.Prefix
}

var errNoMail = errors.New("no mail server is set: start the service with --smtp")

// File is attached to a mail.
type File struct {
	Name, Type string
	Content    []byte
}

// Mail sends a text to e-mail addresses, with files attached where there are any. id is the same for the same
// message, however often it is sent. The context bounds the whole conversation.
func (p Post) Mail(ctx context.Context, to []string, id, subject, text string, files ...File) error {
	if p.SMTP == "" {
		return errNoMail
	}
	from, err := mail.ParseAddress(p.From)
	if err != nil {
		return fmt.Errorf("the sender's address %q cannot be read", p.From)
	}
	var h mail.Header
	h.SetDate(time.Now())
	h.SetAddressList("From", []*mail.Address{from})
	var all []*mail.Address
	for _, one := range to {
		a, err := mail.ParseAddress(one)
		if err != nil {
			return fmt.Errorf("the address %q cannot be read", one)
		}
		all = append(all, a)
	}
	h.SetAddressList("To", all)
	h.SetSubject(subject)
	h.SetMessageID(id + "@moorwatch")
	h.Set("Auto-Submitted", "auto-generated") // RFC 3834: no automatic answers, please
	var body bytes.Buffer
	if err := write(&body, h, text, files); err != nil {
		return err
	}
	return p.hand(ctx, from.Address, all, &body)
}

// write writes a message: of text alone, or of several parts (RFC 2046).
func write(to io.Writer, h mail.Header, text string, files []File) error {
	plain := map[string]string{"charset": "utf-8"}
	if len(files) == 0 {
		h.SetContentType("text/plain", plain)
		w, err := mail.CreateSingleInlineWriter(to, h)
		if err != nil {
			return err
		}
		_, err = io.WriteString(w, text)
		return errors.Join(err, w.Close())
	}
	m, err := mail.CreateWriter(to, h)
	if err != nil {
		return err
	}
	part := func(w io.WriteCloser, err error, content []byte) error {
		if err != nil {
			return err
		}
		_, err = w.Write(content)
		return errors.Join(err, w.Close())
	}
	var words mail.InlineHeader
	words.SetContentType("text/plain", plain)
	w, err := m.CreateSingleInline(words)
	if err := part(w, err, []byte(text)); err != nil {
		return err
	}
	for _, f := range files {
		var about mail.AttachmentHeader
		about.SetContentType(f.Type, nil)
		about.SetFilename(f.Name)
		w, err := m.CreateAttachment(about)
		if err := part(w, err, f.Content); err != nil {
			return err
		}
	}
	return m.Close()
}

// hand gives a message to the mail server.
func (p Post) hand(ctx context.Context, from string, to []*mail.Address, body *bytes.Buffer) error {
	server, err := url.Parse(p.SMTP)
	if err != nil || server.Host == "" || (server.Scheme != "smtp" && server.Scheme != "smtps") {
		return errors.New("the mail server's address cannot be read: write it as smtp://host:port")
	}
	address := server.Host
	if server.Port() == "" {
		address = net.JoinHostPort(server.Hostname(), map[string]string{"smtp": "587", "smtps": "465"}[server.Scheme])
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return fmt.Errorf("the mail server cannot be reached: %w", err)
	}
	if deadline, ok := ctx.Deadline(); ok {
		conn.SetDeadline(deadline)
	}
	remote, _ := conn.RemoteAddr().(*net.TCPAddr)
	var c *smtp.Client
	settings := &tls.Config{ServerName: server.Hostname(), MinVersion: tls.VersionTLS12}
	switch {
	case server.Scheme == "smtps":
		c = smtp.NewClient(tls.Client(conn, settings))
	case remote != nil && remote.IP.IsLoopback():
		c = smtp.NewClient(conn)
	default:
		if c, err = smtp.NewClientStartTLS(conn, settings); err != nil {
			conn.Close()
			return fmt.Errorf("the mail server offers no TLS: %w", err)
		}
	}
	defer c.Close()
	if password, ok := server.User.Password(); ok {
		if err := c.Auth(sasl.NewPlainClient("", server.User.Username(), password)); err != nil {
			return fmt.Errorf("the mail server does not let the service in: %w", err)
		}
	}
	var names []string
	for _, a := range to {
		names = append(names, a.Address)
	}
	if err := c.SendMail(from, names, body); err != nil {
		return fmt.Errorf("the mail server does not take the message: %w", err)
	}
	c.Quit() // the message is theirs; how they part does not matter
	return nil
}
