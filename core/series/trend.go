package series

import (
	"math"
	"slices"
	"time"
)

// Trend is a straight line through a reading's history.
type Trend struct {
	PerDay float64 // change a day
	Span   time.Duration
	Points int
}

// minTrend is the least history that a trend is told from.
const (
	minTrend  = 12 * time.Hour
	mostTrend = 400 // points; more are thinned
)

// FindTrend fits a line by the median of the slopes between all pairs of points (P. K. Sen,
// "Estimates of the regression coefficient based on Kendall's tau", 1968), which outliers of up to
// a quarter of the points do not move. ok is false for a history shorter than twelve hours. NaN
// values are passed over.
func FindTrend(at []time.Time, values []float64) (t Trend, ok bool) {
	every := 1 + len(at)/mostTrend
	var xs, ys []float64
	for i := 0; i < len(at); i += every {
		if !math.IsNaN(values[i]) {
			xs, ys = append(xs, at[i].Sub(at[0]).Hours()/24), append(ys, values[i])
		}
	}
	n := len(xs)
	if n < 3 {
		return t, false
	}
	t.Span, t.Points = time.Duration((xs[n-1]-xs[0])*24*float64(time.Hour)), n
	if t.Span < minTrend {
		return t, false
	}
	slopes := make([]float64, 0, n*(n-1)/2)
	for i := range xs {
		for j := i + 1; j < n; j++ {
			if dx := xs[j] - xs[i]; dx > 0 {
				slopes = append(slopes, (ys[j]-ys[i])/dx)
			}
		}
	}
	slices.Sort(slopes)
	t.PerDay = slopes[len(slopes)/2]
	return t, true
}
