package test

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/service/authority"
)

// Finding 10: the seeds of authenticators and the keys of webhooks stood in the database as they are, under one key
// for everything that could not be changed.
func TestSecretsAreSealedAndKeysChange(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	w.Stop()
	keys := must(authority.OpenKeys(t.TempDir(), time.Now()))(t)
	w.config.Keys = keys
	w.start(t)
	w.owner = w.client(t, w.token)
	const email = "ines@curlew-sedge.example"
	c, _ := w.joins(t, email, wholly(access.Technician))
	seed, _ := authenticator(t, c)
	hook := must(client.Made(w.owner.AddChannelWithResponse(t.Context(), api.NewChannel{Name: "Desk", Kind: "webhook", Target: "https://desk.example/hook"})))(t)
	secret := must(decode64(*hook.Secret))(t)
	db := must(pgx.Connect(t.Context(), w.config.Owner))(t)
	defer db.Close(context.Background())
	sealed := func() (all [][]byte) {
		t.Helper()
		for _, query := range []string{"SELECT sealed FROM authenticators WHERE secret IS NULL", "SELECT sealed FROM channels WHERE secret IS NULL"} {
			var b []byte
			if err := db.QueryRow(t.Context(), query).Scan(&b); err != nil {
				t.Fatal(query, err)
			}
			if bytes.Contains(b, []byte(seed)) || bytes.Contains(b, secret) {
				t.Errorf("%s gives a secret as it is", query)
			}
			all = append(all, b)
		}
		return all
	}
	before := sealed()
	if version := must(keys.Rotate(time.Now()))(t); version != 2 {
		t.Errorf("the next key is number %d", version)
	}
	w.Stop()
	// What was there before secrets were sealed is sealed at the start.
	must(db.Exec(t.Context(), "UPDATE channels SET secret = $1, sealed = NULL", secret))(t)
	w.start(t)
	for i, b := range sealed() {
		if bytes.Equal(b, before[i]) || b[3] != 2 {
			t.Errorf("secret %d is sealed under key %d", i, b[3])
		}
	}
	w.Stop()
	if gone := must(keys.Retire())(t); gone != 1 {
		t.Errorf("%d keys were removed", gone)
	}
	w.start(t)
	code := must(totp.GenerateCode(seed, time.Now().Add(30*time.Second)))(t)
	must(w.client(t, "").SignIn(t.Context(), email, password, func([]api.SecondStepFactors) (api.SecondFactor, error) { return api.SecondFactor{Code: &code}, nil }))(t)
}
