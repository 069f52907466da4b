package transfer

import (
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"

	"github.com/stretchr/testify/require"
)

// FuzzMark: marks lie in the records, and may be damaged there.
func FuzzMark(f *testing.F) {
	m := Mark{
		Leaves: fingerprint.NewLeaves(5 << 20), Tail: []byte("tail"), Damaged: []fingerprint.Range{{Offset: 1 << 20, Length: 512}},
		Written: []disk.Written{{Extent: disk.Extent{Off: 1 << 20, Len: 65536}}, {Extent: disk.Extent{Off: 2 << 20, Len: 65536}, Encoded: 777}},
	}
	m.Leaves.AppendZeros(2)
	m.Leaves.Append(fingerprint.Leaf([]byte("tide")))
	b, err := m.AppendBinary(nil)
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		leaves := fingerprint.NewLeaves(1 << 30)
		m, err := ReadMark(b, leaves)
		if err != nil {
			return
		}
		m.Leaves = leaves
		if _, err := m.AppendBinary(nil); err != nil {
			t.Fatal(err)
		}
	})
}
