package access

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"

	"github.com/gin-gonic/gin"

	"moorwatch.example/contract/api"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// The head of the audit log is its last entry's number, hash and signature. Whoever keeps it outside of the service
// finds out when entries from before it are taken away or written anew, also by somebody who has the key.

// anchorEvery is how often a head that changed is written outside.
const anchorEvery = 10 * time.Second

// head is the last entry of the log.
type head struct {
	seq             int64
	at              time.Time
	hash, signature []byte
	key             string
}

func (h head) line() string {
	return fmt.Sprintf("%s seq=%d hash=%x key=%s signature=%x", h.at.UTC().Format(time.RFC3339Nano), h.seq, h.hash, h.key, h.signature)
}

// anchor writes heads outside until ctx ends.
func (a *Service) anchor(ctx context.Context) {
	tick := time.NewTicker(anchorEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			a.writeHead(ctx)
		case <-ctx.Done():
			return
		}
	}
}

// writeHead writes the log's head to each place outside, where it has changed.
func (a *Service) writeHead(ctx context.Context) {
	if len(a.anchors) == 0 {
		return
	}
	h, err := a.store.auditHead(ctx)
	if err != nil || h.seq == a.anchored {
		if err != nil && !db.Missing(err) && ctx.Err() == nil {
			slog.Warn("the head of the audit log cannot be read; trying again", "error", err)
		}
		return
	}
	var bad []error
	for _, to := range a.anchors {
		bad = append(bad, anchorAt(ctx, to, h))
	}
	if err := errors.Join(bad...); err != nil {
		slog.Warn("the head of the audit log cannot be written outside; trying again", "error", err)
		return
	}
	a.anchored = h.seq
}

// CheckAnchor refuses what is no place for heads: a file, as file:///path, or a server of syslog, as
// udp://host:port or tcp://host:port.
func CheckAnchor(to string) error {
	u, err := url.Parse(to)
	switch {
	case err == nil && u.Scheme == "file" && u.Path != "" && u.Host == "":
	case err == nil && (u.Scheme == "udp" || u.Scheme == "tcp") && u.Host != "" && u.Port() != "":
	default:
		return fmt.Errorf("%q is no place for the head of the audit log: write file:///path, or udp://host:port or tcp://host:port of a "+
			"syslog server", to)
	}
	return nil
}

func anchorAt(ctx context.Context, to string, h head) error {
	u, err := url.Parse(to)
	if err != nil {
		return err
	}
	if u.Scheme == "file" {
		f, err := os.OpenFile(u.Path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
		if err != nil {
			return err
		}
		_, err = f.WriteString(h.line() + "\n")
		return errors.Join(err, f.Sync(), f.Close())
	}
	c, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, u.Scheme, u.Host)
	if err != nil {
		return err
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(5 * time.Second))
	name, _ := os.Hostname()
	// facility log audit, severity notice (RFC 5424)
	text := fmt.Sprintf("<109>1 %s %s moorwatch - audit.head - %s", time.Now().UTC().Format(time.RFC3339Nano), name, h.line())
	if u.Scheme == "tcp" {
		text = fmt.Sprintf("%d %s", len(text), text) // RFC 6587, 3.4.1
	}
	_, err = c.Write([]byte(text))
	return err
}

// GetAuditHead tells the last entry's number, hash and signature: GET /audit/head.
func (a *Service) GetAuditHead(c *gin.Context) {
	ctx := c.Request.Context()
	h, err := a.store.auditHead(ctx)
	var keys map[string][]byte
	if err == nil {
		keys, err = a.store.auditKeys(ctx)
	}
	if db.Missing(err) {
		err = front.NotFound("entry")
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	out := api.AuditHead{Seq: h.seq, At: h.at, Hash: hex.EncodeToString(h.hash), Signature: hex.EncodeToString(h.signature), Key: h.key,
		Keys: map[string]string{}}
	for id, key := range keys {
		out.Keys[id] = hex.EncodeToString(key)
	}
	c.JSON(http.StatusOK, out)
}
