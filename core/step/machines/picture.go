package machines

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
)

// unlike is the share of points in which two pictures of one screen may differ: a cursor blinks, and a minute goes by.
const unlike = 1. / 500

// most bounds the points of a picture that is compared: whoever sends it may have it become anything.
const most = 1 << 24

// decode reads a picture, as PNG.
func decode(b []byte) (image.Image, error) {
	c, err := png.DecodeConfig(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	if c.Width <= 0 || c.Height <= 0 || c.Width > most/c.Height {
		return nil, fmt.Errorf("a picture of %d by %d points is none of a screen", c.Width, c.Height)
	}
	return png.Decode(bytes.NewReader(b))
}

// alike tells whether two pictures, as PNG, show the same, and something at all.
func alike(a, b []byte) bool {
	one, errA := decode(a)
	other, errB := decode(b)
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
