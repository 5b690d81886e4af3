package serving

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"moorwatch.example/agent/files"
	"moorwatch.example/agent/query"
	"moorwatch.example/contract/link"
	"moorwatch.example/uplink"
)

// The quiet tools: what they are asked comes as JSON, and what they answer goes as JSON, one value, or one a line as it
// comes.

func (v *Server) processRoutes(mux *http.ServeMux, c connection) {
	p := c.offered.Processes
	mux.HandleFunc("POST /processes/list", reply(func(ctx context.Context, _ struct{}) (link.Processes, error) {
		return p.Another().List(ctx)
	}))
	mux.HandleFunc("POST /processes/watch", lines(v.watchProcesses))
	mux.HandleFunc("POST /processes/past", reply(func(ctx context.Context, _ struct{}) (link.Spikes, error) { return p.Past(ctx) }))
	mux.HandleFunc("POST /processes/do", reply(p.Do))
	mux.HandleFunc("POST /processes/start", reply(p.Start))
}

func (v *Server) serviceRoutes(mux *http.ServeMux, c connection) {
	s := c.offered.Services
	mux.HandleFunc("POST /services/list", reply(func(ctx context.Context, _ struct{}) (link.Services, error) { return s.List(ctx) }))
	mux.HandleFunc("POST /services/service", reply(s.Service))
	mux.HandleFunc("POST /services/do", reply(s.Do))
}

func (v *Server) eventRoutes(mux *http.ServeMux, c connection) {
	e := c.offered.Events
	mux.HandleFunc("POST /events/sources", reply(func(ctx context.Context, _ struct{}) (link.EventSources, error) {
		return e.Sources(ctx)
	}))
	mux.HandleFunc("POST /events/read", lines(e.Events))
}

func (v *Server) networkRoutes(mux *http.ServeMux, c connection) {
	n := c.offered.Network
	mux.HandleFunc("POST /network/read", reply(func(ctx context.Context, _ struct{}) (link.Network, error) { return n.Network(ctx) }))
	mux.HandleFunc("POST /network/reach", lines(n.Reach))
	mux.HandleFunc("POST /network/scan", lines(n.Scan))
	mux.HandleFunc("POST /network/wake", reply(n.Wake))
}

func (v *Server) settingRoutes(mux *http.ServeMux, c connection) {
	s := c.offered.Settings
	mux.HandleFunc("POST /settings/list", reply(s.List))
	mux.HandleFunc("POST /settings/search", lines(s.Search))
	mux.HandleFunc("POST /settings/do", reply(s.Do))
}

func (v *Server) queryRoutes(mux *http.ServeMux, c connection) {
	q := query.New(c.offered)
	mux.HandleFunc("POST /queries/classes", reply(func(ctx context.Context, _ struct{}) (link.QueryClasses, error) {
		return q.Classes(ctx)
	}))
	mux.HandleFunc("POST /queries/ask", lines(q.Ask))
}

func (v *Server) powerRoutes(mux *http.ServeMux, c connection) {
	mux.HandleFunc("POST /power/do", reply(c.offered.Power.Do))
}

func (v *Server) peopleRoutes(mux *http.ServeMux, c connection) {
	p := c.offered.People
	mux.HandleFunc("POST /people/list", reply(func(ctx context.Context, _ struct{}) (link.PresenceList, error) { return p.People(ctx) }))
	mux.HandleFunc("POST /people/show", reply(p.Show))
	mux.HandleFunc("POST /people/clip", reply(p.Clip))
}

// maxAsked is the most that a tool may be asked with, in bytes: a text that is written back.
const maxAsked = 4*link.MaxText + 64<<10

func asked[In any](w http.ResponseWriter, r *http.Request) (in In, ok bool) {
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxAsked)).Decode(&in); err != nil && !errors.Is(err, io.EOF) {
		http.Error(w, "what is asked for cannot be read: "+err.Error(), http.StatusBadRequest)
		return in, false
	}
	return in, true
}

// fail answers with the status and reason of a problem.
func fail(w http.ResponseWriter, err error) {
	http.Error(w, err.Error(), link.StatusOf(err, http.StatusUnprocessableEntity))
}

// reply serves what is answered with one value.
func reply[In, Out any](do func(ctx context.Context, in In) (Out, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		in, ok := asked[In](w, r)
		if !ok {
			return
		}
		out, err := do(r.Context(), in)
		if err != nil {
			fail(w, err)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(out)
	}
}

// lines serves what is answered with values as they come. An error after the first is the last line.
func lines[In, Event any](do func(ctx context.Context, in In, send func(Event) error) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		in, ok := asked[In](w, r)
		if !ok {
			return
		}
		out, control := json.NewEncoder(w), http.NewResponseController(w)
		begun := false
		send := func(e Event) error {
			begun = true
			if err := out.Encode(e); err != nil {
				return err
			}
			return control.Flush()
		}
		err := do(r.Context(), in, send)
		switch {
		case err == nil || r.Context().Err() != nil:
		case begun:
			out.Encode(map[string]string{"error": err.Error()})
		default:
			fail(w, err)
		}
	}
}

func (v *Server) fileRoutes(mux *http.ServeMux, c connection) {
	f, gate := v.files, c.gate
	mux.HandleFunc("POST /files/list", lines(f.List))
	mux.HandleFunc("POST /files/entry", reply(f.Entry))
	mux.HandleFunc("POST /files/read", reply(f.ReadText))
	mux.HandleFunc("POST /files/write", reply(f.WriteText))
	mux.HandleFunc("POST /files/follow", lines(f.Follow))
	mux.HandleFunc("POST /files/change", lines(f.Change))
	mux.HandleFunc("POST /files/removed", reply(f.Removed))
	mux.HandleFunc("POST /uploads", reply(f.Begin))
	mux.HandleFunc("POST /uploads/{id}/state", func(w http.ResponseWriter, r *http.Request) {
		reply(func(ctx context.Context, _ struct{}) (link.Upload, error) { return f.State(ctx, r.PathValue("id")) })(w, r)
	})
	mux.HandleFunc("POST /uploads/{id}/finish", func(w http.ResponseWriter, r *http.Request) {
		reply(func(ctx context.Context, end link.UploadEnd) (link.FileEntry, error) {
			return f.Finish(ctx, r.PathValue("id"), end)
		})(w, r)
	})
	mux.HandleFunc("POST /uploads/{id}/drop", func(w http.ResponseWriter, r *http.Request) {
		reply(func(ctx context.Context, _ struct{}) (struct{}, error) { return f.Drop(ctx, r.PathValue("id")) })(w, r)
	})
	mux.HandleFunc("GET /uploads/{id}/content", func(w http.ResponseWriter, r *http.Request) {
		offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
		if err != nil {
			http.Error(w, "offset is a number of bytes", http.StatusBadRequest)
			return
		}
		err = f.Continue(r.PathValue("id"), offset, func(out io.Writer) error {
			return receive(w, r, out, func([]byte) error { return nil }) // its digest comes with its end
		})
		if err != nil {
			fail(w, err)
		}
	})
	mux.HandleFunc("GET /files/unpack", func(w http.ResponseWriter, r *http.Request) { v.serveUnpack(w, r) })
	mux.HandleFunc("GET /files/content", func(w http.ResponseWriter, r *http.Request) {
		offset, _ := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
		d, err := f.Open(r.URL.Query().Get("path"), offset)
		v.send(w, r, gate, d, err)
	})
	mux.HandleFunc("GET /files/archive", func(w http.ResponseWriter, r *http.Request) {
		d, err := f.Archive(r.Context(), r.URL.Query()["path"], r.URL.Query().Get("format"))
		v.send(w, r, gate, d, err)
	})
}

// send sends a download.
func (v *Server) send(w http.ResponseWriter, r *http.Request, gate *uplink.Gate, d *files.Download, err error) {
	if err != nil {
		fail(w, err)
		return
	}
	defer d.Close()
	w.Header().Set(link.SizeHeader, strconv.FormatInt(d.Size, 10))
	w.Header().Set(link.TagHeader, d.Tag)
	stream, err := uplink.AcceptBulk(w, r)
	if err != nil {
		return
	}
	if _, err := uplink.SendBulk(r.Context(), stream, gate, d, d.Digest); err != nil {
		v.config.Log.Debug("a download ended early", "error", err)
	}
}

// receive hands what comes by uplink.Bulk to a writer.
func receive(w http.ResponseWriter, r *http.Request, out io.Writer, content func(digest []byte) error) error {
	stream, err := uplink.AcceptBulk(w, r)
	if err != nil {
		return nil // it was answered
	}
	defer stream.Close()
	stop := context.AfterFunc(r.Context(), func() { stream.Close() })
	defer stop()
	uplink.ReceiveBulk(stream, out, content) // the sender is told what goes wrong
	return nil
}

// serveUnpack puts the files of a tar below a folder as they come.
func (v *Server) serveUnpack(w http.ResponseWriter, r *http.Request) {
	pr, pw := io.Pipe()
	sum := newSum(pr)
	unpacked := make(chan error, 1)
	go func() {
		_, err := v.files.Unpack(r.Context(), r.URL.Query().Get("folder"), sum)
		pr.CloseWithError(err)
		unpacked <- err
	}()
	receive(w, r, pw, func(digest []byte) error {
		pw.Close()
		if err := <-unpacked; err != nil {
			return err
		}
		if got := sum.digest(); got != hex.EncodeToString(digest) {
			return fmt.Errorf("what came is not what was sent: its SHA-256 is %s", got)
		}
		return nil
	})
	pw.CloseWithError(io.ErrUnexpectedEOF) // where it was cut
}

// watchProcesses sends all processes at once and every LiveEvery until the service leaves.
func (v *Server) watchProcesses(ctx context.Context, _ struct{}, send func(link.Processes) error) error {
	p := v.config.Host.Processes.Another()
	tick := time.NewTicker(LiveEvery)
	defer tick.Stop()
	for {
		list, err := p.List(ctx)
		if err != nil {
			return err
		}
		if err := send(list); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}
