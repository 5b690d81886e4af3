package patch

import (
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"moorwatch.example/core/selector"
)

// Ring is a part of a rollout's devices, which are patched together. A ring that names neither devices nor
// an expression nor a share takes all that are left.
type Ring struct {
	Name    string   `json:"name"`
	Devices []string `json:"devices,omitempty"` // by their ids
	Where   string   `json:"where,omitempty"`   // an expression of core/selector
	Share   float64  `json:"share,omitempty"`   // percent of all devices of the rollout
	// SoakMinutes is how long those that were patched are watched before they are judged.
	SoakMinutes int `json:"soak_minutes"`
}

// Bounds of rings.
const (
	maxRings = 10
	maxSoak  = 60 * 24 * 60
)

// ValidateRings refuses rings that cannot be, and says what to write.
func ValidateRings(rings []Ring) error {
	if len(rings) == 0 || len(rings) > maxRings {
		return fmt.Errorf("a rollout has 1 to %d rings", maxRings)
	}
	share := 0.0
	for i, r := range rings {
		ways := 0
		for _, set := range []bool{len(r.Devices) > 0, r.Where != "", r.Share != 0} {
			if set {
				ways++
			}
		}
		switch {
		case strings.TrimSpace(r.Name) == "" || len(r.Name) > maxText:
			return fmt.Errorf("give ring %d a name", i+1)
		case ways > 1:
			return fmt.Errorf("ring %s names devices, or gives an expression, or a share: choose one", r.Name)
		case ways == 0 && i < len(rings)-1:
			return fmt.Errorf("ring %s would take all that are left: only the last ring may", r.Name)
		case r.Share < 0 || r.Share > 100:
			return fmt.Errorf("ring %s has a share of 0 to 100 %%", r.Name)
		case r.SoakMinutes < 0 || r.SoakMinutes > maxSoak:
			return fmt.Errorf("ring %s is watched for 0 to %d minutes", r.Name, maxSoak)
		}
		share += r.Share
		if r.Where != "" {
			if _, err := selector.Compile(r.Where); err != nil {
				return fmt.Errorf("ring %s: %w", r.Name, err)
			}
		}
	}
	if share > 100 {
		return errors.New("the shares add up to more than 100 %")
	}
	return nil
}

// Member is a device that a rollout is meant for.
type Member struct {
	ID      string
	Subject *selector.Subject
}

// Assign tells for each device in which ring it is: the number of the first ring that takes it, or -1 where
// none does. Shares are drawn by the seed, the same at each call.
func Assign(seed string, rings []Ring, all []Member, now time.Time) ([]int, error) {
	at := make([]int, len(all))
	for i := range at {
		at[i] = -1
	}
	for n, r := range rings {
		if r.Where == "" && len(r.Devices) == 0 {
			continue
		}
		named := map[string]bool{}
		for _, id := range r.Devices {
			named[id] = true
		}
		var match *selector.Selector
		if r.Where != "" {
			var err error
			if match, err = selector.Compile(r.Where); err != nil {
				return nil, err
			}
		}
		for i, m := range all {
			if at[i] >= 0 {
				continue
			}
			takes := named[m.ID]
			if match != nil {
				takes, _ = match.Match(m.Subject, now) // what cannot be told of a device does not take it
			}
			if takes {
				at[i] = n
			}
		}
	}
	var left []int
	for i := range all {
		if at[i] < 0 {
			left = append(left, i)
		}
	}
	lot := make(map[int]uint64, len(left))
	for _, i := range left {
		h := fnv.New64a()
		h.Write([]byte(seed + "\x00" + all[i].ID))
		lot[i] = h.Sum64()
	}
	slices.SortFunc(left, func(a, b int) int {
		if lot[a] < lot[b] {
			return -1
		}
		return 1
	})
	for n, r := range rings {
		take := len(left)
		switch {
		case r.Share > 0: // at least one
			take = min(max(int(r.Share/100*float64(len(all))+0.5), 1), len(left))
		case r.Where != "" || len(r.Devices) > 0:
			continue
		}
		for _, i := range left[:take] {
			at[i] = n
		}
		left = left[take:]
	}
	return at, nil
}
