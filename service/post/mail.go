// Package post carries messages out of the service: mail by SMTP (RFC 5321) and webhooks as signed
// CloudEvents. What is said, to whom and when is the columns' matter.
package post

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
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
}

var errNoMail = errors.New("no mail server is set: start the service with --smtp")

// Mail sends a text to e-mail addresses. id is the same for the same message, however often it is
// sent. The context bounds the whole conversation.
func (p Post) Mail(ctx context.Context, to []string, id, subject, text string) error {
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
	h.SetContentType("text/plain", map[string]string{"charset": "utf-8"})
	h.Set("Auto-Submitted", "auto-generated") // RFC 3834: no automatic answers, please
	var body bytes.Buffer
	w, err := mail.CreateSingleInlineWriter(&body, h)
	if err != nil {
		return err
	}
	if _, err := w.Write([]byte(text)); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return p.hand(ctx, from.Address, all, &body)
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
