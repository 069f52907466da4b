package sftp

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheFasterWay is taken, and both are tried again after a while.
func TestTheFasterWay(t *testing.T) {
	for _, packedIsFaster := range []bool{true, false} {
		clock := time.Unix(0, 0)
		p := pace{now: func() time.Time { return clock }}
		var asked, packed int
		part := func() {
			asked++
			slow := p.packs() != packedIsFaster
			if p.packs() {
				packed++
			}
			clock = clock.Add(time.Second)
			if slow {
				clock = clock.Add(time.Second)
			}
			p.came(4 << 20)
		}
		for range 8 { // one way, then the other
			part()
		}
		assert.Equal(t, 4, packed)
		for range 256 {
			part()
		}
		assert.Equal(t, map[bool]int{true: 260, false: 4}[packedIsFaster], packed)
		for range 8 {
			part()
		}
		assert.Equal(t, map[bool]int{true: 264, false: 8}[packedIsFaster], packed)
		p.never()
		part()
		assert.Equal(t, map[bool]int{true: 264, false: 8}[packedIsFaster], packed)
	}
}

// TestWhatComesPacked is what was asked for, no more and no less.
func TestWhatComesPacked(t *testing.T) {
	want := bytes.Repeat([]byte("tide "), 20_000)
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, err = z.Write(want)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	for _, packed := range [][]byte{enc.EncodeAll(want, nil), zipped.Bytes()} {
		got := make([]byte, len(want))
		require.NoError(t, unpacked(bufio.NewReader(bytes.NewReader(packed)), got))
		assert.Equal(t, want, got)
		require.Error(t, unpacked(bufio.NewReader(bytes.NewReader(packed)), make([]byte, len(want)+1)))
		require.ErrorContains(t, unpacked(bufio.NewReader(bytes.NewReader(packed)), make([]byte, len(want)-1)), "more came")
		require.Error(t, unpacked(bufio.NewReader(bytes.NewReader(packed[:len(packed)/2])), got))
	}
	require.Error(t, unpacked(bufio.NewReader(bytes.NewReader(nil)), make([]byte, 10)))
	require.Error(t, unpacked(bufio.NewReader(bytes.NewReader(want)), make([]byte, 10)))
}
