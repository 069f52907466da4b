package fingerprint

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tagOf is the tag of a disk as it is written.
func tagOf(t testing.TB, disk []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	tag := Tag{
		Format: "raw",
		Layout: "thin",
		Proven: true,
		Made:   time.Unix(1_800_000_000, 0).UTC(),
		Files:  []File{{Name: "gate-kiosk.raw", Size: 5}},
		Leaves: leavesOf(disk),
	}
	n, err := tag.WriteTo(&b)
	require.NoError(t, err)
	require.Equal(t, int64(b.Len()), n)
	return b.Bytes()
}

func TestTagThereAndBack(t *testing.T) {
	for name, disk := range disks() {
		b := tagOf(t, disk)
		tag, err := ReadTag(bytes.NewReader(b), int64(len(disk)))
		require.NoError(t, err, name)
		assert.Equal(t, plainly(disk).String(), tag.Fingerprint, name)
		assert.Equal(t, "gate-kiosk.raw", tag.Files[0].Name)
		assert.Empty(t, Difference(leavesOf(disk), tag.Leaves, 5), name)
		for i := range tag.Leaves.Total() {
			leaf := disk[i*LeafSize : min((i+1)*LeafSize, int64(len(disk)))]
			assert.Equal(t, Leaf(leaf), tag.Leaves.At(i), name)
		}
		other, err := ReadTag(bytes.NewReader(b), int64(len(disk))+512)
		require.NoError(t, err)
		assert.Nil(t, other.Leaves, "of a disk of another size nothing is read")
	}
}

// TestTagOfALargeDisk: what is empty takes next to nothing.
func TestTagOfALargeDisk(t *testing.T) {
	l := NewLeaves(16 << 40)
	l.AppendZeros(8 << 20)
	l.Append(Leaf([]byte("tide")))
	l.AppendZeros(8<<20 - 1)
	var b bytes.Buffer
	_, err := Tag{Leaves: l}.WriteTo(&b)
	require.NoError(t, err)
	assert.Less(t, b.Len(), 1000)
	tag, err := ReadTag(&b, 16<<40)
	require.NoError(t, err)
	assert.Equal(t, Leaf([]byte("tide")), tag.Leaves.At(8<<20))
	assert.Equal(t, int64(LeafSize), tag.Leaves.Data())
}

func TestTagName(t *testing.T) {
	for image, want := range map[string]string{
		"a.qcow2": "a.qcow2.bagtag", "deck/a.raw": "deck/a.raw.bagtag", "a.raw.001": "a.raw-pieces.bagtag", "a.01": "a-pieces.bagtag", "a.1": "a.1.bagtag",
	} {
		assert.Equal(t, want, TagName(image))
	}
}

// FuzzTag: whatever lies beside an image, the answer is a tag that holds or an error.
func FuzzTag(f *testing.F) {
	for _, disk := range disks() {
		f.Add(tagOf(f, disk), int64(len(disk)))
	}
	f.Add([]byte(`{"bagtag":2}`+"\n"), int64(0))
	f.Fuzz(func(t *testing.T, b []byte, size int64) {
		if size < 0 || size > 1<<32 {
			return
		}
		tag, err := ReadTag(bytes.NewReader(b), size)
		if err != nil || tag.Leaves == nil {
			return
		}
		sum, err := tag.Leaves.Sum()
		if err != nil || sum.String() != tag.Fingerprint {
			t.Fatalf("a tag that does not hold was believed: %v", err)
		}
	})
}
