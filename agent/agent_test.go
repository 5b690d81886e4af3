package agent

import (
	"errors"
	"fmt"
	"net/http"
	"testing"
	"time"

	"moorwatch.example/contract/link"
)

func TestPause(t *testing.T) {
	for failures, most := range []int{1, 2, 4, 8, 16, 20, 20, 20} {
		for range 200 {
			if got := pause(failures, errors.New("no route")); got > time.Duration(most)*time.Second+50*time.Millisecond {
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
