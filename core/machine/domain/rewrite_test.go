package domain

import (
	"strings"
	"testing"

	"bagaglio/core/machine"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnotherMachine: what a Machine says becomes what it should, everything else stays byte for byte.
func TestAnotherMachine(t *testing.T) {
	text := strings.Replace(
		ledger,
		"</devices>",
		`  <tide:gauge xmlns:tide="urn:tide" level="3"><deep/></tide:gauge><!-- kept --></devices>`,
		1,
	)
	m, err := machine.Describe("domain-xml", []byte(text))
	require.NoError(t, err)
	same, err := machine.Become([]byte(text), "domain-xml", "domain-xml", m)
	require.NoError(t, err)
	assert.Equal(t, text, string(same), "nothing changes")

	m.Name, m.UUID, m.Memory, m.Variables = "ledger & co", "11111111-2222-4333-8444-555555555555", 512<<20, ""
	m.Processors.Count = 1
	for i, format := range []string{"qcow2", "qcow2", "raw", "qcow2"} {
		m.Disks[i].File, m.Disks[i].Format = "/lamp/ledger-"+m.Disks[i].Slot+"."+format, format
		m.Disks[i].Pool, m.Disks[i].Volume, m.Disks[i].Remote = "", "", ""
	}
	m.Disks[1].Bus, m.Disks[1].Slot = "virtio", "vdd"
	m.Drives[0].File = ""
	m.Networks[0].MAC, m.Networks[0].Network = "52:54:00:aa:bb:cc", "pier"
	after, err := machine.Become([]byte(text), "domain-xml", "domain-xml", m)
	require.NoError(t, err)
	read, err := machine.Describe("domain-xml", after)
	require.NoError(t, err)
	assert.Empty(t, machine.Compare(m, read))
	for _, kept := range []string{
		`<tide:gauge xmlns:tide="urn:tide" level="3"><deep/></tide:gauge><!-- kept -->`, `<serial>S1</serial>`, `cache="none"`,
		`<loader type="pflash" secure="yes">/fw</loader>`, `<name>ledger &amp; co</name>`,
	} {
		assert.Contains(t, string(after), kept)
	}
	for _, gone := range []string{"/dev/sdb", "nvram", "setup.iso", `type="network"><source`, `volume=`, `type="block"`} {
		assert.NotContains(t, string(after), gone)
	}
	files, err := machine.Parse("ledger.xml", after)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]string{"/lamp/ledger-vda.qcow2", "/lamp/ledger-sda.qcow2", "/lamp/ledger-vdb.raw", "/lamp/ledger-vdc.qcow2"},
		files.Disks,
	)

	m.Firmware, m.SecureBoot, m.Chipset = machine.BIOS, false, "pc"
	m.Notes = "two\nlines"
	addressed := strings.Replace(string(after), `<readonly/>`, `<readonly/><address type="pci" slot="9"/>`, 1)
	addressed = strings.Replace(addressed, "<os>", `<os a='b' firmware = "efi">`, 1)
	old, err := machine.Become([]byte(addressed), "domain-xml", "domain-xml", m)
	require.NoError(t, err)
	assert.Contains(t, string(old), "<os a='b'>", "the emulator's own firmware is not named")
	for _, gone := range []string{"pflash", "<address", "<title>"} {
		assert.NotContains(t, string(old), gone)
	}
	assert.Contains(t, string(old), "<description>two\nlines</description>")
	m.Firmware, m.Chipset = machine.UEFI, "q35"
	young, err := machine.Become(old, "domain-xml", "domain-xml", m)
	require.NoError(t, err)
	assert.Contains(t, string(young), `firmware="efi"`)

	many := strings.Replace(text, "<devices>", "<devices>"+strings.Repeat(`<disk type="file"><source file="/a"/></disk>`, 300), 1)
	all, err := machine.Describe("domain-xml", []byte(many))
	require.NoError(t, err)
	_, err = machine.Become([]byte(many), "domain-xml", "domain-xml", all)
	require.ErrorContains(t, err, "are looked at", "none of its disks is forgotten")

	m.Disks = m.Disks[:1]
	_, err = machine.Become([]byte(text), "domain-xml", "domain-xml", m)
	require.ErrorContains(t, err, "has to keep them")
}

// TestDifferences are told with what was and is.
func TestDifferences(t *testing.T) {
	m, err := machine.Describe("domain-xml", []byte(ledger))
	require.NoError(t, err)
	assert.Empty(t, machine.Compare(m, m))
	other := m
	other.Disks = append([]machine.Disk{}, m.Disks[:2]...)
	other.Disks[1].Bus, other.Chipset, other.TPM = "sata", "", false
	assert.Subset(t, machine.Compare(m, other), []machine.Difference{
		{What: "TPM", Before: "yes"}, {What: "chipset", Before: "q35"}, {What: "disk 2, bus", Before: "scsi", After: "sata"},
		{What: "disk 3, slot", Before: "vdb"},
	})
	assert.Contains(t, machine.Compare(other, m), machine.Difference{What: "chipset", After: "q35"})
	assert.NotContains(t, machine.Unasked(other, m), machine.Difference{What: "chipset", After: "q35"}, "the host's choice")
	versioned := m
	versioned.Chipset = "pc-q35-7.2"
	assert.Empty(t, machine.Unasked(m, versioned), "so is the version")
	versioned.Chipset = "pc-i440fx-7.2"
	assert.Equal(t, []machine.Difference{{What: "chipset", Before: "q35", After: "pc-i440fx-7.2"}}, machine.Unasked(m, versioned))
}

// TestAFirstDiskOnSCSI gets the machine a controller that systems of today have a driver for; one that it has stays.
func TestAFirstDiskOnSCSI(t *testing.T) {
	m := machine.Machine{
		Name: "tide-board", Processors: machine.Processors{Count: 1}, Memory: 1 << 30,
		Disks: []machine.Disk{{File: "/quay/a.raw", Format: "raw", Bus: "scsi"}, {File: "/quay/b.raw", Format: "raw", Bus: "scsi"}},
	}
	made, err := write(m)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(made), scsiController))
	m.Disks[0].Bus, m.Disks[1].Bus = "ide", "sata"
	made, err = write(m)
	require.NoError(t, err)
	assert.NotContains(t, string(made), "<controller")
	is, err := describe(made)
	require.NoError(t, err)
	for i := range is.Disks {
		is.Disks[i].Bus, is.Disks[i].Slot = "scsi", ""
	}
	other, err := rewrite(made, is)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(other), scsiController))
	had := strings.Replace(string(made), "<devices>", `<devices><controller type="scsi" index="0" model="lsilogic"/>`, 1)
	other, err = rewrite([]byte(had), is)
	require.NoError(t, err)
	assert.NotContains(t, string(other), scsiController)
	assert.Contains(t, string(other), "lsilogic")
}
