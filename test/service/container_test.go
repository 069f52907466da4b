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
// pool with the container stopped and started again. A host that has no containers gets none, and none is packed. One whose root is a folder is shown, and not
// carried.
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

	_, err = s.StopMachine(t.Context(), "quay", "crew-mess", 0, true)
	require.NoError(t, err)
	root := filepath.Join(quay.Folder, "mess")
	require.NoError(t, os.CopyFS(root, os.DirFS(tree)))
	_, err = quay.Define(container(root, "folder"))
	require.NoError(t, err)
	move.To, move.Destination = "quay", &plan.Place{Pool: "quay-store"}
	p, err = s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "is a folder, of which owners, links and rights would have to be carried too")
	started, err := s.StartMachine(t.Context(), "quay", "crew-mess")
	require.NoError(t, err)
	assert.EqualValues(t, "running", started.State)
}
