package machines

import (
	"bytes"
	"image"
	"image/png"
)

// unlike is the share of points in which two pictures of one screen may differ: a cursor blinks, and a minute goes by.
const unlike = 1. / 500

// alike tells whether two pictures, as PNG, show the same, and something at all.
func alike(a, b []byte) bool {
	one, errA := png.Decode(bytes.NewReader(a))
	other, errB := png.Decode(bytes.NewReader(b))
	if errA != nil || errB != nil || one.Bounds() != other.Bounds() {
		return false
	}
	bounds, differ, shows := one.Bounds(), 0, false
	first := at(one, bounds.Min)
	for y := bounds.Min.Y; y < bounds.Max.Y; y++ {
		for x := bounds.Min.X; x < bounds.Max.X; x++ {
			point := at(one, image.Pt(x, y))
			if point != at(other, image.Pt(x, y)) {
				differ++
			}
			shows = shows || point != first
		}
	}
	return shows && float64(differ) <= unlike*float64(bounds.Dx()*bounds.Dy())
}

func at(p image.Image, where image.Point) [3]uint32 {
	r, g, b, _ := p.At(where.X, where.Y).RGBA()
	return [3]uint32{r, g, b}
}
