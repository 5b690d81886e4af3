package series

import "encoding/binary"

// AppendRow writes the values of one row beside each other, each as a signed varint of its
// quantum's steps: what a row takes until it is compressed with others.
func AppendRow(out []byte, q Quantum, value float64) []byte {
	return binary.AppendVarint(out, q.steps(value))
}

// Row reads what AppendRow wrote: n values, calling each with their place. A row that is cut short
// is an error.
func Row(data []byte, n int, quantum func(i int) Quantum, each func(i int, value float64)) error {
	for i := range n {
		v, size := binary.Varint(data)
		if size <= 0 {
			return errDamaged
		}
		data = data[size:]
		each(i, quantum(i).value(v))
	}
	return nil
}
