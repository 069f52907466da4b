package domain

import (
	"strings"
	"testing"

	"bagaglio/core/machine"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const ledger = `<domain><name>cargo-ledger</name><uuid>0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1</uuid><title>The ledger</title>
<memory unit="GiB">2</memory><vcpu>4</vcpu><cpu mode="custom"><model>x</model><topology sockets="1" cores="2" threads="2"/></cpu>
<os><type machine="q35">hvm</type><loader type="pflash" secure="yes">/fw</loader><nvram>/var/cargo.fd</nvram></os><clock offset="utc"/>
<devices>
  <disk type="file" device="disk"><driver type="vpc" cache="none"/><source file="/srv/a.vhd"/><target dev="vda" bus="virtio"/><boot order="1"/><serial>S1</serial></disk>
  <disk type="block"><driver type="raw"/><source dev="/dev/sdb"/><target dev="sda" bus="scsi"/><readonly/></disk>
  <disk type="volume"><driver type="qcow2"/><source pool="quay" volume="ledger.qcow2"/><target dev="vdb" bus="virtio"/></disk>
  <disk type="network"><source protocol="nbd" name="ledger"/><target dev="vdc" bus="virtio"/></disk>
  <disk type="file" device="cdrom"><source file="/srv/setup.iso"/><target dev="sdc" bus="sata"/></disk>
  <interface type="network"><mac address="52:54:00:00:00:01"/><source network="quay"/><model type="virtio"/><boot order="2"/></interface>
  <graphics type="vnc"/><serial type="pty"/><tpm/><channel><target name="agent.0"/></channel>
</devices></domain>`

// TestWhatAMachineIs: disks by file, device, volume and network, and all else that a technician asks for first.
func TestWhatAMachineIs(t *testing.T) {
	m, err := machine.Describe("domain-xml", []byte(ledger))
	require.NoError(t, err)
	assert.Equal(t, machine.Machine{
		Name: "cargo-ledger", UUID: "0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", Notes: "The ledger", Memory: 2 << 30, Firmware: machine.UEFI,
		Processors: machine.Processors{Count: 4, Sockets: 1, Cores: 2, Threads: 2, Model: "custom x"},
		SecureBoot: true, TPM: true, Variables: "/var/cargo.fd", Chipset: "q35", Clock: "utc",
		Disks: []machine.Disk{
			{File: "/srv/a.vhd", Format: "vhd", Bus: "virtio", Slot: "vda", Boot: 1, Cache: "none", Serial: "S1"},
			{File: "/dev/sdb", Format: "raw", Bus: "scsi", Slot: "sda", ReadOnly: true},
			{Pool: "quay", Volume: "ledger.qcow2", Format: "qcow2", Bus: "virtio", Slot: "vdb"},
			{Remote: "nbd ledger", Bus: "virtio", Slot: "vdc"},
		},
		Drives:   []machine.Disk{{Device: "cdrom", File: "/srv/setup.iso", Bus: "sata", Slot: "sdc"}},
		Networks: []machine.Network{{Kind: "network", Network: "quay", MAC: "52:54:00:00:00:01", Model: "virtio", Boot: 2}},
		Displays: []string{"vnc"}, Serials: []string{"pty"}, Channels: []string{"agent.0"},
	}, m)
	for _, nonsense := range []string{"", "<x/>", `<domain><memory unit="acres">1</memory></domain>`, `<domain><memory unit="TiB">9223372036854775807</memory></domain>`} {
		_, err := machine.Describe("domain-xml", []byte(nonsense))
		require.ErrorIs(t, err, machine.ErrOther, nonsense)
	}
	plain, err := machine.Describe("domain-xml", []byte(`<domain><name>a&#10;b</name><memory>1024</memory></domain>`))
	require.NoError(t, err)
	assert.Equal(t, int64(1<<20), plain.Memory, "KiB where no unit is named")
	assert.Equal(t, machine.BIOS, plain.Firmware)
	assert.NotContains(t, plain.Name, "\n")
}

// TestDisksThatAreVolumes: a disk that becomes a block device is said to be one, and a file again when it is taken back.
func TestDisksThatAreVolumes(t *testing.T) {
	const file, volume = "/srv/quay/tide-board.raw", "/dev/isola/tide-board"
	text := []byte(
		"<domain type=\"x\">\n <name>tide-board</name>\n <memory unit=\"GiB\">1</memory><vcpu>1</vcpu><os><type>hvm</type></os>\n <devices>" +
			"<disk type=\"file\" device=\"disk\"><driver type=\"raw\"/><source file=\"" + file + "\"/><target dev=\"vda\" bus=\"virtio\"/></disk></devices>\n</domain>\n",
	)
	want := strings.NewReplacer(`type="file"`, `type="block"`, "file=\""+file, "dev=\""+volume).Replace(string(text))
	changed, err := machine.Follow("tide-board.xml", text, machine.Change{Names: map[string]string{file: volume}})
	require.NoError(t, err)
	assert.Equal(t, want, string(changed))
	back, err := machine.Follow("tide-board.xml", changed, machine.Change{Names: map[string]string{file: volume}}.Reverse())
	require.NoError(t, err)
	assert.Equal(t, string(text), string(back))

	m, err := machine.Describe("domain-xml", text)
	require.NoError(t, err)
	m.Disks[0].File = volume
	became, err := machine.Become(text, "domain-xml", "domain-xml", m)
	require.NoError(t, err)
	assert.Equal(t, want, string(became))
	fresh, err := write(m)
	require.NoError(t, err)
	assert.Contains(t, string(fresh), `<disk type="block" device="disk"><driver type="raw"/><source dev="`+volume+`"/>`)
	inMemory, err := machine.Follow("tide-board.xml", text, machine.Change{Names: map[string]string{file: "/dev/shm/tide-board.raw"}})
	require.NoError(t, err)
	assert.Contains(t, string(inMemory), `file="/dev/shm/tide-board.raw"`)
}
