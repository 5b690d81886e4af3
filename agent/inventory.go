package agent

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
func (a *Agent) keepInventory(ctx context.Context, service caller) {
	wait := rand.N(min(a.Every, 5*time.Second)) // devices that connect together do not send together
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		case <-a.stale:
		}
		wait = InventoryEvery + rand.N(InventoryEvery/10)
		if err := a.takeInventory(ctx, service); err != nil && ctx.Err() == nil {
			a.Log.Warn("the inventory is sent later", "error", err)
			wait = 10*time.Second + rand.N(20*time.Second)
		}
	}
}

// takeInventory takes the inventory now, and sends what changed since the service last had it. It
// returns once the service has it.
func (a *Agent) takeInventory(ctx context.Context, service caller) error {
	a.keeper.mu.Lock()
	defer a.keeper.mu.Unlock()
	items, err := a.Host.Lister.Items(ctx)
	if err != nil {
		return err
	}
	now := inventory.Of(items)
	err = service.post(ctx, "/inventory", inventory.Compare(a.keeper.load(), now), nil)
	var no *refused
	if errors.As(err, &no) && no.status == http.StatusConflict { // the service does not have what we took it to have
		err = service.post(ctx, "/inventory", inventory.Compare(nil, now), nil)
	}
	if err != nil {
		return err
	}
	if err := a.keeper.save(now); err != nil {
		a.Log.Warn("the inventory cannot be kept; it is sent whole the next time", "error", err)
	}
	return nil
}
