package attack

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// crowd fills a folder with names of one disk: many to look at, quickly made.
func crowd(t *testing.T, dir string, n int) {
	t.Helper()
	testkit.Noise(t, filepath.Join(dir, "tide.raw"), 4096)
	overlay(t, dir, "tide-00000.qcow2", "tide.raw")
	for i := 1; i < n; i++ {
		require.NoError(t, os.Link(filepath.Join(dir, "tide-00000.qcow2"), filepath.Join(dir, fmt.Sprintf("tide-%05d.qcow2", i))))
	}
}

// TestABaseIsNotTakenAwayUnseen: in a pool that was added a moment ago and has very many disks in it, what stands on a base is found
// before it is moved away; a drain knows all of them; and no look keeps others from writing records for long.
func TestABaseIsNotTakenAwayUnseen(t *testing.T) {
	s := start(t)
	lighthouse := s.Pool("lighthouse-store")
	quay := t.TempDir()
	crowd(t, quay, fewer.Times(3000, 10_000))
	testkit.Noise(t, filepath.Join(quay, "base.raw"), mib)
	overlay(t, quay, "zz/last-of-all.qcow2", "base.raw")
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: quay})
	require.NoError(t, err)

	kept, err := s.Plan(t.Context(), move("quay-store:base.raw", "lighthouse-store:base.raw"))
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(blocks(kept.Plan, "release")), "zz/last-of-all.qcow2 stand(s) on the source")
	require.NotNil(t, kept.Plan.KnownAt)
	assert.WithinDuration(t, time.Now(), *kept.Plan.KnownAt, time.Minute)
	_, err = s.Start(t.Context(), api.NewJob{Plan: kept.Id})
	require.Error(t, err)
	assert.NoFileExists(t, filepath.Join(lighthouse, "base.raw"))

	b, _ := testkit.Balance(t, s.Service, plan.BalanceRequest{Kind: plan.KindDrain, Pools: []string{"quay-store"}})
	assert.NotEmpty(t, b.Carries)

	// A definition that came a moment ago, in another pool of the host, is known too.
	testkit.Noise(t, filepath.Join(quay, "crew.raw"), mib)
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(lighthouse, "crew-roster.vmx"),
			fmt.Appendf(nil, "displayName = \"crew-roster\"\nscsi0:0.fileName = \"%s/crew.raw\"\n", quay),
			0o600,
		),
	)
	kept, err = s.Plan(t.Context(), move("quay-store:crew.raw", "lighthouse-store:crew.raw"))
	require.NoError(t, err)
	assert.Equal(t, []string{"crew-roster"}, testkit.StepOf(t, kept.Plan, plan.StepHandOver).Machines)
	assert.Less(t, metric(t, s, "bagaglio_records_longest_write_seconds"), 0.1, "the longest transaction")
}

// TestWhatCouldNotBeLookedAtBlocks what would do it harm, with a way to go on, and is told in the list.
func TestWhatCouldNotBeLookedAtBlocks(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "base.raw"), mib)
	deep := strings.Repeat("deck/", 14)
	require.NoError(t, os.MkdirAll(filepath.Join(quay, deep), 0o755))
	overlay(t, quay, deep+"top.qcow2", "base.raw")
	r := move("quay-store:base.raw", "quay-store:elsewhere.raw")
	kept, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	says := fmt.Sprint(blocks(kept.Plan, "not-known"))
	assert.Contains(t, says, "folders are looked through 12 deep")
	list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	require.Len(t, list.Missed, 1)
	r.WithoutKnowing = true
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
}

// TestALookCanBeEnded, and what was found so far stays listed.
func TestALookCanBeEnded(t *testing.T) {
	s := start(t)
	quay := t.TempDir()
	crowd(t, quay, 10_000)
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: quay})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Limit: ptr(1)})
		return err == nil && list.Total > 0
	}, time.Minute, time.Millisecond)
	require.NoError(t, s.StopLooking(t.Context(), "quay-store"))
	list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Limit: ptr(1)})
	require.NoError(t, err)
	assert.Positive(t, list.Total)
	require.Error(t, s.StopLooking(t.Context(), "lighthouse-store"), "there is no such pool")
}
