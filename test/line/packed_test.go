package line

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestADiskComesPackedOverASlowLine: what is read of it is more than what the line carried, and it is the same disk.
func TestADiskComesPackedOverASlowLine(t *testing.T) {
	const size = 96 * mib
	disk := loops.New(t, size, 512, "label: gpt\nstart=1MiB, type=L\n")
	f, err := os.OpenFile(disk.File, os.O_WRONLY, 0)
	require.NoError(t, err)
	for at := int64(2 * mib); at < 94*mib; at += mib {
		page := make([]byte, 0, mib)
		for n := 0; len(page) < mib-100; n++ {
			page = fmt.Appendf(page, "tide %d of MiB %d: high water at %02d:%02d\n", n, at/mib, n%24, n%60)
		}
		_, err := f.WriteAt(page, at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	l := &link{rate: 8e6, mtu: 60_000}
	server := lay(t, l)
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"))
	farPool(t, s, server)
	s.Pool("quay-store")
	before := l.carried.Load()
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: plan.DevicesOf("lighthouse"), Path: disk.Name()},
		Destination: &plan.Place{Pool: "quay-store", Path: "far.qcow2"},
	}).Id)
	carried := l.carried.Load() - before
	t.Logf("%d MiB were read, and the line carried %d MiB", done.BytesRead/mib, carried/mib)
	assert.Less(t, carried, int64(size)*2/3)
}
