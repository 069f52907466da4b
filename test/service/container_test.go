package service

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// container is the definition of one whose root volume is a file or a folder.
func container(root, format string) []byte {
	return fmt.Appendf(nil, `machine_file: 1
name: crew-mess
container: true
uuid: %q
processors: {count: 1}
memory: 33554432
disks:
  - {file: %q, format: %q, slot: root}
`, standins.TicketingID, root, format)
}

// TestAContainer: its root volume is an image with one filesystem and no partitions, told apart from machines' disks, shown with its owner, and moved to another
// pool with the container stopped and started again. A host that has no containers gets none, and none is packed.
func TestAContainer(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("mkfs.ext4"); err != nil {
		t.Skip("mkfs.ext4 is not installed (Debian: e2fsprogs)")
	}
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Firmware: []string{"uefi"}})
	on := "quay"
	harbour := filepath.Join(quay.Folder, "harbour")
	require.NoError(t, os.MkdirAll(harbour, 0o700))
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "harbour", Host: &on, Folder: harbour})
	require.NoError(t, err)
	tree := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(tree, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "etc/hostname"), []byte("crew-mess\n"), 0o600))
	image := filepath.Join(quay.Folder, "crew-mess.raw")
	made, err := exec.CommandContext(t.Context(), "mkfs.ext4", "-q", "-L", "mess", "-d", tree, image, "16M").CombinedOutput()
	require.NoError(t, err, string(made))
	require.NoError(t, os.WriteFile(filepath.Join(quay.Folder, "crew-mess.machine.yaml"), container("crew-mess.raw", "raw"), 0o600))
	_, err = quay.Define(container(image, "raw"))
	require.NoError(t, err)

	list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	require.NotNil(t, list.Items[0].Filesystem)
	assert.Equal(t, "ext4", *list.Items[0].Filesystem)
	assert.Equal(t, []string{"crew-mess"}, list.Items[0].Machines)
	assert.Regexp(t, `(?m)^quay:crew-mess +off +container `, testkit.Run(t, tree, s.State, "machine", "list").Out)
	assert.Contains(t, testkit.Run(t, tree, s.State, "pool", "disks", "quay-store").Out, "ext4 without partitions")

	_, err = s.StartMachine(t.Context(), "quay", "crew-mess")
	require.NoError(t, err)
	move := plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "quay:crew-mess",
		To:          "quay",
		Destination: &plan.Place{Pool: "harbour"},
		As:          "qcow2",
		Stop:        true,
		Start:       true,
	}
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	assert.True(t, done.Machine.CameUp)
	now, err := s.Machine(t.Context(), "quay", "crew-mess")
	require.NoError(t, err)
	assert.True(t, now.Is.Container)
	assert.EqualValues(t, "running", now.State)
	assert.Equal(t, "harbour", *now.Disks[0].Pool)

	d := daemon.Start(t)
	runs := "libvirt"
	_, err = s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &d.Socket})
	require.NoError(t, err)
	addPool(t, s.Service, "lamp-room", d.Dir)
	move.To, move.Destination = "local", &plan.Place{Pool: "lamp-room"}
	p, err := s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "it is a container, and the format domain-xml has none")
	p, err = s.Plan(t.Context(), plan.Request{
		Kind: plan.PackMachine, Machine: "quay:crew-mess", Destination: &plan.Place{Pool: "lamp-room", Path: "crew-mess.ova"}, Stop: true,
	})
	require.NoError(t, err)
	require.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "it is a container, and an envelope has none")
}

// TestAContainerWhoseRootIsAFolder: it is moved to another pool over SSH with the container stopped and started, with owners, rights and links; back by undo,
// and removed and given back. Where the host runs no commands for us, that is said before.
func TestAContainerWhoseRootIsAFolder(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{Commands: true})
	on := "quay"
	harbour := filepath.Join(quay.Folder, "harbour")
	root := filepath.Join(quay.Folder, "mess/root")
	require.NoError(t, os.MkdirAll(harbour, 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/hostname"), []byte("crew-mess\n"), 0o600))
	require.NoError(t, os.Link(filepath.Join(root, "etc/hostname"), filepath.Join(root, "etc/mailname")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "ladle"), nil, 0o600))
	require.NoError(t, os.Chmod(filepath.Join(root, "ladle"), 0o710|os.ModeSetuid))
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "harbour", Host: &on, Folder: harbour})
	require.NoError(t, err)
	_, err = quay.Define(container(root, "folder"))
	require.NoError(t, err)
	_, err = s.StartMachine(t.Context(), "quay", "crew-mess")
	require.NoError(t, err)

	move := plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "quay:crew-mess",
		To:          "quay",
		Destination: &plan.Place{Pool: "harbour"},
		Stop:        true,
		Start:       true,
		As:          "qcow2",
	}
	job := testkit.Begin(t, s.Service, move)
	done := testkit.Proven(t, s.Service, job.Id)
	assert.True(t, done.Machine.CameUp)
	assert.Contains(t, done.Compared, "each name, owner, right, time, link, extended attribute and content")
	moved := filepath.Join(harbour, "crew-mess/root")
	info, err := os.Stat(filepath.Join(moved, "ladle"))
	require.NoError(t, err)
	assert.Equal(t, 0o710|os.ModeSetuid, info.Mode())
	one, err := os.Stat(filepath.Join(moved, "etc/hostname"))
	require.NoError(t, err)
	other, err := os.Stat(filepath.Join(moved, "etc/mailname"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(one, other))
	now, err := s.Machine(t.Context(), "quay", "crew-mess")
	require.NoError(t, err)
	assert.Equal(t, moved, now.Is.Disks[0].File)
	assert.Equal(t, "folder", now.Is.Disks[0].Format)
	assert.DirExists(t, root, "it was left: nothing says that it is to be held")

	_, err = s.StopMachine(t.Context(), "quay", "crew-mess", 0, true)
	require.NoError(t, err)
	named := func(r plan.Request) string { // names alone change, and the host tells no identity of files: that is not called proven
		id := testkit.Begin(t, s.Service, r).Id
		require.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, id).State)
		return id
	}
	named(plan.Request{Kind: plan.Undo, Job: job.Id})
	now, err = s.Machine(t.Context(), "quay", "crew-mess")
	require.NoError(t, err)
	assert.Equal(t, root, now.Is.Disks[0].File)
	assert.NoDirExists(t, moved)

	gone := named(plan.Request{Kind: plan.RemoveMachine, Machine: "quay:crew-mess"})
	assert.NoDirExists(t, root)
	_, err = s.Machine(t.Context(), "quay", "crew-mess")
	require.Error(t, err)
	named(plan.Request{Kind: plan.Undo, Job: gone})
	assert.FileExists(t, filepath.Join(root, "etc/hostname"))
	started, err := s.StartMachine(t.Context(), "quay", "crew-mess")
	require.NoError(t, err)
	assert.EqualValues(t, "running", started.State)

	pier := standins.Join(t, s.Service, "pier", "pier-store", standin.Traits{})
	there := filepath.Join(pier.Folder, "mess")
	require.NoError(t, os.CopyFS(there, os.DirFS(root)))
	_, err = pier.Define(container(there, "folder"))
	require.NoError(t, err)
	p, err := s.Plan(t.Context(), plan.Request{
		Kind: plan.MoveMachine, Machine: "pier:crew-mess", To: "quay", Destination: &plan.Place{Pool: "harbour"}, Identity: "new",
	})
	require.NoError(t, err)
	require.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "the host runs no tar(1) for us")
	assert.Contains(t, messages(p.Plan), "put it into an image with one filesystem")
}
