package fingerprint

import (
	"encoding/binary"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
)

// plainly computes a fingerprint as docs/formats.md describes it, without any of the short cuts.
func plainly(disk []byte) Fingerprint {
	h := blake3.NewDeriveKey("bagaglio fingerprint v1")
	_, _ = h.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(disk))))
	for len(disk) > 0 {
		n := min(len(disk), 1<<20)
		leaf := blake3.Sum256(disk[:n])
		_, _ = h.Write(leaf[:])
		disk = disk[n:]
	}
	var f Fingerprint
	h.Sum(f[:0])
	return f
}

// leavesOf takes the leaves of a disk; runs of zero leaves are appended as such, as a transfer does for holes.
func leavesOf(disk []byte) *Leaves {
	l := NewLeaves(int64(len(disk)))
	var zeros int64
	for at := 0; at < len(disk); at += LeafSize {
		leaf := disk[at:min(at+LeafSize, len(disk))]
		if IsZero(leaf) {
			zeros++
			continue
		}
		if zeros > 0 {
			l.AppendZeros(zeros)
			zeros = 0
		}
		l.Append(Leaf(leaf))
	}
	if zeros > 0 {
		l.AppendZeros(zeros)
	}
	return l
}

func disks() map[string][]byte {
	r := rand.NewChaCha8([32]byte{7})
	noise := make([]byte, 3<<20+513)
	_, _ = r.Read(noise)
	mixed := make([]byte, 9<<20+77)
	copy(mixed[2<<20+5:], noise[:100])
	copy(mixed[6<<20:], noise[:1<<20])
	return map[string][]byte{
		"nothing": {}, "one byte": {1}, "one zero": {0}, "one leaf": noise[:LeafSize], "one leaf of zeros": make([]byte, LeafSize),
		"noise": noise, "zeros with a short end": make([]byte, 5<<20+512), "mixed": mixed,
	}
}

func TestSumIsAsDescribed(t *testing.T) {
	for name, disk := range disks() {
		got, err := leavesOf(disk).Sum()
		require.NoError(t, err, name)
		assert.Equal(t, plainly(disk), got, name)
	}
}

// The value is fixed for ever: others keep it in tags and records.
func TestKnownValue(t *testing.T) {
	disk := make([]byte, 2<<20)
	copy(disk[1<<20:], "Isola Ferries")
	got, err := leavesOf(disk).Sum()
	require.NoError(t, err)
	assert.Equal(t, "bf1-16e7c20ffa6f6e960367f27b7d2a67b0e2ad92eb1ab480f7dc75c86dd8ef404a", got.String())
}

func TestSumNeedsAllLeaves(t *testing.T) {
	l := NewLeaves(3 << 20)
	l.AppendZeros(2)
	_, err := l.Sum()
	require.ErrorContains(t, err, "2 leaves where there should be 3")
}

func TestSizeCounts(t *testing.T) {
	a, err := leavesOf(make([]byte, 1<<20)).Sum()
	require.NoError(t, err)
	b, err := leavesOf(make([]byte, 2<<20)).Sum()
	require.NoError(t, err)
	assert.NotEqual(t, a, b)
}

func TestExtendedIsTheSameContentWithZerosBehind(t *testing.T) {
	for name, disk := range disks() {
		for _, more := range []int64{0, 1, 511, LeafSize - 1, LeafSize, 3*LeafSize + 5} {
			size := int64(len(disk)) + more
			tail := disk[len(disk)/LeafSize*LeafSize:]
			if IsZero(tail) {
				tail = nil // as a transfer leaves it
			}
			got, err := leavesOf(disk).Extended(size, tail).Sum()
			require.NoError(t, err)
			assert.Equal(t, plainly(append(append([]byte{}, disk...), make([]byte, more)...)), got, "%s and %d more", name, more)
		}
	}
}

func TestDifferenceTellsTheLeaves(t *testing.T) {
	disk := disks()["mixed"]
	other := append([]byte{}, disk...)
	other[0], other[1<<20], other[8<<20] = 1, 1, 1
	other[len(other)-1] ^= 1
	assert.Equal(t, []Range{{0, 2 << 20}, {8 << 20, 1<<20 + 77}}, Difference(leavesOf(disk), leavesOf(other), 10))
	assert.Equal(t, []Range{{0, 2 << 20}}, Difference(leavesOf(disk), leavesOf(other), 1))
	assert.Empty(t, Difference(leavesOf(disk), leavesOf(disk), 10))
}

func TestParse(t *testing.T) {
	f := plainly([]byte("gate-kiosk"))
	back, err := Parse(f.String())
	require.NoError(t, err)
	assert.Equal(t, f, back)
	for _, wrong := range []string{"", "bf1-", f.String()[4:], f.String() + "00", "bf2-" + f.String()[4:], "bf1-" + f.String()[5:] + "g"} {
		_, err := Parse(wrong)
		require.Error(t, err, wrong)
	}
}
