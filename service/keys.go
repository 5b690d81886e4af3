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

// keyRing makes the ring of keys that secrets are sealed under.
func keyRing(config Config) (*secret.Ring, error) {
	if config.Keys == nil {
		return secret.NewRing(map[uint32][]byte{1: config.Seal.Seed()})
	}
	seeds, err := config.Keys.Seeds()
	if err != nil {
		return nil, err
	}
	return secret.NewRing(seeds)
}

// keepKeys takes keys that are added, and has secrets sealed anew, until ctx ends.
func (s *Service) keepKeys(ctx context.Context, keys authority.Keys, ring *secret.Ring) {
	tick := time.NewTicker(keysEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		before := ring.Version()
		seeds, err := keys.Seeds()
		if err == nil {
			err = ring.Set(seeds)
		}
		if err == nil && ring.Version() != before {
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
	for _, reseal := range []func(context.Context) (int, error){s.Access.Reseal, s.Health.Reseal, s.Session.Reseal, s.Job.Reseal} {
		n, err := reseal(ctx)
		all += n
		bad = append(bad, err)
	}
	if all > 0 {
		slog.Info("secrets were sealed under the latest key", "secrets", all)
	}
	return errors.Join(bad...)
}
