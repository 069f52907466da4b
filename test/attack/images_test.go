package attack

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// endless writes a qcow2 image in which every entry of a large L1 table leads to one L2 table, where data and holes take turns: 2^33
// extents in a file of a few hundred KiB.
func endless(t *testing.T, file string) {
	t.Helper()
	const cluster, entries = 64 << 10, 8192
	const l1Entries = 32 << 10
	be := binary.BigEndian
	b := make([]byte, (2+4+1+1)*cluster)
	l1, l2, data := 2*cluster, 6*cluster, 7*cluster
	copy(b, "QFI\xfb")
	be.PutUint32(b[4:], 3)
	be.PutUint32(b[20:], 16)
	be.PutUint64(b[24:], uint64(l1Entries)*entries*cluster)
	be.PutUint32(b[36:], l1Entries)
	be.PutUint64(b[40:], uint64(l1))
	be.PutUint64(b[48:], cluster)
	be.PutUint32(b[56:], 1)
	be.PutUint32(b[96:], 4)
	be.PutUint32(b[100:], 104)
	for i := range l1Entries {
		be.PutUint64(b[l1+8*i:], uint64(l2)|1<<63)
	}
	for i := 0; i < entries; i += 2 {
		be.PutUint64(b[l2+8*i:], uint64(data)|1<<63)
	}
	require.NoError(t, os.WriteFile(file, b, 0o600))
}

// TestEndlessTables: an image whose tables never end in practice keeps nobody waiting: not the list, not a look at it, not a plan.
func TestEndlessTables(t *testing.T) {
	s := start(t)
	quay := s.Pool("quay-store")
	endless(t, filepath.Join(quay, "endless.qcow2"))
	testkit.Noise(t, filepath.Join(quay, "tide-board.raw"), mib)
	soon(t, "the list", time.Minute, func() {
		list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
		require.NoError(t, err)
		require.Len(t, list.Items, 2, "it goes on with the next")
		require.NotNil(t, list.Items[0].AtLeast)
		assert.Empty(t, list.Items[1].Problem)
	})
	soon(t, "a look", time.Minute, func() {
		report, err := s.Look(t.Context(), plan.Place{Pool: "quay-store", Path: "endless.qcow2"})
		require.NoError(t, err)
		assert.True(t, report.AtLeast)
		assert.Contains(t, fmt.Sprint(report.Warnings), "two structures or two places of the disk use cluster")
	})
	soon(t, "a plan", time.Minute, func() {
		kept, err := s.Plan(t.Context(), move("quay-store:endless.qcow2", "quay-store:other.qcow2"))
		require.NoError(t, err)
		assert.True(t, kept.Blocked)
	})
}

// TestDefinitionsThatNameVeryMuch lock nobody out of the records, and what was not read of them stands in the way of harm.
func TestDefinitionsThatNameVeryMuch(t *testing.T) {
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "tide-board.raw"), mib)
	for i := range 20 {
		var b strings.Builder
		fmt.Fprintf(&b, "displayName = \"many-%d\"\n", i)
		for n := range 900 {
			fmt.Fprintf(&b, "scsi%d:0.fileName = \"%04d%s\"\n", n, n, strings.Repeat("x", 4000))
		}
		require.NoError(t, os.WriteFile(filepath.Join(quay, fmt.Sprintf("many-%02d.vmx", i)), []byte(b.String()), 0o600))
	}
	list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	assert.Len(t, list.Missed, 20)
	assert.Less(t, metric(t, s, "bagaglio_records_longest_write_seconds"), 0.1, "the longest transaction")
	kept, err := s.Plan(t.Context(), move("quay-store:tide-board.raw", "quay-store:other.raw"))
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(blocks(kept.Plan, "not-known")), "names more files than are read of a definition")
}
