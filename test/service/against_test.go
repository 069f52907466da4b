package service

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTwoDisksAreCompared: in different formats, which are the same; which differ in a file, that is named to the block; of different sizes; one that is
// written to meanwhile, and one that is not there.
func TestTwoDisksAreCompared(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	name := tideBoardIn(t, dir)
	s := start(t)
	addPool(t, s.Service, "quay-store", dir)
	raw := plan.Place{Pool: "quay-store", Path: filepath.Base(name), Format: "raw"}
	other := plan.Place{Pool: "quay-store", Path: "other.vhdx"}
	testkit.Proven(
		t,
		s.Service,
		testkit.Begin(t, s.Service, plan.Request{Kind: plan.Convert, As: "vhdx", Source: raw, Destination: &other}).Id,
	)
	against := plan.Request{Kind: plan.Prove, Source: raw, AgainstDisk: &other}
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, against).Id)
	assert.Equal(t, r.Source.Fingerprint, r.Other.Fingerprint)
	assert.Equal(t, "vhdx", r.Other.Format)

	content, err := os.ReadFile(name)
	require.NoError(t, err)
	at := bytes.Index(content, []byte("00030000,"))
	require.Positive(t, at)
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("HIGH"), int64(at))
	require.NoError(t, err)
	require.NoError(t, f.Close())
	r = ended(t, s.Service, against)
	assert.NotEqual(t, receipt.Proven, r.Outcome)
	require.Len(t, r.Differences, 1)
	assert.Equal(t, int64(4096), r.Differences[0].Length)
	require.Len(t, r.Damage, 1)
	assert.Equal(t, []string{"srv/tides.csv"}, r.Damage[0].Files)
	run := testkit.Run(t, dir, s.State, "prove", "./"+filepath.Base(name), "--against", "./other.vhdx")
	assert.Equal(t, 4, run.Code)
	assert.Contains(t, run.Out, r.Damage[0].Files[0])
	run = testkit.Run(t, dir, s.State, "prove", "quay-store:"+filepath.Base(name), "--against", "quay-store:other.vhdx")
	assert.Equal(t, 4, run.Code)

	require.NoError(t, os.Truncate(name, int64(len(content))+1<<20))
	r = ended(t, s.Service, against)
	assert.NotEqual(t, receipt.Proven, r.Outcome)
	assert.Contains(t, r.Reason, "the disks have")
	require.Len(t, r.Differences, 1, "what both have is compared all the same")

	itself := against
	itself.AgainstDisk = &raw
	p, err := s.Plan(t.Context(), itself)
	require.NoError(t, err)
	assert.True(t, p.Plan.Blocked())
	assert.Contains(t, messages(p.Plan), "that it is like itself proves nothing")
	none := against
	none.AgainstDisk = &plan.Place{Pool: "quay-store", Path: "nothing.raw"}
	p, err = s.Plan(t.Context(), none)
	require.NoError(t, err)
	assert.True(t, p.Plan.Blocked())
	assert.Contains(t, messages(p.Plan), "cannot be compared with")
}

// ended is the receipt of a job that is begun and awaited, whatever it says.
func ended(t *testing.T, s *client.Service, request plan.Request) receipt.Receipt {
	t.Helper()
	r, err := s.Receipt(t.Context(), testkit.Await(t, s, testkit.Begin(t, s, request).Id).Id)
	require.NoError(t, err)
	return r
}
