package access

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"image/png"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/pquerna/otp/totp"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// secondWithin is how long a second factor may be given after the password.
const secondWithin = 10 * time.Minute

// askSecond answers a right password of someone who has a second factor.
func (a *Service) askSecond(c *gin.Context, p person) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		code, err := a.store.authenticator(ctx, p.ID)
		if err != nil && !db.Missing(err) {
			return err
		}
		keys, err := a.store.passkeys(ctx, p.ID)
		if err != nil {
			return err
		}
		if _, err := a.open(c, p, secondWithin, true); err != nil {
			return err
		}
		if err := a.passed(c, false); err != nil {
			return err
		}
		out := api.SecondStep{}
		if len(keys) > 0 && a.passkeys.here(c.Request) == "" {
			out.Factors = append(out.Factors, "passkey")
		}
		if code.ConfirmedAt != nil {
			out.Factors = append(out.Factors, "code")
		}
		out.Factors = append(out.Factors, "recovery")
		c.JSON(http.StatusAccepted, out)
		return nil
	})
}

// pending is who has given a password and not yet a second factor.
func (a *Service) pending(c *gin.Context) (p person, hash []byte, err error) {
	secret := sessionOf(c.Request)
	hash = access.HashSecret(secret)
	if secret != "" {
		p, _, err = a.store.personBySession(c.Request.Context(), hash, true)
	}
	if secret == "" || db.Missing(err) {
		err = front.Problem(http.StatusUnauthorized, "No sign-in waits for a second factor.",
			"Give e-mail and password again; the second factor is awaited for ten minutes.")
	}
	return p, hash, err
}

// SignInSecond takes the second factor: POST /session/second.
func (a *Service) SignInSecond(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.SecondFactor](c)
		if !ok {
			return nil
		}
		ctx := c.Request.Context()
		p, hash, err := a.pending(c)
		if err != nil {
			return err
		}
		if err := a.try(c, p.Email); err != nil {
			return err
		}
		right := false
		switch {
		case in.Code != nil:
			right, err = a.codeFits(ctx, p, *in.Code)
		case in.Recovery != nil:
			right, err = a.store.useRecovery(ctx, p.ID, access.HashRecovery(*in.Recovery))
		case in.Passkey != nil:
			right, err = a.passkeyFits(ctx, p, hash, *in.Passkey)
		default:
			err = front.Problem(http.StatusBadRequest, "No second factor is given.", "Give a code, a recovery code or a passkey.")
		}
		if err != nil {
			return err
		}
		if !right {
			return a.failed(c, "session.start", p.Email, front.Problem(http.StatusUnauthorized, "This does not fit.",
				"A code holds for half a minute and once. Try the next one, or a recovery code."))
		}
		if err := a.store.endSession(ctx, hash); err != nil {
			return err
		}
		a.begin(c, p, "session.start")
		return nil
	})
}

func (a *Service) codeFits(ctx context.Context, p person, code string) (bool, error) {
	f, err := a.store.authenticator(ctx, p.ID)
	if err != nil || f.ConfirmedAt == nil {
		if db.Missing(err) {
			err = nil
		}
		return false, err
	}
	step, ok := access.MatchCode(f.Secret, code, time.Now(), f.LastStep)
	if !ok {
		return false, nil
	}
	return a.store.useCode(ctx, p.ID, step)
}

// GetFactors tells the caller's second factors: GET /me/factors.
func (a *Service) GetFactors(c *gin.Context) {
	front.Read(c, func(ctx context.Context) (out api.Factors, err error) {
		id := front.CallerOf(c).ID
		f, err := a.store.authenticator(ctx, id)
		if err != nil && !db.Missing(err) {
			return out, err
		}
		keys, err := a.store.passkeys(ctx, id)
		if err != nil {
			return out, err
		}
		out = api.Factors{CodeSince: f.ConfirmedAt, Passkeys: []api.Passkey{}, PasskeysHere: a.passkeys.here(c.Request)}
		for _, k := range keys {
			out.Passkeys = append(out.Passkeys, api.Passkey{ID: base64.RawURLEncoding.EncodeToString(k.ID), Name: k.Name,
				AddedAt: k.AddedAt, LastUsedAt: k.LastUsedAt})
		}
		if out.RecoveryCodes, err = a.store.recoveryLeft(ctx, id); err != nil {
			return out, err
		}
		policy, err := a.store.factorPolicy(ctx)
		out.Required = policy == "required"
		return out, err
	})
}

// prove checks the password of a caller who is about to change how they prove who they are; an
// unattended browser, or a token, is not enough for that. action is what they want.
func (a *Service) prove(c *gin.Context, action, password string) (p person, err error) {
	ctx, caller := c.Request.Context(), front.CallerOf(c)
	if caller.Session == "" {
		return p, front.Problem(http.StatusForbidden, "This is done in the console.", "An API token cannot change how its owner signs in.")
	}
	if err := a.try(c, caller.Email); err != nil {
		return p, err
	}
	if p, err = a.store.personByID(ctx, caller.ID); err != nil {
		return p, err
	}
	right := false
	if p.Hash != nil {
		if right, err = a.verify(ctx, *p.Hash, password); err != nil {
			return p, err
		}
	}
	if !right {
		return p, a.failed(c, action, caller.Email, front.Problem(http.StatusForbidden, "The password is wrong.",
			"Give the one that you sign in with."))
	}
	return p, a.passed(c, false)
}

// BeginCode begins to use an authenticator: POST /me/factors/code.
func (a *Service) BeginCode(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Password](c)
		if !ok {
			return nil
		}
		p, err := a.prove(c, "factor.add", in.Password)
		if err != nil {
			return err
		}
		key, err := totp.Generate(totp.GenerateOpts{Issuer: "Moorwatch", AccountName: p.Email})
		if err != nil {
			return err
		}
		picture, err := key.Image(240, 240)
		if err != nil {
			return err
		}
		var out bytes.Buffer
		if err := png.Encode(&out, picture); err != nil {
			return err
		}
		fresh, err := a.store.beginAuthenticator(c.Request.Context(), p.ID, key.Secret())
		if err != nil {
			return err
		}
		if !fresh {
			return front.Problem(http.StatusConflict, "You have an authenticator already.", "Remove it first.")
		}
		c.JSON(http.StatusOK, api.NewCode{Secret: key.Secret(), Address: key.URL(),
			Picture: base64.StdEncoding.EncodeToString(out.Bytes())})
		return nil
	})
}

// ConfirmCode takes the first code of an authenticator: PUT /me/factors/code.
func (a *Service) ConfirmCode(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Code](c)
		if !ok {
			return nil
		}
		ctx, caller := c.Request.Context(), front.CallerOf(c)
		if err := a.try(c, caller.Email); err != nil {
			return err
		}
		f, err := a.store.authenticator(ctx, caller.ID)
		switch {
		case db.Missing(err) || (err == nil && f.ConfirmedAt != nil):
			return front.Problem(http.StatusConflict, "No authenticator waits for its first code.", "Begin anew.")
		case err != nil:
			return err
		}
		step, ok := access.MatchCode(f.Secret, in.Code, time.Now(), f.LastStep)
		if !ok {
			return a.failed(c, "factor.add", caller.Email, front.Problem(http.StatusUnprocessableEntity, "The code does not fit.",
				"Look whether the clock of the authenticator is right, and give the code that it shows now."))
		}
		a.added(c, "authenticator", errors.Join(a.passed(c, false), a.store.confirmAuthenticator(ctx, caller.ID, step)))
		return nil
	})
}

// added finishes adding a second factor: the person has recovery codes from then on.
func (a *Service) added(c *gin.Context, what string, err error) {
	caller, codes := front.CallerOf(c), []string{}
	if err == nil {
		codes, err = a.firstRecovery(c.Request.Context(), caller)
	}
	if a.done(c, "factor.add", what, err) {
		a.tell(c, caller.Email, "a second factor was added", "A second factor was added to your account: "+what+".")
		c.JSON(http.StatusOK, api.RecoveryCodes{Codes: codes})
	}
}

// firstRecovery makes recovery codes for somebody who has none; none for others.
func (a *Service) firstRecovery(ctx context.Context, caller *front.Caller) ([]string, error) {
	left, err := a.store.recoveryLeft(ctx, caller.ID)
	if err != nil || left > 0 {
		return []string{}, err
	}
	return a.newRecovery(ctx, caller)
}

func (a *Service) newRecovery(ctx context.Context, caller *front.Caller) (codes []string, err error) {
	var hashes [][]byte
	for range access.RecoveryCodes {
		code, err := access.NewRecoveryCode(rand.Reader)
		if err != nil {
			return nil, err
		}
		codes, hashes = append(codes, code), append(hashes, access.HashRecovery(code))
	}
	return codes, a.store.setRecovery(ctx, caller.ID, hashes)
}

// RenewRecovery makes new recovery codes: POST /me/factors/recovery.
func (a *Service) RenewRecovery(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.Password](c)
		if !ok {
			return nil
		}
		p, err := a.prove(c, "factor.recovery", in.Password)
		if err != nil {
			return err
		}
		if !p.SecondFactor {
			return front.Problem(http.StatusConflict, "You have no second factor.", "Recovery codes stand in for one: add one first.")
		}
		codes, err := a.newRecovery(c.Request.Context(), front.CallerOf(c))
		if a.done(c, "factor.recovery", "new recovery codes", err) {
			a.tell(c, p.Email, "new recovery codes", "New recovery codes were made for your account; those from before hold no more.")
			c.JSON(http.StatusOK, api.RecoveryCodes{Codes: codes})
		}
		return nil
	})
}

// RemoveFactor removes an authenticator or a passkey: POST /me/factors/removal.
func (a *Service) RemoveFactor(c *gin.Context) {
	front.Serve(c, func() error {
		in, ok := front.Bind[api.FactorRemoval](c)
		if !ok {
			return nil
		}
		ctx := c.Request.Context()
		p, err := a.prove(c, "factor.remove", in.Password)
		if err != nil {
			return err
		}
		what, id := "authenticator", []byte(nil)
		if in.Passkey != nil {
			what = "passkey"
			id, _ = base64.RawURLEncoding.DecodeString(*in.Passkey)
		}
		err = a.store.removeFactor(ctx, p.ID, id, p.FactorAsked)
		if errors.Is(err, errLastFactor) {
			err = front.Problem(http.StatusConflict, "It is your last second factor.",
				"The sign-in policy asks for one: add another first.")
		}
		if a.done(c, "factor.remove", what, err) {
			a.tell(c, p.Email, "a second factor was removed", "A second factor was removed from your account: "+what+".")
			c.Status(http.StatusNoContent)
		}
		return nil
	})
}
