package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/internal/demo"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAComputerLeaves: a program on the computer is told before the machine that takes its place is started, and when it does not any more.
func TestAComputerLeaves(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	name, said := hook(t, l.Path)
	s := start(t)
	standins.Join(t, s.Service, "quay", "harbour", standin.Traits{})
	l.Mount(2, "rw")
	r := plan.Request{
		Kind: plan.CopyMachine, Source: plan.Place{Pool: plan.DevicesOf("local"), Path: filepath.Base(l.Path), Format: "raw"}, To: "quay",
		Destination: &plan.Place{Pool: "harbour"}, Name: "gate-kiosk", Start: true, Within: 5, InUse: plan.InUseFreeze, Tell: name,
	}
	j := testkit.Begin(t, s.Service, r)
	for _, answer := range []string{"up", ""} { // it is not one that starts
		j = testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Question != nil || j.Ended })
		if answer != "" && j.Question != nil {
			_, err := s.Answer(t.Context(), j.Id, answer)
			require.NoError(t, err)
		}
	}
	require.EqualValues(t, "proven", *j.Outcome)
	assert.Equal(t, "before DEVICE\nafter DEVICE\nleave DEVICE\n", said())
	done, err := s.Receipt(t.Context(), j.Id)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(done.Machine.Evidence, " "), name+" was told on its computer")
	_, err = s.StopMachine(t.Context(), "quay", "gate-kiosk", 1, true)
	require.NoError(t, err)
	undone := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: j.Id})
	testkit.Await(t, s.Service, undone.Id)
	assert.Equal(t, "before DEVICE\nafter DEVICE\nleave DEVICE\ncome-back DEVICE\n", said())
}

// TestAComputerBecomesAMachine: one request captures the drive of a computer without a partition, on a smaller disk, makes a machine around it with what
// the computer has, and sees it come up on a host. It is taken back like any other.
func TestAComputerBecomesAMachine(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	if err := demo.CheckTools(); err != nil {
		t.Skip(err)
	}
	file, err := demo.MakeKiosk(t.Context(), t.TempDir())
	require.NoError(t, err)
	device, err := demo.Attach(t.Context(), file)
	if err != nil {
		t.Skipf("making a disk: %v", err)
	}
	t.Cleanup(func() { require.NoError(t, demo.Detach(device)) })
	s := start(t)
	harbour := standins.Join(t, s.Service, "quay", "harbour", standin.Traits{
		Formats: []string{"vmdk"}, Layouts: []string{"flat"}, Folders: true, Networks: []string{"quay-lan"},
	})
	r := plan.Request{
		Kind: plan.CopyMachine, Source: plan.Place{Pool: plan.DevicesOf("local"), Path: filepath.Base(device), Format: "raw"}, UsedOnly: true,
		Without: []string{"data"}, Size: 100 << 20, To: "quay", Destination: &plan.Place{Pool: "harbour"}, Name: "gate-kiosk", Start: true,
	}
	p, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.False(t, p.Plan.Blocked(), messages(p.Plan))
	assert.Contains(t, messages(p.Plan), "as the computer has, as far as the host allows it")
	assert.Contains(t, messages(p.Plan), "never are both to run")

	job := testkit.Begin(t, s.Service, r)
	done := testkit.Proven(t, s.Service, job.Id)
	require.NotNil(t, done.Machine)
	assert.True(t, done.Machine.CameUp, done.Machine.Evidence)
	require.Len(t, done.Parts, 1)
	part := done.Parts[0]
	assert.Equal(t, int64(100<<20), part.Destination.VirtualSize)
	assert.Equal(t, "vmdk", part.Destination.Format)
	require.NotNil(t, part.Fit)
	m, err := s.Machine(t.Context(), "quay", "gate-kiosk")
	require.NoError(t, err)
	assert.Equal(t, "uefi", m.Is.Firmware)
	assert.Positive(t, m.Is.Processors.Count)
	image := plan.Place{Pool: "harbour", Path: "gate-kiosk/gate-kiosk.vmdk"}
	_, _, _, err = s.Take(t.Context(), image, inspect.Spot{Partition: 3, Path: "etc/hostname"})
	require.NoError(t, err)
	_, _, _, err = s.Take(t.Context(), image, inspect.Spot{Partition: 4, Path: "etc/hostname"})
	require.Error(t, err, "its data stayed")

	_, err = s.StopMachine(t.Context(), "quay", "gate-kiosk", 20, true)
	require.NoError(t, err)
	testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: job.Id})
	testkit.Await(t, s.Service, "2")
	_, err = s.Machine(t.Context(), "quay", "gate-kiosk")
	require.Error(t, err)
	_, err = os.Stat(filepath.Join(harbour.Folder, "gate-kiosk", "gate-kiosk.vmdk"))
	require.ErrorIs(t, err, os.ErrNotExist)

	for why, change := range map[string]func(*plan.Request){
		"the machine is a copy":             func(r *plan.Request) { r.Kind = plan.MoveMachine },
		"are said of a disk of a computer":  func(r *plan.Request) { r.Source = plan.Place{Pool: "harbour", Path: "x.machine.yaml"} },
		"there is no such partition":        func(r *plan.Request) { r.Without = []string{"bilge"} },
		"not both":                          func(r *plan.Request) { r.Smallest = true },
		"a machine is started by a host":    func(r *plan.Request) { r.To = "" },
		"it names no pool that the disks a": func(r *plan.Request) { r.Destination = nil },
	} {
		wrong := r
		change(&wrong)
		_, err := s.Plan(t.Context(), wrong)
		require.ErrorContains(t, err, why)
	}
}
