package screen_test

import (
	"fmt"

	"moorwatch.example/core/screen"
)

// An encoder writes what has changed of a picture, and a decoder shows it.
func Example() {
	p, _ := screen.NewPicture(64, 48)
	p.Pix[0] = 0x336699
	e := screen.NewEncoder()
	e.Damage(p.Bounds())
	var d screen.Decoder
	err := d.Update(e.Update(p, screen.Wish{}))
	fmt.Printf("%#x %v\n", d.Shown().Pix[0], err)
	// Output:
	// 0x336699 <nil>
}
