package service

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// read returns the whole content of a disk in a folder.
func read(t *testing.T, dir, name string) []byte {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, name, "")
	require.NoError(t, err)
	defer r.Close()
	content := make([]byte, r.Size())
	_, err = r.ReadAt(content, 0)
	require.NoError(t, err)
	return content
}

// TestACloneOfASnapshot has the disk as it was then, with an identity of its own, and starts; the machine goes on as it is. What a snapshot means that was
// taken as the machine ran is said.
func TestACloneOfASnapshot(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)
			r.settled(t) // it is seen to come up by its screen
			r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "before-the-season"})
			q := plan.Request{
				Kind: plan.CopyMachine, Machine: r.machine(), To: r.host, Snapshot: "before-the-season", Name: "crew-roster-may",
				Destination: &plan.Place{Pool: "quay-store"}, Start: true, Within: 300,
			}
			if kind == "libvirt" { // its snapshots are inside of the image
				p, err := r.Plan(t.Context(), q)
				require.NoError(t, err)
				assert.True(t, p.Blocked)
				q.Suspend = true
				linked := q
				linked.Linked, linked.Suspend, linked.Stop = true, false, true
				p, err = r.Plan(t.Context(), linked)
				require.NoError(t, err)
				assert.Contains(t, messages(p.Plan), "Nothing can stand on a snapshot inside of an image: copy it as a whole")
			}
			p, err := r.Plan(t.Context(), q)
			require.NoError(t, err)
			assert.Contains(t, messages(p.Plan), "while the machine ran: the copy starts as after a power cut then")
			_, done := r.does(t, q)
			require.Equal(t, receipt.Proven, done.Outcome, done.Reason)
			assert.True(t, done.Machine.CameUp)
			assert.EqualValues(t, "running", r.is(t).State, "it has gone on")
			clone, err := r.Machine(t.Context(), r.host, "crew-roster-may")
			require.NoError(t, err)
			assert.NotEqual(t, r.is(t).Uuid, clone.Uuid)
			_, err = r.StopMachine(t.Context(), r.host, "crew-roster-may", 0, true)
			require.NoError(t, err)

			q.Snapshot = "no-such"
			_, err = r.Plan(t.Context(), q)
			require.ErrorContains(t, err, "not found")
			q.Snapshot, q.Kind, q.Start, q.Suspend = "before-the-season", plan.MoveMachine, false, false
			_, err = r.Plan(t.Context(), q)
			require.ErrorContains(t, err, "is copied")
		})
	}
}

// TestACloneIsWhatTheSnapshotWas, whatever was written since: the disk is that of the snapshot, byte by byte.
func TestACloneIsWhatTheSnapshotWas(t *testing.T) {
	t.Parallel()
	r := rosters["standin"](t)
	image := filepath.Join(r.folder, "crew-roster/crew-roster.qcow2")
	then := read(t, r.folder, "crew-roster/crew-roster.qcow2")
	r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "may"})
	noise(t, r.folder, "june.raw", int64(len(then)))
	c := convert("june.raw", "crew-roster/crew-roster.qcow2", "qcow2")
	c.Source.Pool, c.Destination.Pool, c.Replace = "quay-store", "quay-store", true
	testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
	require.NotEqual(t, then, read(t, r.folder, "crew-roster/crew-roster.qcow2"))
	out := testkit.Run(
		t,
		r.folder,
		r.State,
		"machine",
		"copy",
		r.machine(),
		"quay",
		"--pool",
		"quay-store",
		"--name",
		"crew-may",
		"--snapshot",
		"may",
		"--yes",
	)
	require.Zero(t, out.Code, out.Notes+out.Out)
	assert.Equal(t, then, read(t, r.folder, "crew-may/crew-roster.qcow2"))
	same := testkit.Run(t, r.folder, r.State, "machine", "compare", "quay:crew-may", "quay:crew-may", "--content")
	assert.Contains(t, same.Notes, "They do not differ")
	other := testkit.Run(t, r.folder, r.State, "machine", "compare", r.machine(), "quay:crew-may", "--content")
	require.Zero(t, other.Code, other.Notes)
	assert.Contains(t, other.Out, "disk 1, content")
	kept, err := filepath.Glob(filepath.Join(r.folder, "crew-roster/kept-*/crew-roster.qcow2"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	rel, err := filepath.Rel(r.folder, kept[0])
	require.NoError(t, err)
	p, err := r.Plan(t.Context(), removal(rel))
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "quay:crew-roster names it", "its host keeps it for a snapshot")
	_, err = os.Stat(image)
	require.NoError(t, err)
}

// TestALinkedCopy stands on the disk of the machine, which rests from then on: nothing is copied, both have the content, both start and write to images of
// their own, and another one can be made. Undone, the machine goes on with what it wrote; what others stand on is not removed, and found where somebody
// writes to it.
func TestALinkedCopy(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			const image = "crew-roster/crew-roster.qcow2"
			content := read(t, r.folder, image)
			q := plan.Request{
				Kind:        plan.CopyMachine,
				Machine:     r.machine(),
				To:          r.host,
				Name:        "crew-spring",
				Linked:      true,
				Destination: &plan.Place{Pool: "quay-store"},
			}
			_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)
			p, err := r.Plan(t.Context(), q)
			require.NoError(t, err)
			require.True(t, p.Blocked, "it runs, and its disk would be written to")
			q.Stop = true
			made, done := r.does(t, q)
			require.Equal(t, receipt.Proven, done.Outcome, done.Reason)
			assert.Contains(t, done.Compared, "has nothing of its own: nothing was copied")
			assert.EqualValues(t, "running", r.is(t).State, "it was started again")
			assert.Equal(t, "crew-roster/crew-roster-2.qcow2", *r.is(t).Disks[0].Path)
			clone, err := r.Machine(t.Context(), r.host, "crew-spring")
			require.NoError(t, err)
			assert.Equal(t, "crew-spring/crew-roster.qcow2", *clone.Disks[0].Path)
			for _, name := range []string{"crew-spring/crew-roster.qcow2", "crew-roster/crew-roster-2.qcow2"} {
				var info unix.Stat_t
				require.NoError(t, unix.Stat(filepath.Join(r.folder, name), &info))
				assert.LessOrEqual(t, info.Blocks*512, int64(512<<10), "it stores next to nothing")
			}
			assert.Equal(t, content, read(t, r.folder, "crew-spring/crew-roster.qcow2"))
			if r.host == "local" { // whose guests run with the rights of another user
				require.NoError(t, os.Chmod(filepath.Join(r.folder, "crew-spring/crew-roster.qcow2"), 0o666))
				require.NoError(t, os.Chmod(filepath.Join(r.folder, "crew-spring"), 0o777))
			}
			_, err = r.StartMachine(t.Context(), r.host, "crew-spring")
			require.NoError(t, err)
			assert.Equal(t, content, read(t, r.folder, image), "nobody writes to it")

			family, err := r.Family(t.Context(), "quay-store", "crew-spring/crew-roster.qcow2")
			require.NoError(t, err)
			bases, named := map[string]string{}, map[string][]string{}
			for _, k := range family.Items {
				if named[k.Path] = k.Machines; k.Base != nil {
					bases[k.Path] = *k.Base
				}
			}
			assert.Equal(t, map[string]string{"crew-spring/crew-roster.qcow2": image, "crew-roster/crew-roster-2.qcow2": image}, bases)
			assert.Equal(t, image, family.Items[0].Path, "bases before what stands on them")
			assert.Contains(t, named["crew-spring/crew-roster.qcow2"], r.host+":crew-spring")
			assert.Contains(t, named["crew-roster/crew-roster-2.qcow2"], r.host+":crew-roster")
			drawn := testkit.Run(t, r.folder, r.State, "family", "quay-store:"+image)
			require.Zero(t, drawn.Code, drawn.Notes)
			assert.Regexp(
				t,
				`(?m)^`+image+` \*.*\n  crew-roster/crew-roster-2\.qcow2 .*crew-roster.*\n  crew-spring/crew-roster\.qcow2 .*crew-spring`,
				drawn.Out,
			)

			gone, err := r.Plan(t.Context(), removal(image))
			require.NoError(t, err)
			assert.Contains(t, messages(gone.Plan), "stand(s) on this disk")
			found, err := r.MachineFindings(t.Context(), "")
			require.NoError(t, err)
			assert.Empty(t, found.Items)

			q.Name = "crew-summer"
			r.does(t, q)
			assert.Equal(t, "crew-roster/crew-roster-2-2.qcow2", *r.is(t).Disks[0].Path)

			_, err = r.StopMachine(t.Context(), r.host, "crew-spring", 0, true)
			require.NoError(t, err)
			_, done = r.does(t, plan.Request{Kind: plan.Undo, Job: made})
			assert.NotEqual(t, receipt.Failed, done.Outcome)
			assert.NoFileExists(t, filepath.Join(r.folder, "crew-spring/crew-roster.qcow2"))
			assert.Equal(t, "crew-roster/crew-roster-2-2.qcow2", *r.is(t).Disks[0].Path, "it goes on as it is")

			_, err = r.StopMachine(t.Context(), r.host, "crew-roster", 0, true)
			require.NoError(t, err)
			wrong := plan.Request{Kind: plan.AttachDisk, Machine: r.machine(), Source: plan.Place{Pool: "quay-store", Path: image}}
			p, err = r.Plan(t.Context(), wrong)
			require.NoError(t, err)
			assert.Contains(t, messages(p.Plan), "would be damaged by whatever the machine writes")
		})
	}
}

// TestALinkedCopyOfASnapshot stands on what the host keeps apart, which is not dropped any more; a machine that writes to what others stand on is found.
func TestALinkedCopyOfASnapshot(t *testing.T) {
	t.Parallel()
	r := rosters["standin"](t)
	content := read(t, r.folder, "crew-roster/crew-roster.qcow2")
	r.does(t, plan.Request{Kind: plan.TakeSnapshot, Snapshot: "may"})
	_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
	require.NoError(t, err)
	q := plan.Request{
		Kind:        plan.CopyMachine,
		Machine:     r.machine(),
		To:          r.host,
		Name:        "crew-may",
		Snapshot:    "may",
		Linked:      true,
		Destination: &plan.Place{Pool: "quay-store"},
	}
	r.does(t, q)
	assert.Equal(t, content, read(t, r.folder, "crew-may/crew-roster.qcow2"))
	assert.Equal(t, "crew-roster/crew-roster.qcow2", *r.is(t).Disks[0].Path, "it goes on as before, also in its files")
	_, err = r.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	p, err := r.Plan(t.Context(), plan.Request{Kind: plan.DropSnapshot, Machine: r.machine(), Snapshot: "may"})
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "crew-may/crew-roster.qcow2 stand(s) on it")

	alone := convert("crew-may/crew-roster.qcow2", "crew-may/crew-roster.qcow2", "qcow2") // made to stand alone, in place
	alone.Source.Pool, alone.Destination.Pool, alone.Layout, alone.Replace = "quay-store", "quay-store", "thin", true
	testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, alone).Id)
	assert.Equal(t, content, read(t, r.folder, "crew-may/crew-roster.qcow2"))
	_, err = r.StartMachine(t.Context(), r.host, "crew-may")
	require.NoError(t, err)
	_, err = r.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	p, err = r.Plan(t.Context(), plan.Request{Kind: plan.DropSnapshot, Machine: r.machine(), Snapshot: "may"})
	require.NoError(t, err)
	assert.NotContains(t, messages(p.Plan), "crew-may/crew-roster.qcow2 stand(s) on it")

	_, err = r.StopMachine(t.Context(), r.host, "crew-roster", 0, true)
	require.NoError(t, err)
	c := convert("crew-roster/crew-roster.qcow2", "loose.qcow2", "qcow2")
	c.Source.Pool, c.Destination.Pool, c.Layout, c.Base, c.Linked = "quay-store", "quay-store", "overlay", "crew-roster/crew-roster.qcow2", true
	done := testkit.Proven(t, r.Service.Service, testkit.Begin(t, r.Service.Service, c).Id)
	assert.Zero(t, done.BytesRead)
	_, err = r.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	found, err := r.MachineFindings(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, found.Items, 1)
	assert.EqualValues(t, "base", found.Items[0].Kind)
	assert.Contains(t, found.Items[0].What, "damages loose.qcow2, which stands on it")
}
