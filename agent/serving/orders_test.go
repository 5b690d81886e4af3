package serving

import (
	"errors"
	"testing"

	"github.com/google/uuid"

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
