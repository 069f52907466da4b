package standin

import (
	"image"
	"image/png"
	"io"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"
)

// The screen, in pixels.
const (
	screenWidth, screenHeight = 640, 400
	lineHeight                = 16
	margin                    = 12
)

// drawScreen draws what a console shows.
func drawScreen(out io.Writer, console string) error {
	picture := image.NewGray(image.Rect(0, 0, screenWidth, screenHeight)) // black
	d := font.Drawer{Dst: picture, Src: image.White, Face: basicfont.Face7x13}
	for i, line := range strings.Split(console, "\n") {
		d.Dot = fixed.P(margin, margin+lineHeight*(i+1))
		d.DrawString(line)
	}
	return png.Encode(out, picture)
}
