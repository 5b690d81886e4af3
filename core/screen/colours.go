package screen

import "slices"

// mostColours is how many a palette may hold.
const mostColours = 256

// colours counts the colours of an area, up to one more than a palette may hold.
type colours struct {
	slots [1024]uint32
	place [1024]uint16 // in the palette
	used  [1024]uint32 // the turn in which a slot was filled
	turn  uint32
	list  []uint32
}

func (c *colours) begin() {
	c.turn++
	c.list = c.list[:0]
}

func (c *colours) slot(v uint32) int {
	i := int(v * 2654435761 >> 22)
	for c.used[i] == c.turn && c.slots[i] != v {
		i = (i + 1) & 1023
	}
	return i
}

// add counts the colours of a row; false once there are too many.
func (c *colours) add(row []uint32) bool {
	last := ^uint32(0)
	for _, v := range row {
		if v == last {
			continue
		}
		last = v
		if i := c.slot(v); c.used[i] != c.turn {
			if len(c.list) == mostColours {
				return false
			}
			c.used[i], c.slots[i] = c.turn, v
			c.list = append(c.list, v)
		}
	}
	return true
}

// order sorts the colours, so that palettes of neighbours resemble each other, and numbers them.
func (c *colours) order() {
	slices.Sort(c.list)
	for n, v := range c.list {
		c.place[c.slot(v)] = uint16(n)
	}
}

// bits is how many bits the place of a colour takes among n.
func bits(n int) int {
	switch {
	case n <= 2:
		return 1
	case n <= 4:
		return 2
	case n <= 16:
		return 4
	}
	return 8
}

// pack writes the places of a row's colours.
func (c *colours) pack(b []byte, row []uint32, bits int) []byte {
	var have, n int
	last, place := ^uint32(0), 0
	for _, v := range row {
		if v != last {
			last, place = v, int(c.place[c.slot(v)])
		}
		have, n = have<<bits|place, n+bits
		if n == 8 {
			b = append(b, byte(have))
			have, n = 0, 0
		}
	}
	if n > 0 {
		b = append(b, byte(have<<(8-n)))
	}
	return b
}
