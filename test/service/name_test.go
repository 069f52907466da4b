package service

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNamesForPeople are kept in the tags of disks, or in the records, go along wherever those are converted, copied, moved or renamed to, also by a drive that nobody knows, and
// are found by searching. A proof by the tag holds as before.
func TestNamesForPeople(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	noise(t, quay, "crew-roster.raw", mib)
	entry := func(search string) []api.DiskEntry {
		list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true), Search: &search})
		require.NoError(t, err)
		return list.Items
	}
	out := testkit.Run(t, quay, s.State, "name", "quay-store:crew-roster.raw", "crew roster, system")
	require.Zero(t, out.Code, out.Notes)
	found := entry("roster, sys")
	require.Len(t, found, 1, "it has no tag, and is called so all the same")
	assert.Equal(t, "crew-roster.raw", found[0].Path)
	c := convert("crew-roster.raw", "5b1f0c2e.qcow2", "qcow2")
	c.Destination.Pool = "quay-store"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
	found = entry("5b1f0c2e.qcow2")
	require.Len(t, found, 1)
	require.NotNil(t, found[0].Called, "it came along")
	require.NoError(t, s.NameDisk(t.Context(), "quay-store", "crew-roster.raw", api.DiskName{}))
	assert.Equal(t, "crew roster, system", *found[0].Called)
	out = testkit.Run(t, quay, s.State, "name", "quay-store:5b1f0c2e.qcow2", "crew roster, system", "--note", "ask the purser")
	require.Zero(t, out.Code, out.Notes)
	for _, search := range []string{"5b1f", "roster, sys", "purser"} {
		found := entry(search)
		require.Len(t, found, 1, search)
		assert.Equal(t, "5b1f0c2e.qcow2", found[0].Path)
		assert.Equal(t, "crew roster, system", *found[0].Called)
		assert.Equal(t, "ask the purser", *found[0].Note)
	}
	assert.Empty(t, entry("purse%"), "what is searched for is text")
	prove := plan.Request{Kind: plan.Prove, Source: plan.Place{Pool: "quay-store", Path: "5b1f0c2e.qcow2"}, Tag: plan.TagBeside}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, prove).Id)

	at := "5b1f0c2e.qcow2"
	for i, r := range []plan.Request{
		{Kind: plan.Convert, As: "vhd", Destination: &plan.Place{Path: "deck/a.vhd"}},
		{Kind: plan.Copy, Destination: &plan.Place{Path: "deck/b.vhd"}},
		{Kind: plan.Copy, Destination: &plan.Place{Path: "lamp/c.vhd"}, Release: true},
	} {
		r.Source, r.Destination.Pool = plan.Place{Pool: "quay-store", Path: at}, "quay-store"
		testkit.Await(t, s.Service, testkit.Begin(t, s.Service, r).Id)
		at = r.Destination.Path
		found := entry(at)
		require.Len(t, found, 1, "request %d", i)
		require.NotNil(t, found[0].Called, "request %d", i)
		assert.Equal(t, "crew roster, system", *found[0].Called)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(quay, "by-hand"), 0o700))
	for _, end := range []string{"", ".bagtag"} { // as a drive that travels would
		require.NoError(t, os.Rename(filepath.Join(quay, at+end), filepath.Join(quay, "by-hand/c.vhd"+end)))
	}
	assert.Equal(t, "crew roster, system", *entry("by-hand/c")[0].Called)
	out = testkit.Run(t, quay, s.State, "name", "quay-store:by-hand/c.vhd")
	require.Zero(t, out.Code, out.Notes)
	assert.Nil(t, entry("by-hand/c")[0].Called)
	assert.Contains(t, testkit.Run(t, quay, s.State, "pool", "disks", "quay-store").Out, "“crew roster, system”")
	require.ErrorContains(t, s.NameDisk(t.Context(), "quay-store", "no-such.raw", api.DiskName{}), "not found")
	require.Error(t, s.NameDisk(t.Context(), "quay-store", "../out.raw", api.DiskName{}))
}

// TestNamesWithoutTags go along with disks that only get new names, come back with them, and are not those of another file under the same name.
func TestNamesWithoutTags(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	noise(t, quay, "tide-board.raw", mib)
	called := func(path string) string {
		list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true), Search: &path})
		require.NoError(t, err)
		require.Len(t, list.Items, 1)
		if list.Items[0].Called == nil {
			return ""
		}
		return *list.Items[0].Called
	}
	name := "tide board, data"
	require.NoError(t, s.NameDisk(t.Context(), "quay-store", "tide-board.raw", api.DiskName{Called: &name}))
	move := plan.Request{
		Kind: plan.Copy, Release: true, NoTag: true,
		Source: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}, Destination: &plan.Place{Pool: "quay-store", Path: "deck/tide-board.raw"},
	}
	job := testkit.Begin(t, s.Service, move)
	testkit.Await(t, s.Service, job.Id)
	assert.Equal(t, name, called("deck/tide-board.raw"))
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: job.Id}).Id)
	assert.Equal(t, name, called("tide-board.raw"))
	require.NoError(t, os.Rename(filepath.Join(quay, "tide-board.raw"), filepath.Join(quay, "away.raw")))
	noise(t, quay, "tide-board.raw", mib)
	assert.Empty(t, called("tide-board.raw"), "it is another disk")
	require.NoError(t, s.NameDisk(t.Context(), "quay-store", "away.raw", api.DiskName{Note: &name}))
	require.NoError(t, s.NameDisk(t.Context(), "quay-store", "away.raw", api.DiskName{}))
	assert.Empty(t, called("away.raw"))
}
