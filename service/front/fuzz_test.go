package front

import (
	"testing"
	"time"

	"github.com/google/uuid"
)

// FuzzAfter reads cursors that nobody gave out.
func FuzzAfter(f *testing.F) {
	f.Add(*Cursor(struct {
		At time.Time
		ID uuid.UUID
	}{time.Unix(0, 0), uuid.Nil}))
	f.Add("e30")
	f.Fuzz(func(t *testing.T, cursor string) {
		var at struct {
			At time.Time
			ID uuid.UUID
		}
		_ = After(&cursor, &at)
	})
}
