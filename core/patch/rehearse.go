package patch

import "math/rand/v2"

// Rehearse plays a rollout over so many devices in three rings, of 5 % and 25 % and the rest, with the
// usual gate, where the updates break something at a share of the devices that have them. It returns
// after which ring the rollout was held, counted from 0, and -1 where it was not. By this the gate's rates
// of error are measured: alerts and failures that come without the updates are drawn as they come in an
// ordinary fleet.
func Rehearse(seed uint64, devices int, broken float64) int {
	r := rand.New(rand.NewPCG(seed, 1))
	draw := func(n int, p float64) (s Share) {
		for s.Of = n; n > 0; n-- {
			if r.Float64() < p {
				s.Bad++
			}
		}
		return s
	}
	seconds := func(n int) []float64 {
		all := make([]float64, min(n, 2000))
		for i := range all {
			all[i] = 25 * (1 + r.ExpFloat64())
		}
		return all
	}
	const alerts, crashes, failures = 0.03, 0.01, 0.01
	patched := 0
	for n, share := range []float64{0.05, 0.25} {
		ring := int(share * float64(devices))
		patched += ring
		left := devices - patched
		f := Facts{Installs: draw(ring, failures), Alerts: draw(ring, alerts+(1-alerts)*broken), Others: draw(left, alerts),
			Crashes: draw(ring, crashes), Crash0: draw(left, crashes),
			LogOn: seconds(ring), LogOn0: seconds(left), Start: seconds(ring), Start0: seconds(left)}
		if !(Gate{}).Judge(f).Go {
			return n
		}
	}
	return -1
}
