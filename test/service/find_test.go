package service

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFind: what has a text in its name is found, whatever it is, with signs taken as they are; a host that is away holds nothing up.
func TestFind(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "ticket-office", standin.Traits{})
	quay.Ticketing(t, bootable())
	dir := s.Pool("quay-store")
	for _, name := range []string{"ticket_archive.raw", "ticketXarchive.raw"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), make([]byte, 1<<20), 0o600))
	}
	_, err := s.Disks(t.Context(), "quay-store")
	require.NoError(t, err)
	_, err = s.Disks(t.Context(), "ticket-office") // both are looked through before
	require.NoError(t, err)
	j := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "quay-store", Path: "ticketXarchive.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "b.raw"},
	})
	testkit.Proven(t, s.Service, j.Id)
	_, err = s.PutRoutine(
		t.Context(),
		routineOf(t, `{"name": "ticket-proof", "requests": [{"kind": "prove", "source": {"pool": "quay-store", "path": "b.raw"}}]}`),
	)
	require.NoError(t, err)
	names := func(text string) (found []string) {
		t.Helper()
		f, err := s.Find(t.Context(), text)
		require.NoError(t, err)
		for _, hit := range f.Items {
			found = append(found, string(hit.Kind)+" "+hit.Name)
		}
		return found
	}
	assert.Equal(t, []string{
		"pool ticket-office", "machine ticketing", "disk quay-store:ticketXarchive.raw", "disk quay-store:ticket_archive.raw",
		"disk ticket-office:ticketing.raw", "job " + j.Id, "routine ticket-proof",
	}, names("TICKET"))
	assert.Equal(t, []string{"disk quay-store:ticket_archive.raw"}, names("t_a"))
	assert.Empty(t, names("%"))
	assert.Contains(t, names(j.Id), "job "+j.Id)
	assert.Contains(t, names("quay"), "host quay")
	quay.Kill()
	f, err := s.Find(t.Context(), "ticket_archive")
	require.NoError(t, err)
	assert.Len(t, f.Items, 1)
	assert.Equal(t, "quay", *f.Away)
}
