package reporting

import (
	"context"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"net/http"
	"os"
	"sync"
	"time"

	"moorwatch.example/agent/atomicfile"
	"moorwatch.example/agent/calls"
	"moorwatch.example/core/inventory"
)

// InventoryEvery is how often the inventory is taken beside on demand and at each connection. What
// did not change is not sent again.
const InventoryEvery = time.Hour

// keeper remembers the inventory that the service has, through restarts.
type keeper struct {
	mu   sync.Mutex
	path string
}

func (k *keeper) load() inventory.Snapshot {
	var items []inventory.Item
	if text, err := os.ReadFile(k.path); err == nil && json.Unmarshal(text, &items) == nil {
		return inventory.Of(items)
	}
	return nil // then the whole is sent
}

func (k *keeper) save(s inventory.Snapshot) error {
	text, err := json.Marshal(s.Items())
	if err != nil {
		return err
	}
	return atomicfile.Write(k.path, text, atomicfile.Soon)
}

// keepInventory sends the inventory soon after a connection, from then on, and when it is known to be
// another.
func (r *Reporter) keepInventory(ctx context.Context, service calls.Service) {
	wait := rand.N(min(r.every, 5*time.Second)) // devices that connect together do not send together
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		case <-r.stale:
		}
		wait = InventoryEvery + rand.N(InventoryEvery/10)
		if err := r.TakeInventory(ctx, service); err != nil && ctx.Err() == nil {
			r.log.Warn("the inventory is sent later", "error", err)
			wait = 10*time.Second + rand.N(20*time.Second)
		}
	}
}

// TakeInventory takes the inventory now, and sends what changed since the service last had it. It
// returns once the service has it.
func (r *Reporter) TakeInventory(ctx context.Context, service calls.Service) error {
	r.inventory.mu.Lock()
	defer r.inventory.mu.Unlock()
	items, err := r.host.Lister.Items(ctx)
	if err != nil {
		return err
	}
	now := inventory.Of(items)
	err = service.Post(ctx, "/inventory", inventory.Compare(r.inventory.load(), now), nil)
	var no *calls.Refused
	if errors.As(err, &no) && no.Status == http.StatusConflict { // the service does not have what we took it to have
		err = service.Post(ctx, "/inventory", inventory.Compare(nil, now), nil)
	}
	if err != nil {
		return err
	}
	if err := r.inventory.save(now); err != nil {
		r.log.Warn("the inventory cannot be kept; it is sent whole the next time", "error", err)
	}
	return nil
}

// Inventory is what was last taken; nil where nothing was.
func (r *Reporter) Inventory() inventory.Snapshot {
	r.inventory.mu.Lock()
	defer r.inventory.mu.Unlock()
	return r.inventory.load()
}

// InventoryChanged has the inventory taken soon: what the device consists of has perhaps changed.
func (r *Reporter) InventoryChanged() { poke(r.stale) }
