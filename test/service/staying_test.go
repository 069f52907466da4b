package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/sshd"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// roster is a service with a machine crew-roster on the host quay, or local, whose disk is a qcow2 image in quay-store that a guest starts from.
type roster struct {
	*testkit.Service
	host    string
	folder  string    // of quay-store
	kind    host.Kind // of its host, and where that is
	address host.Address
	settled func(*testing.T) // waits until its guest shows what it shows
}

func (r roster) machine() string { return r.host + ":crew-roster" }

func (r roster) is(t *testing.T) api.Machine {
	t.Helper()
	m, err := r.Machine(t.Context(), r.host, "crew-roster")
	require.NoError(t, err)
	return m
}

func (r roster) snapshots(t *testing.T) []api.Snapshot {
	t.Helper()
	all, err := r.Snapshots(t.Context(), r.host, "crew-roster")
	require.NoError(t, err)
	return all
}

// does plans and does something, and returns its job and its receipt.
func (r roster) does(t *testing.T, q plan.Request) (id string, done receipt.Receipt) {
	t.Helper()
	if q.Kind != plan.Undo {
		q.Machine = r.machine()
	}
	j := testkit.Await(t, r.Service.Service, testkit.Begin(t, r.Service.Service, q).Id)
	require.Equal(t, api.JobStateDone, j.State, "%+v", j.Reason)
	done, err := r.Receipt(t.Context(), j.Id)
	require.NoError(t, err)
	return j.Id, done
}

// rosters begins one on each kind of host.
var rosters = map[string]func(*testing.T) roster{
	"standin": func(t *testing.T) roster {
		s := start(t)
		quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Writes: true})
		kind, err := host.Lookup("standin")
		require.NoError(t, err)
		r := roster{s, "quay", quay.Folder, kind, host.Address{URL: quay.URL, Dial: daemon.Dial}, func(*testing.T) {}}
		_, err = quay.Define([]byte(standins.Definition("crew-roster", standins.TicketingID, r.system(t, "quay-store"), "qcow2")))
		require.NoError(t, err)
		return r
	},
	"libvirt": func(t *testing.T) roster {
		s, d := start(t), daemon.Start(t)
		runs := "libvirt"
		_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &d.Socket})
		require.NoError(t, err)
		addPool(t, s.Service, "quay-store", d.Dir)
		kind, err := host.Lookup("libvirt")
		require.NoError(t, err)
		r := roster{
			s,
			"local",
			d.Dir,
			kind,
			host.Address{Socket: d.Socket, Dial: daemon.Dial},
			func(t *testing.T) { d.Settled(t, "crew-roster") },
		}
		file := r.system(t, "quay-store")
		require.NoError(t, os.Chmod(file, 0o666))
		h, err := kind.Open(t.Context(), r.address)
		require.NoError(t, err)
		defer h.Close()
		_, err = h.(host.Definer).Define(
			t.Context(),
			[]byte(strings.Replace(daemon.Definition("crew-roster", file), "type='raw'", "type='qcow2'", 1)),
		)
		require.NoError(t, err)
		return r
	},
}

// system makes the image that the machine starts from, and returns its path.
func (r roster) system(t *testing.T, pool string) string {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(r.folder, "boot.raw"), bootable(), 0o666))
	c := convert("boot.raw", "crew-roster/crew-roster.qcow2", "qcow2")
	c.Source.Pool, c.Destination.Pool, c.NoTag = pool, pool, true
	testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
	require.NoError(t, os.Chmod(filepath.Join(r.folder, "crew-roster"), 0o777))
	return filepath.Join(r.folder, "crew-roster/crew-roster.qcow2")
}

// TestSnapshotsOfAMachine are taken as it runs, listed with their room, gone back to with the present state kept, undone and dropped, on each kind of host.
func TestSnapshotsOfAMachine(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			assert.Empty(t, r.snapshots(t))
			_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)

			took, done := r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "before-the-season", Notes: "the last crew"})
			assert.Equal(t, receipt.Unproven, done.Outcome)
			assert.Contains(t, done.Reason, "was not read")
			assert.Contains(t, strings.Join(done.Machine.Evidence, " "), "lists the snapshot before-the-season, with its memory")
			r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "sailing"})
			all := r.snapshots(t)
			require.Len(t, all, 2)
			assert.Equal(t, "the last crew", all[0].Notes)
			assert.Equal(t, "before-the-season", all[1].Parent)
			assert.True(t, all[1].Present && all[1].Memory)
			require.NotNil(t, all[1].Room)
			assert.Positive(t, *all[1].Room, "its memory at least, or a copy")

			again, err := r.Plan(t.Context(), plan.Request{Kind: plan.TakeSnapshot, Machine: r.machine(), Snapshot: "sailing"})
			require.NoError(t, err)
			assert.Contains(t, messages(again.Plan), "has a snapshot sailing already")
			lost, err := r.Plan(t.Context(), plan.Request{Kind: plan.GoBack, Machine: r.machine(), Snapshot: "before-the-season"})
			require.NoError(t, err)
			assert.Contains(t, messages(lost.Plan), "is lost, and cannot be taken back")

			back, _ := r.does(t, plan.Request{Kind: plan.GoBack, Snapshot: "before-the-season", KeepPresent: "as-it-was"})
			all = r.snapshots(t)
			require.Len(t, all, 3)
			assert.True(t, all[0].Present)
			assert.EqualValues(t, "running", r.is(t).State, "it goes on with its memory")
			r.does(t, plan.Request{Kind: plan.Undo, Job: back})
			all = r.snapshots(t)
			require.Len(t, all, 3)
			assert.True(t, all[2].Present, "it is what it was")

			_, done = r.does(t, plan.Request{Kind: plan.DropSnapshot, Snapshot: "sailing"})
			assert.Contains(t, done.Machine.Evidence[0], "does not list sailing any more")
			r.does(t, plan.Request{Kind: plan.Undo, Job: took})
			require.Len(t, r.snapshots(t), 1)
			assert.Empty(t, r.snapshots(t)[0].Parent, "what it was taken behind is gone")
			out := testkit.Run(t, r.folder, r.State, "machine", "snapshot", "list", r.machine())
			require.Zero(t, out.Code, out.Notes)
			assert.Contains(t, out.Out, "as-it-was *")
			out = testkit.Run(t, r.folder, r.State, "machine", "snapshot", "drop", r.machine(), "no-such", "--yes")
			assert.Equal(t, 3, out.Code)
			assert.Contains(t, out.Notes+out.Out, "has no snapshot no-such: it has as-it-was")
		})
	}
}

// TestDisksAreAttachedAndDetached: a machine gets a disk, as it runs, and gives it back, whose files stay; both are undone. A disk that another machine
// has is refused, and so is one of another host.
func TestDisksAreAttachedAndDetached(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			noise(t, r.folder, "arrived/log.raw", mib)
			require.NoError(t, os.Chmod(filepath.Join(r.folder, "arrived"), 0o777))
			require.NoError(t, os.Chmod(filepath.Join(r.folder, "arrived/log.raw"), 0o666))
			log := plan.Request{Kind: plan.AttachDisk, Source: plan.Place{Pool: "quay-store", Path: "arrived/log.raw"}, Bus: "scsi", Serial: "LOG-1"}
			if kind == "libvirt" { // disks of its machine come and go on this bus as it runs
				log.Bus = "virtio"
			}
			gave, done := r.does(t, log)
			assert.Equal(t, receipt.Proven, done.Outcome, done.Reason)
			disks := r.is(t).Disks
			require.Len(t, disks, 2)
			assert.Equal(t, "arrived/log.raw", *disks[1].Path)
			serial := ""
			for _, f := range machine.Facts(*r.is(t).Is) {
				if f.What == "disk 2, serial" {
					serial = f.Value
				}
			}
			assert.Equal(t, "LOG-1", serial)
			log.Machine = r.machine()
			twice, err := r.Plan(t.Context(), log)
			require.NoError(t, err)
			assert.Contains(t, messages(twice.Plan), "has it already: two machines on one disk destroy it")

			r.does(t, plan.Request{Kind: plan.Undo, Job: gave})
			require.Len(t, r.is(t).Disks, 1)
			assert.FileExists(t, filepath.Join(r.folder, "arrived/log.raw"))
			r.does(t, log)
			slot := *r.is(t).Disks[1].Slot
			out := testkit.Run(t, r.folder, r.State, "machine", "detach", r.machine(), slot, "--yes")
			require.Zero(t, out.Code, out.Notes)
			assert.Contains(t, out.Out, "whose files stay where they are: "+filepath.Join(r.folder, "arrived/log.raw"))
			jobs, err := r.Jobs(t.Context(), 1)
			require.NoError(t, err)
			r.does(t, plan.Request{Kind: plan.Undo, Job: jobs[0].Id})
			require.Len(t, r.is(t).Disks, 2, "it has it again")
			noise(t, r.folder, "arrived/another.raw", mib)
			require.NoError(t, os.Chmod(filepath.Join(r.folder, "arrived/another.raw"), 0o666))
			put, _ := r.does(t, plan.Request{Kind: plan.AttachDisk, Source: plan.Place{Pool: "quay-store", Path: "arrived/another.raw"}, Slot: slot})
			require.Len(t, r.is(t).Disks, 2)
			assert.Equal(t, "arrived/another.raw", *r.is(t).Disks[1].Path, "in the place of the other one")
			r.does(t, plan.Request{Kind: plan.Undo, Job: put})
			require.Len(t, r.is(t).Disks, 2)
			assert.Equal(t, "arrived/log.raw", *r.is(t).Disks[1].Path)

			noise(t, r.Pool("sea-store"), "far.raw", mib)
			if r.host != "local" {
				far, err := r.Plan(
					t.Context(),
					plan.Request{Kind: plan.AttachDisk, Machine: r.machine(), Source: plan.Place{Pool: "sea-store", Path: "far.raw"}},
				)
				require.NoError(t, err)
				assert.Contains(t, messages(far.Plan), "lies on the host local, and quay could not use it")
			}
			none, err := r.Plan(t.Context(), plan.Request{Kind: plan.DetachDisk, Machine: r.machine(), Slot: "sdz"})
			require.NoError(t, err)
			assert.Contains(t, messages(none.Plan), "has no disk sdz: it has ")
		})
	}
}

// TestSnapshotsGoAlong: a machine that moves has its snapshots in its new place, where one that is gone back to is what it was; taking the move back, and
// removing it and taking that back, gives its old host its list again. A copy has none, and where the form of a disk changes they are left, said before.
func TestSnapshotsGoAlong(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	r := rosters["libvirt"](t)
	there := daemon.Start(t)
	server := sshd.Start(t)
	runs, key, agent, on := "libvirt", string(server.Key), false, "lighthouse"
	_, err := r.AddHost(t.Context(), api.NewHost{
		Name: on, Kind: api.NewHostKindSftp, Address: server.Address, User: &server.User, TrustedKey: &server.HostKey,
		Login: &api.Secrets{Key: &key, Agent: &agent}, Runs: &runs, Socket: &there.Socket,
	})
	require.NoError(t, err)
	_, err = r.AddPool(t.Context(), api.NewPool{Name: "lamp-room", Host: &on, Folder: there.Dir})
	require.NoError(t, err)
	_, err = r.ChangePool(t.Context(), "lamp-room", api.PoolChange{Rules: plan.Rules{Owner: there.Owner, Mode: "0660"}})
	require.NoError(t, err)
	_, err = r.StartMachine(t.Context(), r.host, "crew-roster")
	require.NoError(t, err)
	r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "first", Notes: "as it was"})
	r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "second"})
	r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "third", DisksOnly: true})
	listed := func(on string) []api.Snapshot { // what is counted of an image is not what its guest still has to write
		all, err := r.Snapshots(t.Context(), on, "crew-roster")
		require.NoError(t, err)
		for i := range all {
			all[i].Room = nil
		}
		return all
	}
	before := listed(r.host)

	move := plan.Request{Kind: plan.MoveMachine, Machine: r.machine(), To: on, Destination: &plan.Place{Pool: "lamp-room"}, Stop: true}
	other := move
	other.As = "raw"
	p, err := r.Plan(t.Context(), other)
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "do not go along, since its disks are made anew in another form")
	copied := move
	copied.Kind, copied.Name = plan.CopyMachine, "trial"
	p, err = r.Plan(t.Context(), copied)
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "the copy is of the present state only (first, second, third)")

	moved, done := r.does(t, move)
	assert.Contains(t, strings.Join(done.Machine.Evidence, " "), "lighthouse was told of the snapshot third")
	assert.Equal(t, before, listed(on))
	images, err := r.ListDisks(t.Context(), "lamp-room", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	require.Len(t, images.Items, 2, "what it goes on from, and what that stands on")
	for _, d := range images.Items {
		assert.Empty(t, d.Problem)
	}
	j := testkit.Await(
		t,
		r.Service.Service,
		testkit.Begin(t, r.Service.Service, plan.Request{Kind: plan.GoBack, Machine: on + ":crew-roster", Snapshot: "first"}).Id,
	)
	require.Equal(t, api.JobStateDone, j.State, "%+v", j.Reason)
	m, err := r.Machine(t.Context(), on, "crew-roster")
	require.NoError(t, err)
	assert.EqualValues(t, "running", m.State, "with its memory of then, on another host")
	_, err = r.StopMachine(t.Context(), on, "crew-roster", 0, true)
	require.NoError(t, err)

	r.does(t, plan.Request{Kind: plan.Undo, Job: moved})
	assert.Equal(t, before, listed(r.host))
	gone, _ := r.does(t, plan.Request{Kind: plan.RemoveMachine})
	r.does(t, plan.Request{Kind: plan.Undo, Job: gone})
	assert.Equal(t, before, listed(r.host))
}

// TestSnapshotsOfDisksOnly are taken as a machine runs and goes on: each has what was on its disks then, as a machine of its own too; they are gone back to and
// dropped. Who asks for filesystems at rest is told where nobody can do that.
func TestSnapshotsOfDisksOnly(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)
			q := plan.Request{Kind: plan.TakeSnapshot, Machine: r.machine(), Snapshot: "at-rest", DisksOnly: true, AtRest: true}
			if kind == "libvirt" {
				p, err := r.Plan(t.Context(), q)
				require.NoError(t, err)
				assert.Contains(t, messages(p.Plan), "No agent answers in crew-roster")
			} else {
				_, done := r.does(t, q)
				assert.Contains(t, strings.Join(done.Machine.Evidence, " "), "and its filesystems were at rest")
				r.does(t, plan.Request{Kind: plan.DropSnapshot, Snapshot: "at-rest"})
			}
			r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "sailing", DisksOnly: true})
			all := r.snapshots(t)
			require.Len(t, all, 1)
			assert.False(t, all[0].Memory)
			require.NotNil(t, all[0].Room)
			assert.Positive(t, *all[0].Room)
			assert.EqualValues(t, "running", r.is(t).State)
			_, done := r.does(t, plan.Request{
				Kind: plan.CopyMachine, To: r.host, Snapshot: "sailing", Name: "crew-roster-may",
				Destination: &plan.Place{Pool: "quay-store"},
			})
			require.Equal(t, receipt.Proven, done.Outcome, done.Reason)

			back, done := r.does(t, plan.Request{Kind: plan.GoBack, Snapshot: "sailing", KeepPresent: "as-it-was"})
			assert.Contains(t, strings.Join(done.Machine.Evidence, " "), "it goes on from sailing")
			assert.EqualValues(t, "off", r.is(t).State)
			r.does(t, plan.Request{Kind: plan.Undo, Job: back})
			assert.EqualValues(t, "running", r.is(t).State, "it goes on from what it was, with its memory")
			r.does(t, plan.Request{Kind: plan.DropSnapshot, Snapshot: "as-it-was"})
			_, err = r.StopMachine(t.Context(), r.host, "crew-roster", 0, true)
			require.NoError(t, err)
			if kind == "libvirt" { // what it went on from meanwhile stands on the disks of then
				p, err := r.Plan(t.Context(), plan.Request{Kind: plan.DropSnapshot, Machine: r.machine(), Snapshot: "sailing"})
				require.NoError(t, err)
				assert.Contains(t, messages(p.Plan), "crew-roster-sailing-2.qcow2 stand(s) on it")
				left := plan.Request{Kind: plan.Remove, Source: plan.Place{Pool: "quay-store", Path: "crew-roster/crew-roster-sailing-2.qcow2"}}
				testkit.Await(t, r.Service.Service, testkit.Begin(t, r.Service.Service, left).Id)
			}
			r.does(t, plan.Request{Kind: plan.DropSnapshot, Snapshot: "sailing"})
			assert.Empty(t, r.snapshots(t))
			assert.Equal(t, bootable()[:512], read(t, r.folder, "crew-roster/crew-roster.qcow2")[:512])
		})
	}
}
