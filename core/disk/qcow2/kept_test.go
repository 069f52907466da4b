package qcow2

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRoomOfSnapshots: what a snapshot shares with the present state, or with another one, is not counted for it; its tables and what only it has are.
func TestRoomOfSnapshots(t *testing.T) {
	dir := t.TempDir()
	stack(t, dir, "tide-board.qcow2", 8*mib, "")
	file := filepath.Join(dir, "tide-board.qcow2")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	binary.BigEndian.PutUint64(b[8:], 0)
	be := binary.BigEndian
	l1 := be.Uint64(b[40:])
	l2 := be.Uint64(b[l1:]) & offsetMask
	b = append(b, make([]byte, (defaultCluster-len(b)%defaultCluster)%defaultCluster)...)
	add := func(what []byte) uint64 { // a cluster at the end
		at := len(b)
		b = append(append(b, what...), make([]byte, defaultCluster-len(what))...)
		return uint64(at)
	}
	alone := add(bytes.Repeat([]byte{0xaa}, defaultCluster))
	table := bytes.Clone(b[l2 : l2+defaultCluster])
	be.PutUint64(table[8*100:], alone|copiedFlag) // the cluster at 1 MiB is shared
	apart := add(table)
	first := add(be.AppendUint64(nil, apart|copiedFlag))
	second := add(be.AppendUint64(nil, l2)) // everything of the present state
	entry := func(at uint64, name string) []byte {
		e := make([]byte, snapshotEntry)
		be.PutUint64(e, at)
		be.PutUint32(e[8:], 1)
		be.PutUint16(e[14:], uint16(len(name)))
		return append(append(e, name...), make([]byte, (8-len(name)%8)%8)...)
	}
	list := add(append(entry(first, "first"), entry(second, "second")...))
	be.PutUint32(b[60:], 2)
	be.PutUint64(b[64:], list)
	require.NoError(t, os.WriteFile(file, b, 0o600))

	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, "tide-board.qcow2", "")
	require.NoError(t, err)
	defer r.Close()
	kept, err := r.(disk.Keeper).Kept(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []disk.Kept{{Name: "first", Room: 3 * defaultCluster}, {Name: "second", Room: defaultCluster}}, kept)

	be.PutUint64(b[second:], l2+1<<40)
	require.NoError(t, os.WriteFile(file, b, 0o600))
	r, err = disk.Open(t.Context(), folder, "tide-board.qcow2", "")
	require.NoError(t, err)
	defer r.Close()
	_, err = r.(disk.Keeper).Kept(t.Context())
	require.ErrorIs(t, err, disk.ErrDamaged)
}
