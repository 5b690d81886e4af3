package vitals

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/service/front"
)

// How much of a standing is shown.
const (
	standingBins = 24
	standingLike = 12
)

// GetStanding shows where a reading or fact of a device lies among others: GET
// /devices/{id}/standing.
func (v *Service) GetStanding(c *gin.Context, id api.ID, in api.GetStandingParams) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		self, err := v.devices.Device(ctx, id)
		if err != nil {
			return err
		}
		devices, err := v.devices.Chosen(ctx, front.CallerOf(c), access.FleetRead, in.Where, in.Group)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(devices, func(d api.Device) bool { return d.ID == id }) {
			devices = append(devices, self)
		}
		out := api.Standing{Of: in.Of, Title: in.Of, Bins: []api.StandingBin{}, Like: []api.StandingDevice{}}
		kind, numeric := device.KindOf(in.Of)
		if numeric {
			out.Title, out.Unit = title(in.Of), kind.Unit
			err = v.numbers(c, &out, devices, id)
		} else {
			err = v.texts(c, &out, devices, id)
		}
		front.Answer(c, http.StatusOK, out, err)
		return nil
	})
}

// numbers fills in the standing of a reading.
func (v *Service) numbers(c *gin.Context, out *api.Standing, devices []api.Device, self uuid.UUID) error {
	ids, byID := make([]uuid.UUID, len(devices)), map[uuid.UUID]api.Device{}
	for i, d := range devices {
		ids[i], byID[d.ID] = d.ID, d
	}
	var all []float64
	var near []api.StandingDevice
	here := math.NaN()
	err := v.store.latest(c.Request.Context(), ids, func(id uuid.UUID, vitals *device.Vitals) error {
		vitals.Readings(func(name string, value float64) {
			if name != out.Of {
				return
			}
			all = append(all, value)
			if id == self {
				here = value
				return
			}
			near = append(near, api.StandingDevice{ID: id, Name: byID[id].Name, Site: byID[id].Site, Value: &value})
		})
		return nil
	})
	if err != nil {
		return err
	}
	if math.IsNaN(here) {
		return front.Problem(http.StatusNotFound, "This device has no such reading.", fmt.Sprintf("Its last report has no %q.", out.Of))
	}
	out.Numeric, out.Devices, out.Value = true, len(all), &here
	rank := device.Rank(all, here)
	out.Rank = &rank
	for _, b := range device.Distribute(all, here, standingBins) {
		out.Bins = append(out.Bins, api.StandingBin{From: &b.From, To: &b.To, Count: b.Count, Here: b.Here})
	}
	median := device.Median(all)
	out.Median = &median
	slices.SortFunc(near, func(a, b api.StandingDevice) int {
		return cmp.Or(cmp.Compare(math.Abs(*a.Value-here), math.Abs(*b.Value-here)), cmp.Compare(a.Name, b.Name))
	})
	out.Like = append(out.Like, near[:min(len(near), standingLike)]...)
	return nil
}

// texts fills in the standing of a fact: a field of the list's rows, or of what devices say they are.
func (v *Service) texts(c *gin.Context, out *api.Standing, devices []api.Device, self uuid.UUID) error {
	ids := make([]uuid.UUID, len(devices))
	for i, d := range devices {
		ids[i] = d.ID
	}
	values, err := v.store.facts(c.Request.Context(), ids, out.Of)
	if err != nil {
		return err
	}
	var all []string
	for _, d := range devices {
		value, ok, err := field(d, out.Of)
		if err != nil {
			return err
		}
		if ok {
			values[d.ID] = value
		}
		if value, ok := values[d.ID]; ok {
			all = append(all, value)
		}
	}
	here, ok := values[self]
	if !ok {
		return front.Problem(http.StatusNotFound, "This device has no such fact.",
			fmt.Sprintf("There is no %q to compare; try os_version, model or agent_version.", out.Of))
	}
	out.Devices, out.Text = len(all), &here
	for _, b := range device.CountTexts(all, here, standingBins) {
		out.Bins = append(out.Bins, api.StandingBin{Text: &b.Text, Count: b.Count, Here: b.Here})
	}
	for _, d := range devices {
		if value, ok := values[d.ID]; ok && d.ID != self && value == here && len(out.Like) < standingLike {
			out.Like = append(out.Like, api.StandingDevice{ID: d.ID, Name: d.Name, Site: d.Site, Text: &value})
		}
	}
	return nil
}

// field reads a field of a device's row by its name in the contract.
func field(d api.Device, name string) (value string, ok bool, err error) {
	text, err := json.Marshal(d)
	if err != nil {
		return "", false, err
	}
	var fields map[string]any
	if err := json.Unmarshal(text, &fields); err != nil {
		return "", false, err
	}
	switch v := fields[name].(type) {
	case string:
		return v, v != "", nil
	case bool:
		return fmt.Sprint(v), true, nil
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true, nil
	}
	return "", false, nil
}
