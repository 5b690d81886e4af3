package access

import (
	"context"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/service/front"
)

func (a *Service) sought(c *gin.Context, device *uuid.UUID, text *string, since, until *time.Time) (w sought, err error) {
	w = sought{since: since, until: until}
	if device != nil {
		w.device = device.String()
	}
	if text != nil {
		w.text = *text
	}
	w.devices, err = a.scopes.View(c.Request.Context(), front.CallerOf(c), access.AuditRead)
	return w, err
}

// seen is an entry as the caller may see it: where colleagues work from is for those who read all of the log.
func (w sought) seen(e access.Entry) access.Entry {
	if w.devices != nil {
		e.Address = ""
	}
	return e
}

// ListAudit lists the audit log: GET /audit.
func (a *Service) ListAudit(c *gin.Context, in api.ListAuditParams) {
	w, err := a.sought(c, in.Device, in.Text, in.Since, in.Until)
	if err != nil {
		front.Fail(c, err)
		return
	}
	front.List(c, in.Cursor, in.Limit, int64(math.MaxInt64),
		func(ctx context.Context, before int64, limit int) ([]access.Entry, error) {
			return a.store.audit(ctx, w, before, limit)
		},
		func(e access.Entry) int64 { return e.Seq },
		func(found []access.Entry, next *string) any {
			items := make([]api.AuditEntry, len(found))
			for i, e := range found {
				items[i] = describeEntry(w.seen(e))
			}
			return api.AuditPage{Items: items, Next: next}
		})
}

// exportRows is how many entries are read at once, and exportWithin how long a caller has to take them.
const (
	exportRows   = 1000
	exportWithin = time.Minute
)

// firstExported reads the first entries of an export, and puts it on record.
func (a *Service) firstExported(c *gin.Context, w sought, format string) ([]access.Entry, error) {
	batch, err := a.store.auditAfter(c.Request.Context(), w, 0, exportRows)
	if err != nil {
		return nil, err
	}
	entry := front.EntryOf(c, "audit.export", "begun")
	entry.Detail = format
	return batch, a.log.Record(c.Request.Context(), entry)
}

// ExportAudit sends the audit log as a file, oldest first: GET /audit/export.
func (a *Service) ExportAudit(c *gin.Context, in api.ExportAuditParams) {
	ctx := c.Request.Context()
	w, err := a.sought(c, in.Device, in.Text, in.Since, in.Until)
	var batch []access.Entry
	if err == nil {
		batch, err = a.firstExported(c, w, string(in.Format))
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	kind := map[api.ExportAuditParamsFormat]string{"csv": "text/csv; charset=utf-8", "jsonl": "application/x-ndjson",
		"syslog": "text/plain; charset=utf-8"}[in.Format]
	front.Download(c, "audit."+string(in.Format), kind)
	write := exporter(c.Writer, string(in.Format), w)
	control := http.NewResponseController(c.Writer)
	for err == nil && len(batch) > 0 {
		control.SetWriteDeadline(time.Now().Add(exportWithin))
		if err = write(batch); err == nil {
			batch, err = a.store.auditAfter(ctx, w, batch[len(batch)-1].Seq, exportRows)
		}
	}
	if err != nil {
		panic(http.ErrAbortHandler) // so that the caller does not take it for whole
	}
}

// exporter returns what writes entries in a format.
func exporter(out io.Writer, format string, sees sought) func([]access.Entry) error {
	switch format {
	case "csv":
		w := csv.NewWriter(out)
		w.Write([]string{"seq", "at", "actor", "via", "address", "action", "device", "device_name", "detail", "result", "hash", "actor_id",
			"via_id", "key", "signature"})
		return func(all []access.Entry) error {
			for _, e := range all {
				e = sees.seen(e)
				row := []string{strconv.FormatInt(e.Seq, 10), e.At.UTC().Format(time.RFC3339Nano), e.Actor, e.Via, e.Address, e.Action,
					e.Device, e.DeviceName, e.Detail, e.Result, fmt.Sprintf("%x", e.Hash), e.ActorID, e.ViaID, e.KeyID,
					fmt.Sprintf("%x", e.Signature)}
				for i := range row {
					row[i] = front.Cell(row[i])
				}
				if err := w.Write(row); err != nil {
					return err
				}
			}
			w.Flush()
			return w.Error()
		}
	case "jsonl":
		w := json.NewEncoder(out)
		return func(all []access.Entry) error {
			for _, e := range all {
				if err := w.Encode(describeEntry(sees.seen(e))); err != nil {
					return err
				}
			}
			return nil
		}
	}
	host, _ := os.Hostname()
	return func(all []access.Entry) error {
		for _, e := range all {
			if _, err := fmt.Fprintln(out, sees.seen(e).Syslog(host)); err != nil {
				return err
			}
		}
		return nil
	}
}

func describeEntry(e access.Entry) api.AuditEntry {
	hash := fmt.Sprintf("%x", e.Hash)
	out := api.AuditEntry{Seq: e.Seq, At: e.At, Actor: e.Actor, Via: e.Via, Action: e.Action, Address: e.Address, Result: e.Result,
		Hash: &hash}
	if id, err := uuid.Parse(e.Device); err == nil {
		out.Device, out.DeviceName = &id, &e.DeviceName
	}
	if e.Detail != "" {
		out.Detail = &e.Detail
	}
	for text, to := range map[string]**string{e.ActorID: &out.ActorID, e.ViaID: &out.ViaID, e.KeyID: &out.Key,
		hex.EncodeToString(e.Signature): &out.Signature} {
		if text != "" {
			*to = &text
		}
	}
	return out
}
