//go:build windows

package windows

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

	"moorwatch.example/agent/host"
	"moorwatch.example/agent/host/portable"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/eventlog"
)

// events implements host.Events over the channels of the event log (Windows Event Log API).
type events struct{}

var (
	wevtapi            = windows.NewLazySystemDLL("wevtapi.dll")
	evtOpenChannelEnum = wevtapi.NewProc("EvtOpenChannelEnum")
	evtNextChannelPath = wevtapi.NewProc("EvtNextChannelPath")
	evtOpenLog         = wevtapi.NewProc("EvtOpenLog")
	evtGetLogInfo      = wevtapi.NewProc("EvtGetLogInfo")
	evtQuery           = wevtapi.NewProc("EvtQuery")
	evtSubscribe       = wevtapi.NewProc("EvtSubscribe")
	evtNext            = wevtapi.NewProc("EvtNext")
	evtRender          = wevtapi.NewProc("EvtRender")
	evtOpenPublisher   = wevtapi.NewProc("EvtOpenPublisherMetadata")
	evtFormatMessage   = wevtapi.NewProc("EvtFormatMessage")
	evtClose           = wevtapi.NewProc("EvtClose")
)

const (
	channelPath  = 0x1
	newestFirst  = 0x200
	futureEvents = 1
	asXML        = 1
	messageXML   = 9
	recordCount  = 5 // EvtLogNumberOfLogRecords
)

// eventsOf returns nil on a system that has no channels.
func eventsOf() host.Events {
	if evtOpenChannelEnum.Find() != nil {
		return nil
	}
	h, _, _ := evtOpenChannelEnum.Call(0, 0)
	if h == 0 {
		return nil
	}
	evtClose.Call(h)
	return events{}
}

// classic are the channels that everybody looks for first.
var classic = []string{"System", "Application", "Security", "Setup"}

// mostChannels is the most channels that are listed.
const mostChannels = 300

// Sources implements host.Events: the channels that hold something.
func (events) Sources(ctx context.Context) (link.EventSources, error) {
	out := link.EventSources{Items: []link.EventSource{}}
	h, _, err := evtOpenChannelEnum.Call(0, 0)
	if h == 0 {
		return out, refusal("The event log", err)
	}
	defer evtClose.Call(h)
	name := make([]uint16, 512)
	for len(out.Items) < mostChannels && ctx.Err() == nil {
		var n uint32
		if ok, _, _ := evtNextChannelPath.Call(h, uintptr(len(name)), uintptr(unsafe.Pointer(&name[0])),
			uintptr(unsafe.Pointer(&n))); ok == 0 {
			break
		}
		channel := windows.UTF16ToString(name)
		if records(channel) > 0 || slices.Contains(classic, channel) {
			out.Items = append(out.Items, link.EventSource{Name: channel, Title: channel, Kind: "channel"})
		}
	}
	slices.SortFunc(out.Items, func(a, b link.EventSource) int {
		return cmp.Or(cmp.Compare(place(a.Name), place(b.Name)), strings.Compare(a.Name, b.Name))
	})
	return out, ctx.Err()
}

func place(channel string) int {
	if i := slices.Index(classic, channel); i >= 0 {
		return i
	}
	return len(classic)
}

// variant is EVT_VARIANT.
type variant struct {
	value       uint64
	count, kind uint32
}

// records is how many events a channel holds.
func records(channel string) uint64 {
	path, err := windows.UTF16PtrFromString(channel)
	if err != nil {
		return 0
	}
	h, _, _ := evtOpenLog.Call(0, uintptr(unsafe.Pointer(path)), channelPath)
	if h == 0 {
		return 0
	}
	defer evtClose.Call(h)
	var v variant
	var used uint32
	if ok, _, _ := evtGetLogInfo.Call(h, recordCount, unsafe.Sizeof(v), uintptr(unsafe.Pointer(&v)),
		uintptr(unsafe.Pointer(&used))); ok == 0 {
		return 0
	}
	return v.value
}

// Events implements host.Events.
func (events) Events(ctx context.Context, q link.EventQuery, send func(link.EventBatch) error) error {
	sift, err := portable.NewSift(q)
	if err != nil {
		return err
	}
	channel, err := windows.UTF16PtrFromString(q.Source)
	if err != nil || q.Source == "" {
		return refuse(http.StatusBadRequest, "%q is none of this device's logs.", q.Source)
	}
	r := &reader{publishers: map[string]uintptr{}}
	defer r.close()
	var coming *subscription
	if q.Follow { // begun first, so that nothing is missed in between
		if coming, err = subscribe(channel, channelFilter(q, false)); err != nil {
			return refusal("The channel "+q.Source, err)
		}
		defer coming.close()
	}
	last, err := r.past(ctx, channel, q, sift, send)
	if err != nil {
		return err
	}
	if err := send(link.EventBatch{Live: true, Done: !q.Follow}); err != nil || !q.Follow {
		return err
	}
	sift.Live()
	lines := make(chan []byte, 1024)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer close(lines)
		coming.follow(ctx, func(h uintptr) {
			if text, e, ok := r.read(h); ok && e.Record > last {
				select {
				case lines <- text:
				case <-ctx.Done():
				}
			}
		})
	}()
	defer func() { cancel(); <-ended }()
	return sift.Run(ctx, lines, func(text []byte) (link.Event, bool) {
		e, ok := eventlog.Channel(text)
		return toldEvent(e), ok
	}, send)
}

// past sends what was, and returns the number of the last event.
func (r *reader) past(ctx context.Context, channel *uint16, q link.EventQuery, sift *portable.Sift,
	send func(link.EventBatch) error) (uint64, error) {
	query, err := windows.UTF16PtrFromString(channelFilter(q, true))
	if err != nil {
		return 0, err
	}
	h, _, err := evtQuery.Call(0, uintptr(unsafe.Pointer(channel)), uintptr(unsafe.Pointer(query)), channelPath|newestFirst)
	if h == 0 {
		return 0, refusal("The channel "+q.Source, err)
	}
	defer evtClose.Call(h)
	var list []link.Event
	last := uint64(0)
	err = each(h, func(event uintptr) bool {
		if _, e, ok := r.read(event); ok {
			last = max(last, e.Record)
			if one := toldEvent(e); sift.Wanted(one) && (q.Unit == "" || q.Unit == one.Unit) {
				list = append(list, one)
			}
		}
		return len(list) < sift.Last() && ctx.Err() == nil
	})
	if err != nil {
		return last, refusal("The channel "+q.Source, err)
	}
	slices.Reverse(list)
	for batch := range slices.Chunk(list, 500) {
		if err := send(link.EventBatch{Events: batch}); err != nil {
			return last, err
		}
	}
	return last, ctx.Err()
}

// each calls do with the events that a handle gives, until there are no more or it returns false.
func each(h uintptr, do func(event uintptr) bool) error {
	const within = 2000 // ms
	handles := make([]uintptr, 64)
	for {
		var n uint32
		ok, _, err := evtNext.Call(h, uintptr(len(handles)), uintptr(unsafe.Pointer(&handles[0])), within, 0, uintptr(unsafe.Pointer(&n)))
		if ok == 0 {
			if errors.Is(err, windows.ERROR_NO_MORE_ITEMS) || errors.Is(err, windows.ERROR_TIMEOUT) {
				return nil
			}
			return err
		}
		more := true
		for _, event := range handles[:n] {
			more = more && do(event)
			evtClose.Call(event)
		}
		if !more {
			return nil
		}
	}
}

// subscription is what comes to a channel.
type subscription struct {
	h      uintptr
	signal windows.Handle
}

func subscribe(channel *uint16, query string) (*subscription, error) {
	text, err := windows.UTF16PtrFromString(query)
	if err != nil {
		return nil, err
	}
	s := &subscription{}
	if s.signal, err = windows.CreateEvent(nil, 0, 0, nil); err != nil {
		return nil, err
	}
	if s.h, _, err = evtSubscribe.Call(0, uintptr(s.signal), uintptr(unsafe.Pointer(channel)), uintptr(unsafe.Pointer(text)), 0, 0, 0,
		futureEvents); s.h == 0 {
		windows.CloseHandle(s.signal)
		return nil, err
	}
	return s, nil
}

func (s *subscription) close() {
	evtClose.Call(s.h)
	windows.CloseHandle(s.signal)
}

// follow calls do with each event as it comes, until ctx ends.
func (s *subscription) follow(ctx context.Context, do func(event uintptr)) {
	stop := context.AfterFunc(ctx, func() { windows.SetEvent(s.signal) })
	defer stop()
	for ctx.Err() == nil {
		windows.WaitForSingleObject(s.signal, windows.INFINITE)
		each(s.h, func(event uintptr) bool { do(event); return ctx.Err() == nil })
	}
}

// reader renders events, and keeps what their publishers say about them.
type reader struct{ publishers map[string]uintptr }

func (r *reader) close() {
	for _, h := range r.publishers {
		if h != 0 {
			evtClose.Call(h)
		}
	}
}

// read renders an event: with its message where its publisher has one.
func (r *reader) read(event uintptr) ([]byte, eventlog.Event, bool) {
	text := r.text(func(b []uint16, used *uint32) bool {
		var properties uint32
		ok, _, _ := evtRender.Call(0, event, asXML, uintptr(2*len(b)), uintptr(unsafe.Pointer(&b[0])), uintptr(unsafe.Pointer(used)),
			uintptr(unsafe.Pointer(&properties)))
		*used /= 2
		return ok != 0
	})
	e, ok := eventlog.Channel(text)
	if !ok {
		return text, e, false
	}
	publisher := r.publisher(e.Unit)
	if publisher == 0 {
		return text, e, true
	}
	full := r.text(func(b []uint16, used *uint32) bool {
		ok, _, _ := evtFormatMessage.Call(publisher, event, 0, 0, 0, messageXML, uintptr(len(b)), uintptr(unsafe.Pointer(&b[0])),
			uintptr(unsafe.Pointer(used)))
		return ok != 0
	})
	if more, ok := eventlog.Channel(full); ok && more.Message != "" {
		return full, more, true
	}
	return text, e, true
}

func (r *reader) publisher(name string) uintptr {
	if h, ok := r.publishers[name]; ok {
		return h
	}
	text, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return 0
	}
	h, _, _ := evtOpenPublisher.Call(0, uintptr(unsafe.Pointer(text)), 0, 0, 0)
	r.publishers[name] = h
	return h
}

// text calls get with a buffer, and again with a larger one where it asks for one.
func (r *reader) text(get func(b []uint16, used *uint32) bool) []byte {
	b := make([]uint16, 8<<10)
	var used uint32
	if !get(b, &used) {
		if int(used) <= len(b) || used > 4<<20 {
			return nil
		}
		b = make([]uint16, used)
		if !get(b, &used) {
			return nil
		}
	}
	return []byte(windows.UTF16ToString(b))
}

func toldEvent(e eventlog.Event) link.Event {
	return link.Event{At: e.At, Level: e.Level, Unit: e.Unit, PID: e.PID, Message: e.Message}
}
