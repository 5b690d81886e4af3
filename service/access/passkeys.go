package access

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// passkeys makes and checks passkeys (WebAuthn Level 2) for the console's address.
type passkeys struct {
	web    *webauthn.WebAuthn
	origin string // of the pages that may use them
	why    string // none can
}

func newPasskeys(address string) passkeys {
	u, err := url.Parse(address)
	if err != nil {
		return passkeys{why: "The service's address cannot be read."}
	}
	if ip := net.ParseIP(u.Hostname()); ip != nil {
		if !ip.IsLoopback() {
			return passkeys{why: "Passkeys are bound to a name: reach the service by one, and not by " + u.Hostname() + "."}
		}
		u.Host = net.JoinHostPort("localhost", u.Port())
	}
	p := passkeys{origin: u.Scheme + "://" + u.Host}
	if p.web, err = webauthn.New(&webauthn.Config{RPID: u.Hostname(), RPDisplayName: "Moorwatch",
		RPOrigins: []string{p.origin}}); err != nil {
		return passkeys{why: "Passkeys cannot be used at " + address + ": " + err.Error() + "."}
	}
	return p
}

// here says why passkeys cannot be used by the page that a request comes from; "" where they can.
func (p passkeys) here(r *http.Request) string {
	if p.why == "" && r.Host != strings.SplitN(p.origin, "://", 2)[1] {
		return "Passkeys are bound to a name: open the console at " + p.origin + " to use them."
	}
	return p.why
}

func (p passkeys) check(r *http.Request) error {
	if why := p.here(r); why != "" {
		return front.Problem(http.StatusConflict, "Passkeys cannot be used here.", why)
	}
	return nil
}

// holder implements webauthn.User.
type holder struct {
	person
	keys []passkey
}

// WebAuthnID implements webauthn.User.
func (h holder) WebAuthnID() []byte { return h.ID[:] }

// WebAuthnName implements webauthn.User.
func (h holder) WebAuthnName() string { return h.Email }

// WebAuthnDisplayName implements webauthn.User.
func (h holder) WebAuthnDisplayName() string { return h.Name }

// WebAuthnCredentials implements webauthn.User.
func (h holder) WebAuthnCredentials() []webauthn.Credential {
	all := make([]webauthn.Credential, len(h.keys))
	for i, k := range h.keys {
		all[i] = k.Credential
	}
	return all
}

func (a *Service) holder(ctx context.Context, p person) (holder, error) {
	keys, err := a.store.passkeys(ctx, p.ID)
	return holder{p, keys}, err
}

// PasskeyChallenge gives what a browser needs to prove a passkey: POST /session/passkey.
func (a *Service) PasskeyChallenge(c *gin.Context) {
	front.Serve(c, func() error {
		p, hash, err := a.pending(c)
		if err != nil {
			return err
		}
		if err := a.passkeys.check(c.Request); err != nil {
			return err
		}
		if err := a.try(c, p.Email); err != nil {
			return err
		}
		if err := a.passed(c, false); err != nil { // to ask is not to fail
			return err
		}
		who, err := a.holder(c.Request.Context(), p)
		if err != nil {
			return err
		}
		if len(who.keys) == 0 {
			return front.NotFound("passkey of yours")
		}
		options, session, err := a.passkeys.web.BeginLogin(who)
		a.challenge(c, hash, options, session, err)
		return nil
	})
}

// challenge keeps what a passkey is to sign, and answers with the options for the browser.
func (a *Service) challenge(c *gin.Context, hash []byte, options any, session *webauthn.SessionData, err error) {
	if err == nil {
		err = a.store.setChallenge(c.Request.Context(), hash, session)
	}
	front.Answer(c, http.StatusOK, options, err)
}

func (a *Service) passkeyFits(ctx context.Context, p person, hash []byte, answer json.RawMessage) (bool, error) {
	if a.passkeys.web == nil {
		return false, nil
	}
	who, err := a.holder(ctx, p)
	if err != nil {
		return false, err
	}
	session, err := a.store.takeChallenge(ctx, hash)
	switch {
	case db.Missing(err):
		return false, nil
	case err != nil:
		return false, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return false, nil
	}
	credential, err := a.passkeys.web.ValidateLogin(who, session, parsed)
	if err != nil || credential.Authenticator.CloneWarning { // one that was copied counts on its own
		return false, nil
	}
	return true, a.store.usePasskey(ctx, credential)
}

// BeginPasskey gives what a browser needs to make a passkey: POST /me/factors/passkey.
func (a *Service) BeginPasskey(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Password](c)
		if !ok {
			return nil
		}
		if err := a.passkeys.check(c.Request); err != nil {
			return err
		}
		p, err := a.prove(c, "factor.add", in.Password)
		if err != nil {
			return err
		}
		who, err := a.holder(c.Request.Context(), p)
		if err != nil {
			return err
		}
		var have []protocol.CredentialDescriptor
		for _, k := range who.keys {
			have = append(have, k.Credential.Descriptor())
		}
		options, session, err := a.passkeys.web.BeginRegistration(who, webauthn.WithExclusions(have))
		a.challenge(c, access.HashSecret(front.CallerOf(c).Session), options, session, err)
		return nil
	})
}

// mostPasskeys is how many passkeys a person may have.
const mostPasskeys = 20

// ConfirmPasskey takes the passkey that a browser made: PUT /me/factors/passkey.
func (a *Service) ConfirmPasskey(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.NewPasskey](c)
		if !ok {
			return nil
		}
		ctx, caller := c.Request.Context(), front.CallerOf(c)
		wrong := front.Problem(http.StatusUnprocessableEntity, "The passkey cannot be used.",
			"Begin anew; what the browser made does not answer what it was asked.")
		if err := a.passkeys.check(c.Request); err != nil {
			return err
		}
		session, err := a.store.takeChallenge(ctx, access.HashSecret(caller.Session))
		switch {
		case db.Missing(err):
			return wrong
		case err != nil:
			return err
		}
		who, err := a.holder(ctx, person{ID: caller.ID, Email: caller.Email, Name: caller.Name})
		if err != nil {
			return err
		}
		if len(who.keys) >= mostPasskeys {
			return front.Problem(http.StatusConflict, "You have as many passkeys as one may.",
				fmt.Sprintf("Remove one of the %d first.", mostPasskeys))
		}
		parsed, err := protocol.ParseCredentialCreationResponseBytes(in.Passkey)
		if err != nil {
			return wrong
		}
		credential, err := a.passkeys.web.CreateCredential(who, session, parsed)
		if err != nil {
			return wrong
		}
		a.added(c, "passkey "+in.Name, a.store.addPasskey(ctx, caller.ID, device.CleanText(in.Name), credential))
		return nil
	})
}
