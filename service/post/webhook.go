package post

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Event is one event as a CloudEvent (version 1.0) in the structured form.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"` // the same however often it is sent
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        any       `json:"data"`
}

// Send posts events to a URL, signed with HMAC-SHA-256 over the body's digest and the address (HTTP
// Message Signatures, RFC 9421, with Content-Digest, RFC 9530). keyID tells the receiver which
// secret it is. It returns the answer's status. Only public addresses are reached, over TLS, and those of
// Reach.
func (p Post) Send(ctx context.Context, target string, secret []byte, keyID string, events []Event) (string, error) {
	u, err := url.Parse(target)
	if err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") {
		return "", errors.New("the address cannot be read: write it as https://host/path")
	}
	var body []byte
	kind := "application/cloudevents+json; charset=utf-8"
	if len(events) == 1 {
		body, err = json.Marshal(events[0])
	} else {
		kind = "application/cloudevents-batch+json; charset=utf-8"
		body, err = json.Marshal(events)
	}
	if err != nil {
		return "", err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	r.Header.Set("Content-Type", kind)
	r.Header.Set("User-Agent", "moorwatch")
	Sign(r, body, secret, keyID, time.Now())
	answer, err := p.client(u.Scheme == "http").Do(r)
	if err != nil {
		var failed *url.Error
		if errors.As(err, &failed) {
			err = failed.Err // without the address, which may hold a secret
		}
		slog.Debug("a webhook was not reached", "channel", keyID, "error", err)
		return "", errReach
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10))
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return answer.Status, fmt.Errorf("it answers %s", answer.Status)
	}
	return answer.Status, nil
}

// Sign adds Content-Digest, Signature-Input and Signature to a request.
func Sign(r *http.Request, body, secret []byte, keyID string, now time.Time) {
	digest := sha256.Sum256(body)
	r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(digest[:])+":")
	params := fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="%s";alg="hmac-sha256"`, now.Unix(),
		keyID)
	r.Header.Set("Signature-Input", "moorwatch="+params)
	r.Header.Set("Signature", "moorwatch=:"+base64.StdEncoding.EncodeToString(signature(r, r.URL.String(), params, secret))+":")
}

func signature(r *http.Request, target, params string, secret []byte) []byte {
	base := strings.Join([]string{`"@method": ` + r.Method, `"@target-uri": ` + target, `"content-type": ` + r.Header.Get("Content-Type"),
		`"content-digest": ` + r.Header.Get("Content-Digest"), `"@signature-params": ` + params}, "\n")
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(base))
	return mac.Sum(nil)
}

// Verify tells whether a request that was sent to target was signed by Sign with secret, not longer
// ago than maxAge. It is what a receiver does.
func Verify(r *http.Request, target string, body, secret []byte, maxAge time.Duration, now time.Time) error {
	digest := sha256.Sum256(body)
	if r.Header.Get("Content-Digest") != "sha-256=:"+base64.StdEncoding.EncodeToString(digest[:])+":" {
		return errors.New("the body is not what was signed")
	}
	params, ok := strings.CutPrefix(r.Header.Get("Signature-Input"), "moorwatch=")
	var created int64
	if _, err := fmt.Sscanf(params, `("@method" "@target-uri" "content-type" "content-digest");created=%d;`, &created); !ok || err != nil {
		return errors.New("the signature's input cannot be read")
	}
	if age := now.Sub(time.Unix(created, 0)); age > maxAge || age < -maxAge {
		return errors.New("the signature is too old")
	}
	sent, _ := strings.CutPrefix(r.Header.Get("Signature"), "moorwatch=:")
	got, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(sent, ":"))
	if err != nil || !hmac.Equal(got, signature(r, target, params, secret)) {
		return errors.New("the signature does not hold")
	}
	return nil
}
