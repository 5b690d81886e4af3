package reporting

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"net/http"
	"time"

	"moorwatch.example/agent/calls"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/update"
)

// UpdatesEvery is how often the sources of updates are asked anew. What they told last is looked at at each
// connection, and after what may have changed it.
const UpdatesEvery = 6 * time.Hour

// updatesWithin is how long the sources may take to answer.
const updatesWithin = 10 * time.Minute

// keepUpdates tells the service what newer versions the device is offered, from soon after a connection on.
func (r *Reporter) keepUpdates(ctx context.Context, service calls.Service) {
	wait := rand.N(min(r.every, 10*time.Second))
	for {
		fresh := time.Since(r.asked) > UpdatesEvery
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		case <-r.patched:
			fresh = false
		}
		wait = UpdatesEvery + rand.N(UpdatesEvery/6)
		if err := r.tellUpdates(ctx, service, fresh); err != nil && ctx.Err() == nil {
			r.log.Warn("the missing updates are told later", "error", err)
			wait = 10*time.Second + rand.N(20*time.Second)
		}
	}
}

func (r *Reporter) tellUpdates(ctx context.Context, service calls.Service, fresh bool) error {
	within, cancel := context.WithTimeout(ctx, updatesWithin)
	defer cancel()
	all, err := r.host.Updates.Missing(within, fresh)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if fresh {
		r.asked = time.Now()
	}
	in := link.Updates{}
	if err != nil {
		if all == nil { // nothing is known, which is not that nothing is missing
			return err
		}
		in.Failed = err.Error()
	}
	all = update.Clean(all)
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(append(text, in.Failed...))
	in.Digest = hex.EncodeToString(sum[:])
	err = service.Post(ctx, "/updates", in, nil)
	if no, ok := errors.AsType[*calls.Refused](err); ok && no.Status == http.StatusConflict {
		in.All, in.Whole = all, true
		err = service.Post(ctx, "/updates", in, nil)
	}
	return err
}

// UpdatesChanged has the updates told anew soon: something that may have changed them has ended.
func (r *Reporter) UpdatesChanged() { poke(r.patched) }
