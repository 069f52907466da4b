package service

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// removal is the request to have a disk of quay-store go.
func removal(name string) plan.Request {
	return plan.Request{Kind: plan.Remove, Source: plan.Place{Pool: "quay-store", Path: name}}
}

// TestADiskIsRemoved with what speaks of it, and comes back by undoing, also when something else has its name meanwhile; and so is a file that is no disk.
func TestADiskIsRemoved(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	noise(t, quay, "old/ticketing.raw", mib)
	r := convert("old/ticketing.raw", "old/ticketing.qcow2", "qcow2")
	r.Destination.Pool = "quay-store"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	files := []string{"old/ticketing.qcow2", "old/ticketing.qcow2.bagtag"}
	text, err := os.ReadFile(filepath.Join(quay, files[0]))
	require.NoError(t, err)

	gone := testkit.Begin(t, s.Service, removal("old/ticketing.qcow2"))
	done := testkit.Proven(t, s.Service, gone.Id)
	assert.Contains(t, done.Compared, "its content was not read")
	for _, f := range files {
		assert.NoFileExists(t, filepath.Join(quay, f))
	}
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1)
	assert.Equal(t, "old/ticketing.qcow2", held[0].Path)
	assert.Contains(t, held[0].Why, "removed by")
	back := plan.Request{Kind: plan.Undo, Job: gone.Id}
	require.NoError(t, os.WriteFile(filepath.Join(quay, files[0]), []byte("another one"), 0o600))
	p, err := s.Plan(t.Context(), back)
	require.NoError(t, err)
	assert.True(t, p.Plan.Blocked())
	assert.Contains(t, messages(p.Plan), "is there now, and nothing is overwritten")
	require.NoError(t, os.Remove(filepath.Join(quay, files[0])))
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, back).Id)
	again, err := os.ReadFile(filepath.Join(quay, files[0]))
	require.NoError(t, err)
	assert.Equal(t, text, again)
	assert.FileExists(t, filepath.Join(quay, files[1]))

	require.NoError(t, os.WriteFile(filepath.Join(quay, "notes.txt"), []byte("nothing that opens"), 0o600))
	run := testkit.Run(t, quay, s.State, "remove", "quay-store:notes.txt", "--yes")
	require.Zero(t, run.Code, run.Notes)
	assert.NoFileExists(t, filepath.Join(quay, "notes.txt"))
	for name, content := range map[string]string{"empty.raw": "", "cut.qcow2": "QFI\xfb\x00\x00\x00\x03"} { // what is damaged goes, too
		require.NoError(t, os.WriteFile(filepath.Join(quay, name), []byte(content), 0o600))
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, removal(name)).Id)
		assert.NoFileExists(t, filepath.Join(quay, name))
	}
	run = testkit.Run(t, quay, s.State, "remove", "./notes.txt", "--yes")
	assert.Equal(t, 2, run.Code)
	assert.Contains(t, run.Notes, "lies in no pool")
	_, err = s.Plan(t.Context(), removal("gone.raw"))
	require.NoError(t, err)
}

// TestWhatIsNotRemoved: what another disk stands on, what a machine names, what is in use, what changed since it was planned, and what is ours.
func TestWhatIsNotRemoved(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	noise(t, quay, "base.raw", mib)
	r := convert("base.raw", "base.qcow2", "qcow2")
	r.Destination.Pool = "quay-store"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	over := convert("base.raw", "clone.qcow2", "qcow2")
	over.Destination.Pool, over.Layout, over.Base = "quay-store", "overlay", "base.qcow2"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, over).Id)
	noise(t, quay, "crew.raw", mib)
	const domain = "<domain type='x'><name>crew-roster</name><devices><disk><source file='%s/crew.raw'/></disk></devices></domain>"
	require.NoError(t, os.WriteFile(filepath.Join(quay, "crew-roster.xml"), fmt.Appendf(nil, domain, quay), 0o600))
	noise(t, quay, "open.raw", mib)
	f, err := os.OpenFile(filepath.Join(quay, "open.raw"), os.O_RDWR, 0)
	require.NoError(t, err)
	for name, why := range map[string]string{
		"base.qcow2": "clone.qcow2 stand(s) on this disk", "crew.raw": "The definition of crew-roster names it", "open.raw": "has it open for writing",
		"gone.raw": "no such file",
	} {
		p, err := s.Plan(t.Context(), removal(name))
		require.NoError(t, err)
		assert.True(t, p.Plan.Blocked(), name)
		assert.Contains(t, messages(p.Plan), why)
	}
	require.NoError(t, f.Close())
	_, err = s.Plan(t.Context(), removal(".bagaglio/held"))
	require.Error(t, err)

	p, err := s.Plan(t.Context(), removal("open.raw"))
	require.NoError(t, err)
	require.False(t, p.Plan.Blocked(), messages(p.Plan))
	require.NoError(t, os.Rename(filepath.Join(quay, "crew.raw"), filepath.Join(quay, "open.raw")))
	_, err = s.Start(t.Context(), api.NewJob{Plan: p.Id})
	require.ErrorContains(t, err, "another file than when this was planned")
	assert.FileExists(t, filepath.Join(quay, "open.raw"))
}

// TestRemovedWithoutIdentity: where the storage tells no identity of files, nothing is called proven, neither way.
func TestRemovedWithoutIdentity(t *testing.T) {
	t.Parallel()
	s := start(t)
	far := lighthouse(t, s, sshd.Start(t))
	noise(t, far, "crew.raw", mib)
	gone := removal("crew.raw")
	gone.Source.Pool = "far-store"
	done := ended(t, s.Service, gone)
	assert.Equal(t, receipt.Unproven, done.Outcome)
	assert.NoFileExists(t, filepath.Join(far, "crew.raw"))
	jobs := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: "1"})
	testkit.Await(t, s.Service, jobs.Id)
	back, err := s.Receipt(t.Context(), jobs.Id)
	require.NoError(t, err)
	assert.Equal(t, receipt.Unproven, back.Outcome)
	assert.FileExists(t, filepath.Join(far, "crew.raw"))
}
