package service

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/linux"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// newPlace is where a guest comes from, or comes to.
type newPlace struct{ bus, firmware, chipset string }

// kioskGuest makes a machine known with the disk of a guest, on a bus, and returns the file that its serial port writes to.
func kioskGuest(t *testing.T, d *daemon.Daemon, l linux.Layout, at newPlace) (console string) {
	t.Helper()
	content, err := os.ReadFile(linux.Guest(t, l))
	require.NoError(t, err)
	disk := d.Disk(t, "gate-kiosk.raw", content)
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
	target := map[string]string{"ide": "hda", "sata": "sda", "scsi": "sda", "virtio": "vda", "nvme": "nvme0n1"}[at.bus]
	_, err = h.(host.Definer).Define(t.Context(), []byte(fmt.Sprintf(`<domain type='qemu'>
  <name>gate-kiosk</name><memory unit='MiB'>768</memory><vcpu>1</vcpu>
  <os><type arch='x86_64' machine='%s'>hvm</type></os>
  <features><acpi/></features>
  <devices>
    <disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='%s'/><target dev='%s' bus='%s'/></disk>
    <interface type='user'><mac address='52:54:00:0a:0b:0c'/><model type='virtio'/></interface>
    <serial type='file'><source path='%s' append='on'/></serial>
    <video><model type='vga'/></video><graphics type='vnc' port='-1' autoport='no'><listen type='none'/></graphics>
  </devices>
</domain>`, at.chipset, disk, target, at.bus, console)))
	require.NoError(t, err)
	return console
}

// saidOne waits until a guest has said one of several things.
func saidOne(t *testing.T, console string, what ...string) {
	t.Helper()
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(console)
		return err == nil && slices.ContainsFunc(what, func(w string) bool { return strings.Contains(string(text), w) })
	}, 6*time.Minute, 200*time.Millisecond, "it says %s", what)
}

// letGo waits until nobody has a file open: a host lets go of what a machine wrote a moment after that has ended.
func letGo(t *testing.T, file string) {
	t.Helper()
	require.Eventually(t, func() bool {
		all, err := filepath.Glob("/proc/[0-9]*/fd/*")
		return err == nil && !slices.ContainsFunc(all, func(fd string) bool {
			to, err := os.Readlink(fd)
			return err == nil && to == file
		})
	}, time.Minute, 200*time.Millisecond)
}

// TestAGuestStartsInItsNewPlace: one that knows a bus alone, and names its filesystems and its network card by where they were, does not come up on another bus; fitted to it on the
// copy, it does, with all of its filesystems and its network.
func TestAGuestStartsInItsNewPlace(t *testing.T) {
	ide := newPlace{"ide", machine.BIOS, "pc"}
	sata := newPlace{"sata", machine.BIOS, "q35"}
	uefi := func(bus string) newPlace { return newPlace{bus, machine.UEFI, "q35"} }
	bios := func(bus string) newPlace { return newPlace{bus, machine.BIOS, "pc"} }
	// What the kernel for machines has no drivers for takes the other one.
	const every = "linux-image-amd64"
	type row struct {
		maker, modules, root, kernel string
		from, to                     newPlace
	}
	var rows []row
	for _, maker := range []string{"initramfs-tools", "dracut"} {
		rows = append(rows,
			row{maker, "ata_piix sd_mod", "/dev/sda3", "", ide, bios("virtio")},
			row{maker, "ata_piix sd_mod", "/dev/sda3", "", ide, uefi("virtio")},
			row{maker, "ata_piix sd_mod", "/dev/sda3", "", ide, bios("scsi")},
			row{maker, "ata_piix sd_mod", "/dev/sda3", "", ide, uefi("scsi")},
			row{maker, "ata_piix sd_mod", "/dev/sda3", every, ide, uefi("sata")},
			row{maker, "ata_piix sd_mod", "/dev/sda3", every, ide, bios("virtio")},
			row{maker, "ahci sd_mod", "/dev/sda3", every, sata, uefi("virtio")},
			row{maker, "ahci sd_mod", "uuid", every, sata, bios("virtio")},
			row{maker, "ahci sd_mod", "uuid", every, sata, bios("ide")},
			row{maker, "ahci sd_mod", "/dev/sda3", every, sata, uefi("scsi")},
		)
	}
	fewer.Sometimes(t)
	for i, c := range fewer.Of(t, 1, rows) {
		t.Run(fmt.Sprintf("%02d %s %s to %s %s", i, c.maker, c.from.bus, c.to.bus, c.to.firmware), func(t *testing.T) {
			s, here, _ := twoHosts(t)
			console := kioskGuest(t, here, linux.Layout{Maker: c.maker, Modules: c.modules, Root: c.root, Kernel: c.kernel}, c.from)
			carry := plan.Request{
				Kind:        plan.CopyMachine,
				Machine:     "local:gate-kiosk",
				To:          "lighthouse",
				Destination: &plan.Place{Pool: "lamp-room"},
				Start:       true,
				Within:      600,
				Changes:     plan.Changes{Buses: map[string]string{plan.AllDisks: c.to.bus}, Firmware: c.to.firmware, Chipset: c.to.chipset},
			}
			p, err := s.Plan(t.Context(), carry)
			require.NoError(t, err)
			require.False(t, p.Blocked, "%+v", p.Plan.Checks)
			k := check(t, p.Plan, "starts")
			assert.Equal(t, plan.Warns, k.Severity)
			require.NotEmpty(t, k.Remedies)
			assert.JSONEq(t, `{"fit":true}`, string(k.Remedies[0].Change))
			if c.to.firmware == machine.BIOS { // otherwise nothing is started at all, which says nothing
				without := testkit.Begin(t, s.Service, carry)
				saidOne(t, console, "ALERT!", "dracut-initqueue", "does not exist")
				_, err = s.Cancel(t.Context(), without.Id)
				require.NoError(t, err)
				require.Equal(t, api.JobStateCancelled, testkit.Await(t, s.Service, without.Id).State)
				text, err := os.ReadFile(console)
				require.NoError(t, err)
				require.NotContains(t, string(text), "GUEST-UP")
				letGo(t, console)
			}
			carry.Fit, carry.Name = true, "gate-kiosk-fitted"
			done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, carry).Id)
			saidOne(t, console, linux.Says(c.to.firmware, "all", "enp9s9"))
			assert.True(t, done.Machine.CameUp)
			adapted := done.Adapted
			if len(done.Parts) > 0 {
				adapted = done.Parts[0].Adapted
			}
			require.NotNil(t, adapted)
			assert.NotEqual(t, adapted.Before, adapted.After)
			t.Logf("%d files were changed", len(adapted.Files))
		})
	}
}
