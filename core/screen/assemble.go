package screen

import (
	"compress/flate"
	"encoding/binary"
)

// How steps are compressed.
const (
	// packFrom is how long steps must be, in bytes, for compression to be worth it.
	packFrom = 24
	// streamMost is how long they may be to go with the stream, which compresses well and slowly.
	streamMost  = 32 << 10
	streamLevel = 6
	aloneLevel  = 2
)

// assemble puts an update together.
func (e *Encoder) assemble(p *Picture, fresh bool) []byte {
	e.number++
	out := binary.AppendUvarint(make([]byte, 0, 64+len(e.steps)/4+len(e.photos)), e.number)
	out = binary.AppendUvarint(binary.AppendUvarint(out, uint64(p.W)), uint64(p.H))
	steps, flags := e.steps, byte(0)
	if len(steps) >= packFrom {
		flags = e.pack()
		steps = e.packed.Bytes()
		e.ratio += (float64(len(steps))/float64(len(e.steps)) - e.ratio) / 4
	}
	if fresh {
		flags |= flagWhole
	}
	out = append(out, flags)
	out = binary.AppendUvarint(out, uint64(len(steps)))
	if flags&flagStream != 0 {
		out = binary.AppendUvarint(out, uint64(len(e.steps)))
	}
	return append(append(out, steps...), e.photos...)
}

// pack compresses the steps: as a part of the stream where they are few, by themselves and quickly
// where they are many. A buffer takes all that is written.
func (e *Encoder) pack() (flags byte) {
	e.packed.Reset()
	if len(e.steps) > streamMost {
		if e.alone == nil {
			e.alone, _ = flate.NewWriter(&e.packed, aloneLevel)
		} else {
			e.alone.Reset(&e.packed)
		}
		e.alone.Write(e.steps)
		e.alone.Close()
		return flagAlone
	}
	flags = flagStream
	switch {
	case e.stream == nil:
		e.stream, _ = flate.NewWriter(&e.packed, streamLevel)
		flags |= flagFresh
	case e.streamOver:
		e.stream.Reset(&e.packed)
		flags |= flagFresh
	}
	e.streamOver = false
	e.stream.Write(e.steps)
	e.stream.Flush()
	e.packed.Truncate(e.packed.Len() - len(streamEnd))
	return flags
}
