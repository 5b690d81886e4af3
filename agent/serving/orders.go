package serving

import (
	"bufio"
	"errors"
	"os"
	"path/filepath"
	"sync"
)

// orders remembers which orders were begun, through restarts, so that each is carried out at most
// once.
type orders struct {
	mu   sync.Mutex
	path string
	seen map[string]struct{}
	list []string // oldest first
}

// remembered is how many orders are remembered at least.
const remembered = 2000

var errOrderDone = errors.New("this order was carried out before")

func openOrders(dir string) (*orders, error) {
	o := &orders{path: filepath.Join(dir, "orders"), seen: map[string]struct{}{}}
	f, err := os.Open(o.path)
	if errors.Is(err, os.ErrNotExist) {
		return o, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		o.note(s.Text())
	}
	return o, nil
}

func (o *orders) note(id string) {
	if _, ok := o.seen[id]; !ok {
		o.seen[id] = struct{}{}
		o.list = append(o.list, id)
	}
}

// begin notes an order on disk before it is carried out, or fails.
func (o *orders) begin(id string) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if _, ok := o.seen[id]; ok {
		return errOrderDone
	}
	flags := os.O_CREATE | os.O_APPEND | os.O_WRONLY
	lines := id + "\n"
	if len(o.list) >= 2*remembered { // begin the file anew with the latest
		for _, old := range o.list[:remembered] {
			delete(o.seen, old)
		}
		o.list = append([]string(nil), o.list[remembered:]...)
		lines = ""
		for _, kept := range append(o.list, id) {
			lines += kept + "\n"
		}
		flags |= os.O_TRUNC
	}
	f, err := os.OpenFile(o.path, flags, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(lines)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	o.note(id)
	return nil
}
