package plan

import (
	"strings"
	"testing"

	"bagaglio/core/machine"
	"bagaglio/core/storage"

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
		Pools:    map[string]Reached{"lamp-room": {Host: "lighthouse", Root: "/lamp", Free: 100 << 30}},
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
	f.Pools["lamp-room"] = Reached{Host: "lighthouse", Root: "/lamp", Free: 121 << 30}
	assert.NotContains(t, said(), "room: ")
	f.Pools["lamp-room"] = Reached{Host: "lighthouse", Root: "/lamp", Free: storage.Unknown}
	assert.NotContains(t, said(), "room: ")
	f.Pools["lamp-room"] = Reached{Host: "quay", Root: "/lamp", Free: storage.Unknown}
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
