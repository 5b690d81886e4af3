package desk

import (
	"encoding/binary"
	"image"
	"image/color"
	"image/draw"
)

// dibHeader is the size of BITMAPINFOHEADER, in bytes.
const dibHeader = 40

// mostSide bounds pictures of a clipboard, in pixels.
const mostSide = 8192

// fromDIB reads a packed bitmap of 24 or 32 bits a pixel, as clipboards hold it (BITMAPINFOHEADER);
// nil for another.
func fromDIB(b []byte) image.Image {
	if len(b) < dibHeader {
		return nil
	}
	size := int64(binary.LittleEndian.Uint32(b))
	w, h := int(int32(binary.LittleEndian.Uint32(b[4:]))), int(int32(binary.LittleEndian.Uint32(b[8:])))
	bits, compression := int(binary.LittleEndian.Uint16(b[14:])), binary.LittleEndian.Uint32(b[16:])
	down := h < 0
	if down {
		h = -h
	}
	const fields = 3 // BI_BITFIELDS
	if compression == fields && size == dibHeader {
		size += 12
	}
	if w < 1 || h < 1 || w > mostSide || h > mostSide || (bits != 24 && bits != 32) || (compression != 0 && compression != fields) ||
		size < dibHeader || size > int64(len(b)) {
		return nil
	}
	stride, pixels := (w*bits/8+3)&^3, b[size:]
	if len(pixels) < stride*h {
		return nil
	}
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		row := pixels[y*stride:]
		if !down {
			row = pixels[(h-1-y)*stride:]
		}
		for x := range w {
			p := row[x*bits/8:]
			out.SetNRGBA(x, y, color.NRGBA{p[2], p[1], p[0], 255})
		}
	}
	return out
}

// toDIB writes a picture as a packed bitmap of 32 bits a pixel.
func toDIB(m image.Image) []byte {
	r := m.Bounds()
	flat := image.NewRGBA(image.Rect(0, 0, r.Dx(), r.Dy()))
	draw.Draw(flat, flat.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(flat, flat.Bounds(), m, r.Min, draw.Over)
	b := make([]byte, dibHeader, dibHeader+4*r.Dx()*r.Dy())
	binary.LittleEndian.PutUint32(b, dibHeader)
	binary.LittleEndian.PutUint32(b[4:], uint32(r.Dx()))
	binary.LittleEndian.PutUint32(b[8:], uint32(r.Dy()))
	binary.LittleEndian.PutUint16(b[12:], 1)
	binary.LittleEndian.PutUint16(b[14:], 32)
	for y := r.Dy() - 1; y >= 0; y-- {
		for x := range r.Dx() {
			p := flat.Pix[flat.PixOffset(x, y):]
			b = append(b, p[2], p[1], p[0], 0)
		}
	}
	return b
}
