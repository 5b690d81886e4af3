package front

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"

	"github.com/gin-gonic/gin"
)

// Cursor writes where a page ended, for the caller to hand back.
func Cursor(at any) *string {
	text, err := json.Marshal(at)
	if err != nil {
		panic(err) // cursors are made of texts, numbers and times
	}
	s := base64.RawURLEncoding.EncodeToString(text)
	return &s
}

// After reads a cursor into at, and leaves it as it is when there is none.
func After(cursor *string, at any) error {
	if cursor == nil || *cursor == "" {
		return nil
	}
	text, err := base64.RawURLEncoding.DecodeString(*cursor)
	if err == nil {
		err = json.Unmarshal(text, at)
	}
	if err != nil {
		return Problem(http.StatusBadRequest, "The cursor cannot be read.",
			"Use the next of the page before, unchanged, or start without one.")
	}
	return nil
}

// Limit is the rows of a page: what was asked for, or the contract's default.
func Limit(asked *int, usual int) int {
	if asked == nil {
		return usual
	}
	return *asked
}

// Page cuts rows, of which one more than limit was asked for, to limit; next is the cursor that at
// gives for the last row, or nil on the last page.
func Page[T any](rows []T, limit int, at func(T) any) (page []T, next *string) {
	if len(rows) <= limit {
		if rows == nil {
			rows = []T{}
		}
		return rows, nil
	}
	rows = rows[:limit]
	return rows, Cursor(at(rows[limit-1]))
}

// List answers with one page of a list. from is where the first page begins; read reads up to limit
// rows beyond a place, at tells the place of a row, and page makes the answer.
func List[T, At any](c *gin.Context, cursor *string, limit *int, from At, read func(ctx context.Context, after At, limit int) ([]T, error),
	at func(T) At, page func(items []T, next *string) any) {
	most := Limit(limit, 100)
	err := After(cursor, &from)
	var rows []T
	if err == nil {
		rows, err = read(c.Request.Context(), from, most+1)
	}
	if err != nil {
		Fail(c, err)
		return
	}
	items, next := Page(rows, most, func(row T) any { return at(row) })
	c.JSON(http.StatusOK, page(items, next))
}
