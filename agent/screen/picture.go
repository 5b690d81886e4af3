package screen

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"hash/fnv"
	"image/jpeg"
	"net/http"
	"unsafe"

	"moorwatch.example/contract/link"
	"moorwatch.example/core/screen"
)

// Sizes of small pictures.
const (
	leastWidth, mostWidth = 64, 1024
	pictureQuality        = 60
	// blurs is how many pixels each way of a small picture become one where it is to be blurred: a
	// person can tell a window from a window, and read nothing.
	blurs = 12
)

// ServePicture sends a small picture of a desktop as JPEG, with its entity tag: POST /screen/picture.
// Where it is the one that the caller has, there is no content.
func (s *Server) ServePicture(w http.ResponseWriter, r *http.Request) {
	var in link.ScreenPictureOrder
	if json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in) != nil {
		http.Error(w, "a picture's width is wanted", http.StatusBadRequest)
		return
	}
	p, err := s.picture(r.Context(), in)
	if err != nil {
		http.Error(w, err.Error(), link.StatusOf(err, http.StatusInternalServerError))
		return
	}
	h := fnv.New64a()
	h.Write(unsafe.Slice((*byte)(unsafe.Pointer(&p.Pix[0])), 4*len(p.Pix)))
	tag := `"` + hex.EncodeToString(h.Sum(nil)) + `"`
	w.Header().Set("ETag", tag)
	if in.Known == tag {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, p, &jpeg.Options{Quality: pictureQuality}); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	w.Write(b.Bytes())
}

// picture takes a small picture of a desktop.
func (s *Server) picture(ctx context.Context, in link.ScreenPictureOrder) (*screen.Picture, error) {
	desktop, err := s.Screens.Open(ctx, in.Desktop)
	if err != nil {
		return nil, err
	}
	defer desktop.Close()
	if _, err := desktop.Wait(ctx); err != nil {
		return nil, err
	}
	size, _ := desktop.Layout()
	p, err := screen.NewPicture(size.X, size.Y)
	if err != nil {
		return nil, err
	}
	if err := desktop.Grab(p, p.Bounds()); err != nil {
		return nil, err
	}
	width := min(max(in.Width, leastWidth), mostWidth)
	small := p.Scaled(p.Bounds(), max((size.X+width-1)/width, 1))
	if in.Blur {
		coarse := small.Scaled(small.Bounds(), blurs)
		for i := range small.Pix {
			small.Pix[i] = coarse.Pix[i/small.W/blurs*coarse.W+i%small.W/blurs]
		}
	}
	return small, nil
}
