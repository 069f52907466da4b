package inspect

import (
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"

	"github.com/stretchr/testify/assert"
)

type ones int64

func (o ones) Size() int64 { return int64(o) }
func (ones) Close() error  { return nil }
func (o ones) ReadAt(b []byte, _ int64) (int, error) {
	for i := range b {
		b[i] = 1
	}
	return len(b), nil
}
func (o ones) Extent(off int64) (disk.Extent, error) {
	return disk.Extent{Off: off, Len: int64(o) - off}, nil
}
func (ones) Describe() disk.Description { return disk.Description{} }

// TestSkimmedReads: ranges that are left out read as zeros, wherever a read begins and ends.
func TestSkimmedReads(t *testing.T) {
	k := &Skimmed{Reader: ones(100), gaps: []fingerprint.Range{{Offset: 10, Length: 20}, {Offset: 30, Length: 5}, {Offset: 90, Length: 10}}}
	for from := range 100 {
		for to := from + 1; to <= 100; to++ {
			b := make([]byte, to-from)
			n, err := k.ReadAt(b, int64(from))
			assert.NoError(t, err)
			assert.Equal(t, len(b), n)
			for i, c := range b {
				at := from + i
				assert.Equal(t, at < 10 || at >= 35 && at < 90, c == 1, "at %d", at)
			}
		}
	}
}
