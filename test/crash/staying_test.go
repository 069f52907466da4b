package crash

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
	"bagaglio/core/plan"
	"bagaglio/core/storage/archive"
	"bagaglio/core/storage/local"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAMachineThatStaysIsKilled: the service that does something with a machine of the quay is killed around what it does there; after the restart it is
// done, once.
func TestAMachineThatStaysIsKilled(t *testing.T) {
	for _, c := range []struct {
		request plan.Request
		points  []string
		end     string // the snapshots of ticketing, and the disks of each machine
	}{
		{plan.Request{Kind: plan.TakeSnapshot, Snapshot: "monday"}, []string{"take"}, "first monday* | ticketing: ticketing.raw log.raw | tide-board: tide/tide-board.raw"},
		{
			plan.Request{Kind: plan.GoBack, Snapshot: "first", KeepPresent: "now"},
			[]string{"take", "go back"},
			"first* now | ticketing: ticketing.raw log.raw | tide-board: tide/tide-board.raw",
		},
		{plan.Request{Kind: plan.DropSnapshot, Snapshot: "first"}, []string{"drop"}, " | ticketing: ticketing.raw log.raw | tide-board: tide/tide-board.raw"},
		{plan.Request{Kind: plan.DetachDisk, Slot: "hdb"}, []string{"detach"}, "first* | ticketing: ticketing.raw | tide-board: tide/tide-board.raw"},
		{
			plan.Request{Kind: plan.AttachDisk, Source: plan.Place{Pool: "quay-store", Path: "more.raw"}},
			[]string{"attach"},
			"first* | ticketing: ticketing.raw log.raw more.raw | tide-board: tide/tide-board.raw",
		},
		{
			plan.Request{Kind: plan.HandDisk, Slot: "hdb", To: "quay:tide-board"},
			[]string{"detach", "attach", "move"},
			"first* | ticketing: ticketing.raw | tide-board: tide/tide-board.raw tide/log.raw",
		},
		{plan.Request{Kind: plan.RemoveMachine}, []string{"forget machine", "rename"}, "tide-board: tide/tide-board.raw"},
	} {
		for _, point := range c.points {
			for _, when := range []string{" before:1", " after:1"} {
				t.Run(c.request.Kind+" "+point+when, func(t *testing.T) {
					t.Parallel()
					m := newRound(t)
					close(m.done)
					m.watch.Wait()
					staying(t, m)
					m.request = c.request
					m.request.Machine = "quay:ticketing"
					require.Empty(t, m.run(point+when, ""), "it is killed")
					require.NotContains(t, []string{"", "failed"}, string(m.run("", "")))
					assert.Equal(t, c.end, told(t, m.quay))
					for _, name := range []string{"ticketing.raw", "log.raw", "tide/log.raw"} {
						_, err := os.Stat(filepath.Join(m.quay.Folder, name))
						gone := c.request.Kind == plan.RemoveMachine || name == "tide/log.raw" != (c.request.Kind == plan.HandDisk) && name != "ticketing.raw"
						assert.Equal(t, gone, os.IsNotExist(err), name)
					}
				})
			}
		}
	}
}

// staying gives the quay a second machine, and its first one a second disk and a snapshot.
func staying(t *testing.T, m *round) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(m.quay.Folder, "tide"), 0o700))
	for _, name := range []string{"log.raw", "more.raw", "tide/tide-board.raw"} {
		require.NoError(t, os.WriteFile(filepath.Join(m.quay.Folder, name), make([]byte, mib), 0o600))
	}
	_, err := m.quay.Define(
		[]byte(
			standins.Definition("tide-board", "1c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", filepath.Join(m.quay.Folder, "tide/tide-board.raw"), "raw"),
		),
	)
	require.NoError(t, err)
	ticketing := standin.Which{Name: "ticketing"}
	_, err = m.quay.CutOff(ticketing)
	require.NoError(t, err)
	_, err = m.quay.Attach(t.Context(), ticketing, machine.Disk{File: filepath.Join(m.quay.Folder, "log.raw"), Format: "raw", Bus: "ide"})
	require.NoError(t, err)
	_, err = m.quay.Take(t.Context(), ticketing, host.Taking{Name: "first"})
	require.NoError(t, err)
}

// told says in a line what the quay has.
func told(t *testing.T, quay *standins.Host) string {
	t.Helper()
	var all []string
	for _, e := range quay.List() {
		if e.Name == "ticketing" {
			var names []string
			kept, err := quay.Snapshots(standin.Which{Name: e.Name})
			require.NoError(t, err)
			for _, k := range kept {
				names = append(names, k.Name+map[bool]string{true: "*"}[k.Present])
			}
			all = append(all, strings.Join(names, " "))
		}
		is, err := machine.Describe(own.Name, []byte(e.Definition))
		require.NoError(t, err)
		line := e.Name + ":"
		for _, d := range is.Disks {
			rel, err := filepath.Rel(quay.Folder, d.File)
			require.NoError(t, err)
			line += " " + rel
		}
		all = append(all, line)
	}
	return strings.Join(all, " | ")
}

// TestALinkedCopyIsKilled: the service that makes a linked copy is killed around each definition that it changes; after the restart both go on from images of
// their own, and nothing is left of another try.
func TestALinkedCopyIsKilled(t *testing.T) {
	for _, at := range []string{"define before:1", "define after:1", "define before:2", "define after:2", "rename before:2", "move before:1", "exchange before:1"} {
		t.Run(at, func(t *testing.T) {
			t.Parallel()
			m := newRound(t)
			close(m.done)
			m.watch.Wait()
			m.request = plan.Request{
				Kind: plan.CopyMachine, Machine: "quay:ticketing", To: "quay", Name: "trial", Linked: true, Stop: true,
				Destination: &plan.Place{Pool: "quay-store"},
			}
			outcome := m.run(at, "")
			if outcome == "" {
				outcome = m.run("", "")
			}
			require.Equal(t, "proven", string(outcome))
			assert.Equal(t, " | ticketing: ticketing-2.qcow2 | trial: trial/ticketing.qcow2", told(t, m.quay))
			left, err := filepath.Glob(filepath.Join(m.quay.Folder, "[^.]*"))
			require.NoError(t, err)
			var names []string
			for _, f := range left {
				names = append(names, filepath.Base(f))
			}
			assert.Equal(t, []string{"ticketing-2.qcow2", "ticketing.raw", "trial"}, names)
		})
	}
}

// TestAPackageIsKilled: the service that packs a machine is killed around everything that it does to files; after the restart the package is there, as proven,
// and nothing is left of another try.
func TestAPackageIsKilled(t *testing.T) {
	for _, at := range []string{"sync before:1", "sync after:2", "folder sync before:1", "rename before:1", "rename after:1", "folder sync after:2"} {
		t.Run(at, func(t *testing.T) {
			t.Parallel()
			m := newRound(t)
			close(m.done)
			m.watch.Wait()
			_, err := m.quay.CutOff(standin.Which{Name: "ticketing"})
			require.NoError(t, err)
			m.request = plan.Request{
				Kind:        plan.PackMachine,
				Machine:     "quay:ticketing",
				Destination: &plan.Place{Pool: "quay-store", Path: "ticketing.ova"},
			}
			outcome := m.run(at, "")
			if outcome == "" {
				outcome = m.run("", "")
			}
			require.Equal(t, "proven", string(outcome))
			folder, err := local.Open(m.quay.Folder)
			require.NoError(t, err)
			defer folder.Close()
			inside, err := archive.Open(folder, "ticketing.ova")
			require.NoError(t, err)
			all, err := inside.List("ticketing.ova")
			require.NoError(t, err)
			assert.Len(t, all, 3)
			left, err := filepath.Glob(filepath.Join(m.quay.Folder, "*"))
			require.NoError(t, err)
			assert.Len(t, left, 2)
			own, err := filepath.Glob(filepath.Join(m.quay.Folder, ".*/*"))
			require.NoError(t, err)
			assert.Empty(t, own)
		})
	}
}
