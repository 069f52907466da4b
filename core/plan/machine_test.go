package plan

import (
	"slices"
	"strings"
	"testing"

	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"

	_ "bagaglio/core/disk/all"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDisksOfAMachineTogether have to fit, also where each alone does; what stands in the way of a machine is told by name.
func TestDisksOfAMachineTogether(t *testing.T) {
	r := Request{Kind: MoveMachine, Machine: "quay:ticketing", To: "lighthouse", Destination: &Place{Pool: "lamp-room"}}
	require.NoError(t, r.Validate())
	disk := Plan{
		Before: []Side{{Place: Place{Pool: "quay-store", Path: "a.raw"}, Format: "raw", Layout: "thin"}},
		After:  []Side{{Place: Place{Pool: "lamp-room", Path: "a.qcow2"}, Format: "qcow2", Layout: "thin", AllocatedSize: 60 << 30}},
	}
	f := MachineFacts{
		Name:     "ticketing",
		State:    "off",
		Off:      true,
		Format:   "none",
		ToFormat: "none",
		Pools:    map[string]Reached{"lamp-room": {Host: "lighthouse", Root: volumes.Ground{Folder: "/lamp"}, Free: 100 << 30}},
		Is: machine.Machine{
			Name:  "ticketing",
			Disks: []machine.Disk{{File: "/quay/a.raw", Slot: "vda"}, {File: "/quay/b.raw", Slot: "vdb"}},
		},
		Disks: []Place{{Pool: "quay-store", Path: "a.raw"}, {Pool: "quay-store", Path: "b.raw"}},
	}
	said := func() string {
		var all []string
		for _, c := range ForMachine(r, f, []Plan{disk, disk}).With(Blocks) {
			all = append(all, c.Name+": "+c.Message)
		}
		return strings.Join(all, "\n")
	}
	assert.Contains(t, said(), "room: Its disks need 120 GiB")
	f.Pools["lamp-room"] = Reached{Host: "lighthouse", Root: volumes.Ground{Folder: "/lamp"}, Free: 121 << 30}
	assert.NotContains(t, said(), "room: ")
	f.Pools["lamp-room"] = Reached{Host: "lighthouse", Root: volumes.Ground{Folder: "/lamp"}, Free: storage.Unknown}
	assert.NotContains(t, said(), "room: ")
	f.Pools["lamp-room"] = Reached{Host: "quay", Root: volumes.Ground{Folder: "/lamp"}, Free: storage.Unknown}
	assert.Contains(t, said(), "lighthouse could not use it")
	f.Disks[1] = Place{}
	assert.Contains(t, said(), "The disk vdb (/quay/b.raw) lies outside of all pools")
	f.Off, f.State = false, "running"
	assert.Contains(t, said(), "off: quay:ticketing is running")
	f.Saved = true
	assert.Contains(t, said(), "off: quay:ticketing is saved")
}

// TestCapital: a sentence begins with a capital letter, the name of a file stays as it is.
func TestCapital(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "the source is open": "The source is open", "ticketing.qcow2 was not closed": "ticketing.qcow2 was not closed", "a/b is gone": "a/b is gone",
	} {
		assert.Equal(t, want, capital(text))
	}
}

// TestWhatAGuestStartsWith decides whether it may get another bus or firmware: each is said, with the way to leave it.
func TestWhatAGuestStartsWith(t *testing.T) {
	is := machine.Machine{
		Name:     "tide-board",
		Firmware: machine.BIOS,
		Disks:    []machine.Disk{{File: "/srv/quay/board.raw", Format: "raw", Bus: "sata", Slot: "sda"}},
	}
	starts := func(unknown string, buses ...string) inspect.Starts {
		return inspect.Starts{
			Firmware: []string{inspect.FirmwareBIOS},
			Systems:  []inspect.System{{Kind: "linux", Kernels: []inspect.Kernel{{Version: "6.1", Buses: buses, Unknown: unknown}}}},
			Findings: []inspect.Finding{
				{What: "etc/fstab names /dev/sda1: on another bus the disk is called otherwise.", Do: "Name it by its UUID."},
			},
		}
	}
	for _, c := range []struct {
		name, firmware string
		starts         inspect.Starts
		severity       Severity
		says           string
	}{
		{"a driver", "", starts("", "sata", "virtio"), Informs, "has a driver for virtio"},
		{"none", "", starts("", "sata"), Warns, "has no driver for virtio: it will not find what it runs from"},
		{"not known", "", starts("packed in a way that is not read"), Informs, "is not known"},
		{"a name that changes", "", starts("", "virtio"), Warns, "etc/fstab names /dev/sda1"},
		{"another firmware", machine.UEFI, starts("", "virtio"), Warns, "nothing that UEFI starts, but for BIOS"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := Request{
				Kind: MoveMachine, Machine: "quay:tide-board", To: "lighthouse", Destination: &Place{Pool: "lamp-room"},
				Changes: Changes{Buses: map[string]string{AllDisks: "virtio"}, Firmware: c.firmware},
			}
			require.True(t, r.NeedsStarts(is, 0))
			f := MachineFacts{
				Name:     "tide-board",
				Off:      true,
				Format:   own.Name,
				ToFormat: own.Name,
				Is:       is,
				Disks:    []Place{{Pool: "quay", Path: "board.raw"}},
				Pools: map[string]Reached{
					"lamp-room": {Host: "lighthouse", Root: volumes.Ground{Folder: "/lamp"}},
				},
				Starts: map[string]inspect.Starts{"sda": c.starts},
			}
			p := ForMachine(r, f, []Plan{{After: []Side{{Place: Place{Pool: "lamp-room", Path: "board.raw"}, Format: "raw"}}}})
			i := slices.IndexFunc(p.Checks, func(k Check) bool { return k.Name == "starts" && strings.Contains(k.Message, c.says) })
			require.GreaterOrEqual(t, i, 0, "%v", p.Checks)
			assert.Equal(t, c.severity, p.Checks[i].Severity)
			if c.severity == Warns && c.firmware == "" {
				require.Len(t, p.Checks[i].Remedies, 2)
				assert.JSONEq(t, `{"fit":true}`, string(p.Checks[i].Remedies[0].Change))
				assert.JSONEq(t, `{"changes":{"buses":{"all":"virtio","sda":"sata"}}}`, string(p.Checks[i].Remedies[1].Change))
			}
		})
	}
	assert.False(t, Request{}.NeedsStarts(is, 0))
}
