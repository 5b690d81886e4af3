package uplink

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gobwas/ws"

	"moorwatch.example/contract/link"
)

// Accept takes the link that a request asks for, within GreetWithin. keyOf finds the key that a
// device enrolled with; admit has the last word, knowing the device, and may give it a mark: what either returns
// as *link.Refusal is told to the device. Once Accept has returned, the response is not to be used.
func Accept(w http.ResponseWriter, r *http.Request, audience string,
	keyOf func(device string) (ed25519.PublicKey, error),
	admit func(device, address string, proof link.Proof) (mark string, err error)) (*Link, error) {
	// The greeting is the device's own; a page in a browser cannot prove a key, and is told early.
	if r.Header.Get("Origin") != "" {
		http.Error(w, "agents alone connect here", http.StatusForbidden)
		return nil, errors.New("refused a browser")
	}
	nc, rw, _, err := ws.UpgradeHTTP(r, w)
	if err != nil {
		return nil, fmt.Errorf("upgrading: %w", err)
	}
	c := &conn{Conn: nc}
	if n := rw.Reader.Buffered(); n > 0 {
		early, _ := rw.Reader.Peek(n)
		c.early = append([]byte(nil), early...)
	}
	nc.SetDeadline(time.Now().Add(GreetWithin))
	device, err := admitDevice(c, audience, r.RemoteAddr, keyOf, admit)
	if err != nil {
		nc.Close()
		return nil, err
	}
	nc.SetDeadline(time.Time{})
	c.idle = SilentAfter
	return start(c, device, false)
}

func admitDevice(c *conn, audience, address string, keyOf func(string) (ed25519.PublicKey, error),
	admit func(device, address string, proof link.Proof) (mark string, err error)) (string, error) {
	nonce := make([]byte, 18)
	rand.Read(nonce)
	challenge := link.Challenge{Nonce: base64.RawURLEncoding.EncodeToString(nonce), Audience: audience, Time: time.Now(), Notes: true}
	if err := send(c, challenge); err != nil {
		return "", err
	}
	var proof link.Proof
	if err := receive(c, &proof); err != nil {
		return "", err
	}
	device, err := verify(proof.Token, challenge, time.Now(), keyOf)
	mark := ""
	if err == nil {
		mark, err = admit(device, address, proof)
	} else if refusal := (*link.Refusal)(nil); !errors.As(err, &refusal) {
		err = fmt.Errorf("%w (%w)", &link.Refusal{Status: http.StatusUnauthorized,
			Reason: "the service does not know this device's key: enrol it again"}, err)
	}
	var refusal *link.Refusal
	if errors.As(err, &refusal) {
		if err := send(c, link.Welcome{Refusal: refusal}); err != nil {
			return "", err
		}
	}
	if err != nil {
		return device, err
	}
	err = send(c, link.Welcome{Mark: mark})
	c.kinds = proof.Notes
	return device, err
}
