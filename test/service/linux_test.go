package service

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/linux"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// variables are those of the firmware before anything was kept in them.
const variables = "/usr/share/OVMF/OVMF_VARS_4M.fd"

// tideBoard makes a machine known with the disk of a real guest, which writes on its serial port into a file.
func tideBoard(t *testing.T, d *daemon.Daemon) (console string) {
	t.Helper()
	if _, err := os.Stat(variables); err != nil {
		t.Skip("the firmware is missing: apt-get install ovmf")
	}
	content, err := os.ReadFile(linux.Disk(t))
	require.NoError(t, err)
	disk := d.Disk(t, "tide-board.raw", content)
	fresh, err := os.ReadFile(variables)
	require.NoError(t, err)
	nvram := d.Disk(t, "tide-board.fd", fresh)
	console = d.Disk(t, "console.txt", nil)
	t.Cleanup(func() {
		if text, err := os.ReadFile(console); err == nil && t.Failed() {
			t.Logf("the guest said: %q", text)
		}
	})
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	h, err := kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: daemon.Dial})
	require.NoError(t, err)
	defer h.Close()
	m, err := h.(host.Definer).Define(t.Context(), []byte(fmt.Sprintf(`<domain type='qemu'>
  <name>tide-board</name><memory unit='MiB'>512</memory><vcpu>1</vcpu>
  <os firmware='efi'><type arch='x86_64' machine='q35'>hvm</type><nvram>%s</nvram></os>
  <features><acpi/></features>
  <devices>
    <disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='%s'/><target dev='vda' bus='virtio'/></disk>
    <serial type='file'><source path='%s' append='on'/></serial>
    <video><model type='vga'/></video><graphics type='vnc' port='-1' autoport='no'><listen type='none'/></graphics>
  </devices>
</domain>`, nvram, disk, console)))
	require.NoError(t, err)
	require.NoError(t, h.(host.Waker).StartWithHost(t.Context(), m, true))
	return console
}

// TestARealGuest works on its filesystem all the while. It goes from host to host, is started by UEFI with the variables that it had, then by BIOS on another board, and by UEFI again, from
// images of three formats; each time it finds that its content is as it was. Then its storage moves while it runs.
func TestARealGuest(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s, here, there := twoHosts(t)
	console := tideBoard(t, here)
	_, err := s.ChangePool(t.Context(), "quay-store", api.PoolChange{Rules: plan.Rules{Owner: here.Owner, Mode: "0660"}})
	require.NoError(t, err)
	was, err := s.Machine(t.Context(), "local", "tide-board")
	require.NoError(t, err)
	require.True(t, was.Is.WithHost)

	says := func(firmware string, starts int) {
		t.Helper()
		up := linux.Up(firmware, "same", fmt.Sprint(starts))
		require.Eventually(t, func() bool {
			text, err := os.ReadFile(console)
			return err == nil && strings.Contains(string(text), up)
		}, 5*time.Minute, 200*time.Millisecond, "it says %s", up)
	}
	from, to, pool := "local", "lighthouse", "lamp-room"
	for i, row := range []struct {
		as      string
		changes plan.Changes
		after   string // firmware
		parts   int
	}{
		{"vmdk", plan.Changes{}, machine.UEFI, 2},
		{"vdi", plan.Changes{Firmware: machine.BIOS, Chipset: "pc"}, machine.BIOS, 2},
		{"qcow2", plan.Changes{Firmware: machine.UEFI, Chipset: "q35"}, machine.UEFI, 1},
	} {
		move := plan.Request{
			Kind:        plan.MoveMachine,
			Machine:     from + ":tide-board",
			To:          to,
			Destination: &plan.Place{Pool: pool},
			As:          row.as,
			Start:       true,
			Within:      300,
			Changes:     row.changes,
		}
		p, err := s.Plan(t.Context(), move)
		require.NoError(t, err)
		require.False(t, p.Blocked, "%+v", p.Plan.Checks)
		r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
		assert.True(t, r.Machine.CameUp)
		assert.Empty(t, r.Machine.Unasked)
		require.Len(t, r.Parts, row.parts)
		for _, part := range r.Parts {
			assert.Equal(t, receipt.Proven, part.Outcome)
		}
		says(row.after, i+1)
		now, err := s.Machine(t.Context(), to, "tide-board")
		require.NoError(t, err)
		assert.Equal(t, row.after, now.Is.Firmware)
		assert.True(t, now.Is.WithHost, "it starts with its host there too")
		if i == 0 {
			assert.Equal(t, "tide-board/tide-board.fd", strings.TrimPrefix(now.Is.Variables, filepath.Dir(filepath.Dir(now.Is.Variables))+"/"))
		}
		if i == 2 {
			break
		}
		_, err = s.StopMachine(t.Context(), to, "tide-board", 0, true)
		require.NoError(t, err)
		if from, to, pool = to, from, "quay-store"; to != "local" {
			pool = "lamp-room"
		}
	}
	gallery := filepath.Join(there.Dir, "gallery")
	require.NoError(t, os.Mkdir(gallery, 0o777))
	require.NoError(t, os.Chmod(gallery, 0o777))
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "gallery", Host: &to, Folder: gallery})
	require.NoError(t, err)
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.MoveMachine, Machine: to + ":tide-board", To: to, Destination: &plan.Place{Pool: "gallery"}, As: "raw", Live: true,
	}).Id)
	assert.True(t, r.Machine.CameUp)
	_, err = s.StopMachine(t.Context(), to, "tide-board", 0, true)
	require.NoError(t, err)
	_, err = s.StartMachine(t.Context(), to, "tide-board")
	require.NoError(t, err)
	says(machine.UEFI, 4)
}
