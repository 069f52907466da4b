package machines

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPicturesAlike: a blinking cursor is no difference, a line of text is; nothing is like a screen that shows nothing.
func TestPicturesAlike(t *testing.T) {
	shows := func(w int, rects ...image.Rectangle) []byte {
		p := image.NewGray(image.Rect(0, 0, w, 400))
		for _, r := range rects {
			for y := r.Min.Y; y < r.Max.Y; y++ {
				for x := r.Min.X; x < r.Max.X; x++ {
					p.Set(x, y, image.White)
				}
			}
		}
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, p))
		return b.Bytes()
	}
	text, cursor := image.Rect(10, 10, 300, 26), image.Rect(10, 40, 19, 56)
	assert.True(t, alike(shows(720, text), shows(720, text)))
	assert.True(t, alike(shows(720, text), shows(720, text, cursor)))
	assert.False(t, alike(shows(720, text), shows(720, text.Add(image.Pt(0, 20)))))
	assert.False(t, alike(shows(720), shows(720)), "they show nothing")
	assert.False(t, alike(shows(720, text), shows(640, text)))
	assert.False(t, alike(nil, nil))
	assert.False(t, alike(shows(720, text), []byte("no picture")))
	huge := shows(720, text)
	binary.BigEndian.PutUint32(huge[16:], 1<<30) // its width (PNG, 11.2.1)
	binary.BigEndian.PutUint32(huge[29:], crc32.ChecksumIEEE(huge[12:29]))
	_, err := decode(huge)
	require.ErrorContains(t, err, "none of a screen", "no room is made for it")
	assert.False(t, alike(huge, huge))
}
