package service

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDrainingAMachine takes its definition along beside its disks, names what is left behind, and chooses no drive by itself that may be
// unplugged.
func TestDrainingAMachine(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	for _, name := range []string{"tide/a.raw", "tide/b.raw", "log.raw"} {
		noise(t, quay, name, mib)
	}
	const definition = "displayName = \"tide-board\"\nscsi0:0.fileName = \"a.raw\"\nscsi0:1.fileName = \"b.raw\"\n"
	require.NoError(t, os.WriteFile(filepath.Join(quay, "tide/tide.vmx"), []byte(definition), 0o640))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(quay, "alone.vmx"),
			[]byte("displayName = \"gate-kiosk\"\nscsi0:0.fileName = \"/elsewhere/kiosk.raw\"\n"),
			0o640,
		),
	)
	for i := range 25 {
		require.NoError(t, os.WriteFile(filepath.Join(quay, fmt.Sprintf("notes-%02d.txt", i)), nil, 0o600))
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Convert,
		As:          "qcow2",
		Release:     true,
		Source:      plan.Place{Pool: "quay-store", Path: "log.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "log.qcow2"},
	}).Id)
	b, planned := testkit.Balance(t, s.Service, plan.BalanceRequest{Kind: plan.KindDrain, Pools: []string{"quay-store"}})
	require.Len(t, b.Carries, 3)
	left := fmt.Sprint(b.Left)
	assert.Contains(t, left, "notes-19.txt it is no disk")
	assert.NotContains(t, left, "notes-20.txt")
	assert.Contains(t, left, "and 5 more")
	assert.Contains(t, left, "alone.vmx the definition of gate-kiosk stays")
	assert.NotContains(t, left, "tide.vmx", "it goes along")
	assert.Contains(t, left, "log.raw it is held until")
	g, err := s.StartGroup(t.Context(), planned.Id)
	require.NoError(t, err)
	for _, j := range g.Jobs {
		testkit.Proven(t, s.Service, j.Id)
	}
	now, err := os.ReadFile(filepath.Join(lighthouse, "tide/tide.vmx"))
	require.NoError(t, err)
	assert.Equal(t, definition, string(now))
	assert.NoFileExists(t, filepath.Join(quay, "tide/tide.vmx"))
	require.Eventually(t, func() bool {
		disks, err := s.Disks(t.Context(), "lighthouse-store")
		return err == nil && len(disks) == 3 && fmt.Sprint(disks[1].Machines, disks[2].Machines) == "[tide-board] [tide-board]"
	}, 10*time.Second, 50*time.Millisecond, "whose they are")
}
