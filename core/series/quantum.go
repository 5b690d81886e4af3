package series

import "math"

// Quantum is how finely a kind of reading is kept: in equal steps, or in steps of an equal share of
// the value. A reading finer than its sensor is noise, and noise cannot be compressed.
type Quantum struct {
	Step     float64 // width of a step, in the reading's unit; 0 for relative steps
	Relative float64 // share of the value, such as 0.01; used where Step is 0
}

// Exact keeps whole numbers as they are.
var Exact = Quantum{Step: 1}

// maxSteps bounds what a quantised value may hold, so that differences stay within 64 bits.
const maxSteps = 1 << 50

// steps writes v as a whole number of steps. Relative steps are those of a logarithm, which keep
// zero and the sign.
func (q Quantum) steps(v float64) int64 {
	var n float64
	switch {
	case q.Step > 0:
		n = math.Round(v / q.Step)
	case v < 0:
		n = -math.Round(math.Log1p(-v) / math.Log1p(q.Relative))
	default:
		n = math.Round(math.Log1p(v) / math.Log1p(q.Relative))
	}
	return int64(min(max(n, -maxSteps), maxSteps))
}

func (q Quantum) value(n int64) float64 {
	switch {
	case q.Step >= 1:
		return float64(n) * q.Step
	case q.Step > 0:
		return math.Round(float64(n)*q.Step*1e9) / 1e9 // 0.3, not 0.30000000000000004
	case n < 0:
		return -math.Expm1(float64(-n) * math.Log1p(q.Relative))
	}
	return math.Expm1(float64(n) * math.Log1p(q.Relative))
}

// Round is v as it will be read back.
func (q Quantum) Round(v float64) float64 {
	if math.IsNaN(v) {
		return v
	}
	return q.value(q.steps(v))
}
