package job

import (
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"moorwatch.example/contract/api"
	"moorwatch.example/service/front"
)

// exportRows is how many runs are read at once, and exportWithin how long they may take to leave.
const (
	exportRows   = 100
	exportWithin = time.Minute
)

// ExportRuns sends the runs of a job as a file: GET /jobs/{id}/export.
func (c *Service) ExportRuns(g *gin.Context, id api.ID, in api.ExportRunsParams) {
	ctx := g.Request.Context()
	j, view, err := c.one(g, id, see)
	w := runsOf{job: id, view: view, whole: true}
	var batch []api.Run
	at := first
	read := func() error {
		all, places, err := c.store.runs(ctx, w, at, exportRows)
		if len(all) > 0 {
			at = places[all[len(all)-1].ID]
		}
		batch = all
		return err
	}
	if err == nil {
		err = read()
	}
	if !c.done(g, "job.export", j.Name+", job "+id.String(), err) {
		return
	}
	kind := map[api.ExportRunsParamsFormat]string{"csv": "text/csv; charset=utf-8", "jsonl": "application/x-ndjson"}[in.Format]
	front.Download(g, "job-"+id.String()[:8]+"."+string(in.Format), kind)
	write := exporter(g.Writer, string(in.Format))
	control := http.NewResponseController(g.Writer)
	for len(batch) > 0 {
		control.SetWriteDeadline(time.Now().Add(exportWithin))
		if err = write(batch); err == nil {
			err = read()
		}
		if err != nil {
			panic(http.ErrAbortHandler) // so that the caller does not take it for whole
		}
	}
}

// exporter returns what writes runs in a format.
func exporter(out io.Writer, format string) func([]api.Run) error {
	if format == "jsonl" {
		w := json.NewEncoder(out)
		return func(all []api.Run) error {
			for _, r := range all {
				if err := w.Encode(r); err != nil {
					return err
				}
			}
			return nil
		}
	}
	w := csv.NewWriter(out)
	w.Write([]string{"device", "state", "turn", "exit", "began_at", "ended_at", "reason", "output", "end_of_output", "bytes_dropped"})
	text := func(s *string) string {
		if s == nil {
			return ""
		}
		return front.Cell(*s)
	}
	moment := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format(time.RFC3339Nano)
	}
	return func(all []api.Run) error {
		for _, r := range all {
			exit, dropped := "", ""
			if r.Exit != nil {
				exit = strconv.Itoa(*r.Exit)
			}
			if r.Dropped != nil {
				dropped = strconv.FormatInt(*r.Dropped, 10)
			}
			if err := w.Write([]string{front.Cell(r.DeviceName), r.State, strings.TrimSpace(text(r.Turn)), exit, moment(r.BeganAt),
				moment(r.EndedAt), text(r.Reason), text(r.Output), text(r.Tail), dropped}); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
}
