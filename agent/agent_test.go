package agent

import (
	"errors"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/google/uuid"

	"moorwatch.example/contract/link"
	"moorwatch.example/test/scratch"
)

func TestOrdersAreCarriedOutOnce(t *testing.T) {
	dir := scratch.Dir(t)
	o, err := openOrders(dir)
	if err != nil {
		t.Fatal(err)
	}
	id := uuid.NewString()
	if err := o.begin(id); err != nil {
		t.Fatal(err)
	}
	if err := o.begin(id); !errors.Is(err, errOrderDone) {
		t.Errorf("the second time gives %v", err)
	}
	for range 3 * remembered { // the file is begun anew on the way
		if err := o.begin(uuid.NewString()); err != nil {
			t.Fatal(err)
		}
	}
	last := uuid.NewString()
	if err := o.begin(last); err != nil {
		t.Fatal(err)
	}
	again, err := openOrders(dir) // as after SIGKILL
	if err != nil {
		t.Fatal(err)
	}
	if err := again.begin(last); !errors.Is(err, errOrderDone) {
		t.Errorf("after a restart: %v", err)
	}
	if n := len(again.list); n < remembered || n > 2*remembered+1 {
		t.Errorf("%d orders are remembered", n)
	}
}

func TestPause(t *testing.T) {
	for failures, most := range []time.Duration{1, 2, 4, 8, 16, 20, 20, 20} {
		for range 200 {
			if got := pause(failures, errors.New("no route")); got > most*time.Second+50*time.Millisecond {
				t.Fatalf("after %d failures: %s", failures, got)
			}
		}
	}
	if got := pause(50, errors.New("no route")); got > 21*time.Second {
		t.Errorf("after many failures: %s", got)
	}
	if got := pause(0, fmt.Errorf("refused: %w", &link.Refusal{Status: http.StatusConflict})); got < 5*time.Minute {
		t.Errorf("a second computer with one identity comes back after %s", got)
	}
}
