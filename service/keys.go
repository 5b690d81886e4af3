package service

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"moorwatch.example/core/secret"
	"moorwatch.example/service/authority"
)

// keysEvery is how often the service looks whether another key was added.
const keysEvery = time.Minute

// Uses of keys: what is sealed for one cannot be read by the key of another.
const (
	keySignIn     = "sign-in"    // seeds of authenticators
	keyWebhooks   = "webhooks"   // what signs them
	keyConsoles   = "consoles"   // their passwords
	keyJobs       = "jobs"       // secret values that wait to be sent
	keyRecordings = "recordings" // keys of recordings
	keyContents   = "contents"   // keys of packages' files
)

// keyUses are all of them.
var keyUses = []string{keySignIn, keyWebhooks, keyConsoles, keyJobs, keyRecordings, keyContents}

// rings are the keys by their use.
type rings map[string]*secret.Ring

// keyRings makes the rings of keys that secrets are sealed under.
func keyRings(config Config) (rings, error) {
	all := rings{}
	for _, use := range keyUses {
		seeds := map[uint32][]byte{1: config.Seal.Seed()}
		var err error
		if config.Keys != nil {
			seeds, err = config.Keys.Seeds(use)
		}
		if err == nil {
			all[use], err = secret.NewRing(use, seeds)
		}
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// refresh takes keys that were added, and tells whether any were.
func (r rings) refresh(keys authority.Keys) (changed bool, err error) {
	for use, ring := range r {
		before := ring.Version()
		seeds, err := keys.Seeds(use)
		if err == nil {
			err = ring.Set(seeds)
		}
		if err != nil {
			return changed, err
		}
		changed = changed || ring.Version() != before
	}
	return changed, nil
}

// keepKeys takes keys that are added, and has secrets sealed anew, until ctx ends.
func (s *Service) keepKeys(ctx context.Context, keys authority.Keys, all rings) {
	tick := time.NewTicker(keysEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		changed, err := all.refresh(keys)
		if err == nil && changed {
			err = s.reseal(ctx)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("the keys of secrets cannot be taken; trying again", "error", err)
		}
	}
}

// reseal seals anew, under the latest key, what is sealed under another or not at all.
func (s *Service) reseal(ctx context.Context) error {
	var bad []error
	all := 0
	for _, p := range s.parts {
		if p.Reseal == nil {
			continue
		}
		n, err := p.Reseal(ctx)
		all += n
		bad = append(bad, err)
	}
	if all > 0 {
		slog.Info("secrets were sealed under the latest key", "secrets", all)
	}
	return errors.Join(bad...)
}
