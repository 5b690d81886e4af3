package vitals

import (
	"bufio"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/series"
	"moorwatch.example/service/front"
)

// tierNames are the tiers as the contract names them.
var tierNames = [...]string{series.Raw: "raw", series.FiveMinutes: "5-minute", series.Hourly: "hourly"}

// GetReadings shows the history of a device: GET /devices/{id}/readings.
func (v *Service) GetReadings(c *gin.Context, id api.ID, in api.GetReadingsParams) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		now := time.Now()
		to := now
		if in.To != nil {
			to = *in.To
		}
		from := to.Add(-24 * time.Hour)
		if in.From != nil {
			from = *in.From
		}
		if !from.Before(to) || to.Sub(from) > 10*366*24*time.Hour {
			return front.Problem(http.StatusBadRequest, "The span of time cannot be shown.",
				"from must lie before to, by at most ten years.")
		}
		d, err := v.devices.Device(ctx, id)
		if err != nil {
			return err
		}
		buckets := front.Limit(in.Buckets, 300)
		tier := v.keep.Choose(to.Sub(from)/time.Duration(buckets), from, now)
		if step := tier.Step(); step > 0 { // buckets no finer than what is kept, or they would look like gaps
			from = from.Truncate(step)
			buckets = max(1, min(buckets, int((to.Sub(from)+step-1)/step)))
		}
		var want func(string) bool
		if in.Name != nil {
			want = func(column string) bool {
				return column == series.CountColumn || slices.Contains(*in.Name, series.Reading(column))
			}
		}
		var tables []*series.Table
		var names []string
		if err := v.store.history(ctx, id, tier, from, to, want, func(t *series.Table) {
			tables = append(tables, t)
			for _, column := range t.Columns {
				if name := series.Reading(column.Name); name != series.CountColumn && !slices.Contains(names, name) &&
					(want == nil || want(name)) {
					names = append(names, name)
				}
			}
		}); err != nil {
			return err
		}
		slices.SortFunc(names, byKind)
		roller := series.NewRoller(from, to, buckets, len(names))
		for _, t := range tables {
			roller.AddTable(t, names)
		}
		out := api.ReadingHistory{From: from, To: to, StepSeconds: roller.Step().Seconds(), Tier: tierNames[tier],
			At: []time.Time{}, Counts: []int{}, Readings: make([]api.ReadingSeries, len(names))}
		for i, name := range names {
			kind, _ := device.KindOf(name)
			out.Readings[i] = api.ReadingSeries{Name: name, Title: title(name), Unit: kind.Unit, Spans: []*series.Span{}}
		}
		for _, p := range roller.Points() {
			out.At, out.Counts = append(out.At, p.At), append(out.Counts, p.Count)
			for i, s := range p.Values {
				out.Readings[i].Spans = append(out.Readings[i].Spans, s)
			}
		}
		switch {
		case in.Format != nil && *in.Format == "csv":
			writeCSV(c, d, &out)
		case in.Format != nil && *in.Format == "openmetrics":
			writeMetrics(c, d, &out)
		default:
			c.JSON(http.StatusOK, out)
		}
		return nil
	})
}

// longestGap is the longest time between two rows of a tier between which a device is taken to
// have read the same.
var longestGap = [...]time.Duration{series.Raw: 11 * time.Minute, series.FiveMinutes: 16 * time.Minute, series.Hourly: 3 * time.Hour}

// Past calls each with a stretch of a device's readings, oldest first, as finely as they are kept
// so long ago, and the longest time between two rows that is no gap.
func (v *Service) Past(ctx context.Context, id uuid.UUID, from, to time.Time, want func(column string) bool,
	each func(t *series.Table, gap time.Duration)) error {
	tier := v.keep.Choose(0, from, time.Now())
	return v.store.history(ctx, id, tier, from, to, want, func(t *series.Table) { each(t, longestGap[tier]) })
}

// byKind orders readings as device.Kinds does, and by what they are read of.
func byKind(a, b string) int {
	place := func(name string) int {
		kind, _ := device.SplitReading(name)
		return slices.IndexFunc(device.Kinds, func(k device.Kind) bool { return k.Name == kind })
	}
	if x, y := place(a), place(b); x != y {
		return x - y
	}
	return strings.Compare(a, b)
}

// title is how a person reads the name of a reading: "Disk in use, /srv".
func title(name string) string {
	kind, ok := device.KindOf(name)
	if !ok {
		return name
	}
	if _, subject := device.SplitReading(name); subject != "" {
		return kind.Title + ", " + subject
	}
	return kind.Title
}

// writeCSV writes a row a reading and bucket (RFC 4180).
func writeCSV(c *gin.Context, d api.Device, h *api.ReadingHistory) {
	front.Download(c, d.Name+"-readings.csv", "text/csv; charset=utf-8")
	w := csv.NewWriter(c.Writer)
	w.Write([]string{"device", "at", "reading", "unit", "min", "mean", "max", "reports"})
	for _, r := range h.Readings {
		for i, s := range r.Spans {
			if s != nil {
				w.Write([]string{front.Cell(d.Name), h.At[i].UTC().Format(time.RFC3339Nano), front.Cell(r.Name), r.Unit, number(s.Min),
					number(s.Mean), number(s.Max), strconv.Itoa(h.Counts[i])})
			}
		}
	}
	w.Flush()
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', 10, 64) }

// writeMetrics writes the means as gauges in the OpenMetrics text format, version 1.0.
func writeMetrics(c *gin.Context, d api.Device, h *api.ReadingHistory) {
	front.Download(c, d.Name+"-readings.txt", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	w := bufio.NewWriter(c.Writer)
	defer w.Flush()
	last := ""
	for _, r := range h.Readings {
		kind, subject := device.SplitReading(r.Name)
		metric := "moorwatch_" + strings.ReplaceAll(kind, "-", "_")
		if metric != last {
			k, _ := device.KindOf(r.Name)
			fmt.Fprintf(w, "# TYPE %s gauge\n# HELP %s %s\n", metric, metric, escapeMetric(strings.TrimSpace(k.Title+" "+k.Unit)))
			last = metric
		}
		labels := fmt.Sprintf(`device="%s"`, escapeMetric(d.Name))
		if subject != "" {
			labels += fmt.Sprintf(`,subject="%s"`, escapeMetric(subject))
		}
		for i, s := range r.Spans {
			if s != nil {
				fmt.Fprintf(w, "%s{%s} %s %.3f\n", metric, labels, number(s.Mean), float64(h.At[i].UnixMilli())/1000)
			}
		}
	}
	fmt.Fprint(w, "# EOF\n")
}

func escapeMetric(s string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s)
}
