package front

import (
	"context"
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/service/db"
)

// Answer answers with a value, or with what went wrong. The value is not looked at where something did.
func Answer(c *gin.Context, status int, value any, err error) {
	if err != nil {
		Fail(c, err)
		return
	}
	c.JSON(status, value)
}

// Done answers a request after which there is nothing to tell, or with what went wrong.
func Done(c *gin.Context, err error) {
	if err != nil {
		Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// Read answers with what do reads.
func Read[Out any](c *gin.Context, do func(ctx context.Context) (Out, error)) {
	out, err := do(c.Request.Context())
	Answer(c, http.StatusOK, out, err)
}

// Change is a change that a caller makes, as it is answered for and put on record.
type Change struct {
	Action, Detail string
	Device         uuid.UUID // that it is done to; zero for none
	DeviceName     string
	What           string // is missing where the database has no row: "group"; "entry" where it is empty
	Taken          *Error // where the database has such a row already; that the name is taken where it is nil
	// Then has the change take effect, before it is put on record; nil for nothing more to do.
	Then func(ctx context.Context) error
}

// Changed finishes a change that was made in the database: err answers the caller, or it takes effect and is put on
// record. It tells whether all went well; where it did not, it has answered.
func Changed(c *gin.Context, audit Recorder, change Change, err error) bool {
	switch {
	case db.Missing(err):
		if change.What == "" {
			change.What = "entry"
		}
		err = NotFound(change.What)
	case db.Duplicate(err) && change.Taken != nil:
		err = change.Taken
	case db.Duplicate(err):
		err = Problem(http.StatusConflict, "There is one of this name already.", "Choose another name.")
	}
	if err == nil && change.Then != nil {
		err = change.Then(c.Request.Context())
	}
	if err == nil {
		entry := EntryOf(c, change.Action, "done")
		entry.Detail, entry.Device, entry.DeviceName = change.Detail, change.Device, change.DeviceName
		err = audit.Record(c.Request.Context(), entry)
	}
	if err != nil {
		Fail(c, err)
	}
	return err == nil
}

// Write finishes a change that the body of a request asks for: do makes it, and completes what is to be put on record
// by what it comes to know; then it takes effect, is put on record, and is answered with a status and what do returned.
// It tells whether all went well.
func Write[In, Out any](c *gin.Context, audit Recorder, status int, change Change,
	do func(ctx context.Context, in In, change *Change) (Out, error)) bool {
	in, ok := Bind[In](c)
	if !ok {
		return false
	}
	out, err := do(c.Request.Context(), in, &change)
	if ok = Changed(c, audit, change, err); ok {
		c.JSON(status, out)
	}
	return ok
}

// Set is Write where there is nothing to answer.
func Set[In any](c *gin.Context, audit Recorder, change Change, do func(ctx context.Context, in In, change *Change) error) bool {
	in, ok := Bind[In](c)
	return ok && Do(c, audit, change, func(ctx context.Context, change *Change) error { return do(ctx, in, change) })
}

// Do is Write of a request without a body, and where there is nothing to answer.
func Do(c *gin.Context, audit Recorder, change Change, do func(ctx context.Context, change *Change) error) bool {
	err := do(c.Request.Context(), &change)
	ok := Changed(c, audit, change, err)
	if ok {
		c.Status(http.StatusNoContent)
	}
	return ok
}
