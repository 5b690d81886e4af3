package suspect

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
)

func TestOddsRatio(t *testing.T) {
	// Worked by hand: (20.5 × 90.5) / (10.5 × 5.5) = 32.13; the logarithm's error is 0.5804, so the ends are e^±1.1376 away.
	ratio, low, high := Counts{20, 10, 5, 90}.OddsRatio(0.95)
	if math.Abs(ratio-32.13) > 0.01 || math.Abs(low-10.30) > 0.01 || math.Abs(high-100.2) > 0.1 {
		t.Errorf("%.2f from %.2f to %.2f", ratio, low, high)
	}
}

// The change that causes an alert comes out first among many that do not; and where none does,
// none is offered in nineteen of twenty worlds.
func TestRank(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	world := func(cause bool) []Candidate {
		const devices, changes = 60, 40
		var has [changes][devices]bool
		for c := range changes {
			share := random.Float64()
			for d := range devices {
				has[c][d] = random.Float64() < share
			}
		}
		for d := range devices {
			has[7][d] = d%2 == 0
		}
		var all []Candidate
		var ill [devices]bool
		for d := range devices {
			ill[d] = random.Float64() < 0.1 || (cause && has[7][d] && random.Float64() < 0.85)
		}
		for c := range changes {
			k := Candidate{ID: fmt.Sprint(c)}
			for d := range devices {
				switch {
				case has[c][d] && ill[d]:
					k.Counts.ChangedWith++
				case has[c][d]:
					k.Counts.ChangedWithout++
				case ill[d]:
					k.Counts.OthersWith++
				default:
					k.Counts.OthersWithout++
				}
			}
			all = append(all, k)
		}
		return all
	}
	found, false_ := 0, 0
	for range 100 {
		if s := Rank(world(true)); len(s) > 0 && s[0].ID == "7" && s[0].Low > 1 && s[0].Low < s[0].Odds && s[0].Odds < s[0].High {
			found++
		}
		if len(Rank(world(false))) > 0 {
			false_++
		}
	}
	if found < 98 || false_ > 10 {
		t.Errorf("the cause is found in %d of 100 worlds, and one is named in %d of 100 without", found, false_)
	}
}

func TestTooFewAreNoSuspicion(t *testing.T) {
	if got := Rank([]Candidate{{"a", Counts{2, 0, 0, 500}}, {"b", Counts{0, 5, 4, 100}}, {"c", Counts{5, 50, 5, 50}}}); len(got) != 0 {
		t.Errorf("%+v", got)
	}
}
