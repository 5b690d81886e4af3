package series

import (
	"errors"
	"math/bits"
)

// The entropy coder: an adaptive binary range coder with carry (as in G. N. N. Martin, "Range
// encoding", 1979, and its binary form). Each bit has a model that learns how often it is set, so
// that no table travels with a chunk of a few hundred samples.

const (
	topRange = 1 << 24
	probBits = 15
)

// model is the probability that a bit is clear, learnt at two speeds whose mean is used.
type model struct{ fast, slow uint16 }

func newModel() model { return model{1 << (probBits - 1), 1 << (probBits - 1)} }

func (m *model) clear() uint32 { return max((uint32(m.fast)+uint32(m.slow))>>1, 1) }

func (m *model) learn(set bool) {
	if set {
		m.fast -= m.fast >> 4
		m.slow -= m.slow >> 7
	} else {
		m.fast += (1<<probBits - 1 - m.fast) >> 4
		m.slow += (1<<probBits - 1 - m.slow) >> 7
	}
}

type encoder struct {
	low   uint64
	width uint32
	cache byte
	held  int // bytes that a carry may still change
	out   []byte
}

func newEncoder() *encoder { return &encoder{width: 1<<32 - 1, held: 1} }

func (e *encoder) bit(m *model, set bool) {
	bound := e.width >> probBits * m.clear()
	if set {
		e.low += uint64(bound)
		e.width -= bound
	} else {
		e.width = bound
	}
	m.learn(set)
	e.normalise()
}

// plain writes the lowest n bits of v, each taken for as likely set as clear.
func (e *encoder) plain(v uint64, n int) {
	for i := n - 1; i >= 0; i-- {
		e.width >>= 1
		if v>>i&1 == 1 {
			e.low += uint64(e.width)
		}
		e.normalise()
	}
}

func (e *encoder) normalise() {
	for e.width < topRange {
		e.width <<= 8
		e.shift()
	}
}

func (e *encoder) shift() {
	if uint32(e.low) < 0xff000000 || e.low>>32 != 0 {
		carry := byte(e.low >> 32)
		for b := e.cache; e.held > 0; e.held-- {
			e.out = append(e.out, b+carry)
			b = 0xff
		}
		e.cache = byte(e.low >> 24)
	}
	e.held++
	e.low = e.low << 8 & 0xffffffff
}

// finish ends the code with as few bytes as tell it apart; a reader takes zeros for what follows.
func (e *encoder) finish() []byte {
	for range 5 {
		e.shift()
	}
	out := e.out[1:] // the first byte is always zero
	for len(out) > 0 && out[len(out)-1] == 0 {
		out = out[:len(out)-1]
	}
	return out
}

type decoder struct {
	code, width uint32
	in          []byte
	past        int // bytes read beyond the end
}

func newDecoder(in []byte) *decoder {
	d := &decoder{width: 1<<32 - 1, in: in}
	for range 4 {
		d.code = d.code<<8 | uint32(d.next())
	}
	return d
}

func (d *decoder) next() byte {
	if len(d.in) == 0 {
		d.past++
		return 0
	}
	b := d.in[0]
	d.in = d.in[1:]
	return b
}

func (d *decoder) bit(m *model) bool {
	bound := d.width >> probBits * m.clear()
	set := d.code >= bound
	if set {
		d.code -= bound
		d.width -= bound
	} else {
		d.width = bound
	}
	m.learn(set)
	d.normalise()
	return set
}

func (d *decoder) plain(n int) (v uint64) {
	for range n {
		d.width >>= 1
		v <<= 1
		if d.code >= d.width {
			d.code -= d.width
			v |= 1
		}
		d.normalise()
	}
	return v
}

func (d *decoder) normalise() {
	for d.width < topRange {
		d.width <<= 8
		d.code = d.code<<8 | uint32(d.next())
	}
}

// Classes of a residual: 0 for none, n for one of n bits, and one for a value that is not there.
const (
	classBits = 6
	absent    = 1<<classBits - 1
	contexts  = 12
)

// residuals models the residuals of one column: the class in the context of the last class, the
// sign, and the two bits below the highest.
type residuals struct {
	class [contexts][1 << classBits]model
	sign  [3]model
	upper [absent][4]model
	last  int
	way   int // sign of the last residual: 0 for none, 1 or 2
}

func newResiduals() *residuals {
	r := &residuals{}
	for i := range r.class {
		for j := range r.class[i] {
			r.class[i][j] = newModel()
		}
	}
	for i := range r.sign {
		r.sign[i] = newModel()
	}
	for i := range r.upper {
		for j := range r.upper[i] {
			r.upper[i][j] = newModel()
		}
	}
	return r
}

func (r *residuals) context() int { return min(r.last, contexts-1) }

func (r *residuals) encode(e *encoder, v int64, missing bool) {
	size, negative := uint64(v), v < 0
	if negative {
		size = uint64(-v)
	}
	class := bits.Len64(size)
	if missing {
		class = absent
	}
	models := &r.class[r.context()]
	node := 1
	for i := classBits - 1; i >= 0; i-- {
		set := class>>i&1 == 1
		e.bit(&models[node], set)
		node = node<<1 | b2i(set)
	}
	r.last = class
	if class == 0 || missing {
		r.way = 0
		return
	}
	e.bit(&r.sign[r.way], negative)
	r.way = 1 + b2i(negative)
	rest := class - 1
	node = 1
	for range min(rest, 2) {
		rest--
		set := size>>rest&1 == 1
		e.bit(&r.upper[class][node], set)
		node = node<<1 | b2i(set)
	}
	e.plain(size, rest)
}

func (r *residuals) decode(d *decoder) (v int64, missing bool) {
	models := &r.class[r.context()]
	node := 1
	for range classBits {
		node = node<<1 | b2i(d.bit(&models[node]))
	}
	class := node - 1<<classBits
	r.last = class
	if class == 0 || class == absent {
		r.way = 0
		return 0, class == absent
	}
	negative := d.bit(&r.sign[r.way])
	r.way = 1 + b2i(negative)
	size, rest := uint64(1), class-1
	node = 1
	for range min(rest, 2) {
		rest--
		set := b2i(d.bit(&r.upper[class][node]))
		node = node<<1 | set
		size = size<<1 | uint64(set)
	}
	size = size<<rest | d.plain(rest)
	if negative {
		return -int64(size), false
	}
	return int64(size), false
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Ways to guess the next value of a column from those before it.
const (
	guessLast = iota // the value before
	guessNear        // a mean in which each value weighs a quarter
	guessFar         // a mean in which each value weighs a sixteenth
	guesses
)

// guess foretells a column's values.
type guess struct {
	way  byte
	mean int64 // in 256ths
	any  bool
}

func (g *guess) next() int64 { return (g.mean + 128) >> 8 }

func (g *guess) learn(v int64) {
	switch {
	case !g.any || g.way == guessLast:
		g.mean = v << 8
	case g.way == guessNear:
		g.mean += (v<<8 - g.mean) >> 2
	default:
		g.mean += (v<<8 - g.mean) >> 4
	}
	g.any = true
}

var errDamaged = errors.New("the chunk is damaged")

// encodeColumn writes values in the way of guessing that leaves least. missing marks the values
// that are not there; nil when all are.
func encodeColumn(values []int64, missing []bool) []byte {
	best, least := byte(0), -1
	for way := byte(0); way < guesses; way++ {
		g, cost := guess{way: way}, 0
		for i, v := range values {
			if missing != nil && missing[i] {
				continue
			}
			r := v - g.next()
			cost += bits.Len64(uint64(max(r, -r)))
			g.learn(v)
		}
		if least < 0 || cost < least {
			best, least = way, cost
		}
	}
	e, models, g := newEncoder(), newResiduals(), guess{way: best}
	e.plain(uint64(best), 2)
	for i, v := range values {
		if missing != nil && missing[i] {
			models.encode(e, 0, true)
			continue
		}
		models.encode(e, v-g.next(), false)
		g.learn(v)
	}
	return e.finish()
}

// decodeColumn calls each for n values in turn.
func decodeColumn(in []byte, n int, each func(i int, v int64, missing bool)) error {
	d, models := newDecoder(in), newResiduals()
	way := byte(d.plain(2))
	if way >= guesses {
		return errDamaged
	}
	g := guess{way: way}
	for i := range n {
		r, missing := models.decode(d)
		if missing {
			each(i, 0, true)
			continue
		}
		v := g.next() + r
		if v > maxSteps || v < -maxSteps {
			return errDamaged
		}
		g.learn(v)
		each(i, v, false)
	}
	return nil
}
