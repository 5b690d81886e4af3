// Package screen is how the picture of a desktop travels to who looks at it: which parts changed,
// which of them only moved, how they are written so that few bytes tell them exactly, how much may be
// under way at once, and how all of it is read again. The console reads the same form in
// web/src/screen/decode.ts. Capturing a desktop, and carrying what is written, is no matter of this
// package; it has no clock.
//
// # The form of an update
//
// Numbers are unsigned and of variable length, as encoding/binary writes them, but for single bytes
// that are said to be such. An update is
//
//	number       which update it is, one more than the one before
//	size         width and height of the whole picture, 1 to MaxSide each
//	flags        a byte: 1 when the steps are compressed (RFC 1951); 2 when they are compressed as
//	             the continuation of those before that were so, so that what was written once costs
//	             little again, and 4 when that stream begins here; 8 when nothing before is needed:
//	             all of the picture is black first, as it always is when its size changes
//	length       of the steps as they follow, in bytes, and with flag 2 their length when plain
//	steps        see below
//	photographs  to the end: a rectangle, a length, and a JPEG of the rectangle's size (or smaller,
//	             then drawn larger)
//
// A part of the stream ends at an empty stored block; its last four bytes, 00 00 FF FF, are left out.
//
// A rectangle is its left and upper edge, width and height. A step is a byte that names it, a
// rectangle, and:
//
//	move     how far what is in the rectangle now stood right of and below it before, each as a
//	         signed number (zigzag)
//	fill     a colour: three bytes, red, green and blue
//	palette  a byte, one less than the number of colours; the colours; for each row of the
//	         rectangle the places of its pixels in the palette, of 1, 2, 4 or 8 bits each, the
//	         fewest that do, the leftmost pixel in the highest bits, and each row filled up to a byte
//	pixels   the rectangle's pixels in three planes: green, red less green, blue less green, each
//	         as its difference from what its neighbours foretell (see foretell), modulo 256
package screen
