package all

import (
	"testing"

	"bagaglio/core/machine"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const tideBoardVMX = `.encoding = "UTF-8"
displayName = "tide-board"
annotation = "ask the harbour|0Abefore noon"
guestOS = "debian11-64"
uuid.bios = "0c 7a 6c 7e 39 b4 4e 4b-9a 53 6c 3b 5a d0 a8 f1"
uuid.location = "56 4d 00"
memSize = "2048"
numvcpus = "4"
cpuid.coresPerSocket = "2"
firmware = "efi"
uefi.secureBoot.enabled = "TRUE"
nvram = "tide-board.nvram"
scsi0.present = "TRUE"
scsi0.virtualDev = "pvscsi"
scsi0:0.present = "TRUE"
scsi0:0.fileName = "tide-board.vmdk"
sata0:1.fileName = "log.vmdk"
sata0:1.present = "FALSE"
ide1:0.present = "TRUE"
ide1:0.deviceType = "cdrom-image"
ide1:0.fileName = "setup.iso"
floppy0.fileName = "A:"
ethernet0.present = "TRUE"
ethernet0.networkName = "quay-lan"
ethernet0.addressType = "generated"
ethernet0.generatedAddress = "52:54:00:71:c4:e7"
ethernet0.virtualDev = "vmxnet3"
ethernet1.present = "TRUE"
ethernet1.connectionType = "nat"
serial0.present = "TRUE"
serial0.fileType = "pipe"
tide.gauge = "north"
`

// TestReadVMX: what a definition of that format says is the machine, and what becomes of one line leaves the others.
func TestReadVMX(t *testing.T) {
	m, err := machine.Describe("vmx", []byte(tideBoardVMX))
	require.NoError(t, err)
	assert.Equal(t, machine.Machine{
		Name: "tide-board", UUID: "0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", Notes: "ask the harbour\nbefore noon", Guest: machine.Linux,
		Processors: machine.Processors{Count: 4, Sockets: 2, Cores: 2, Threads: 1}, Memory: 2 << 30, Firmware: machine.UEFI, SecureBoot: true,
		Variables: "tide-board.nvram",
		Disks:     []machine.Disk{{File: "tide-board.vmdk", Format: "vmdk", Bus: "scsi", Slot: "scsi0:0"}},
		Drives: []machine.Disk{
			{Device: "cdrom", File: "setup.iso", Bus: "ide", Slot: "ide1:0"}, {Device: "floppy", File: "A:", Bus: "fdc", Slot: "floppy0"},
		},
		Networks: []machine.Network{
			{Kind: "network", Network: "quay-lan", MAC: "52:54:00:71:c4:e7", Model: "vmxnet3"}, {Kind: "user"},
		},
		Serials: []string{"pipe"},
	}, m)
	same, err := machine.Become([]byte(tideBoardVMX), "vmx", "vmx", m)
	require.NoError(t, err)
	assert.Equal(t, tideBoardVMX, string(same))
	m.Networks[0].MAC, m.Memory = "52:54:00:00:00:09", 1<<30
	now, err := machine.Become([]byte(tideBoardVMX), "vmx", "vmx", m)
	require.NoError(t, err)
	for _, line := range []string{`memSize = "1024"`, `ethernet0.address = "52:54:00:00:00:09"`, `tide.gauge = "north"`, `uuid.location = "56 4d 00"`} {
		assert.Contains(t, string(now), line+"\n")
	}
	for _, nonsense := range []string{`memsize = "much"`, `numvcpus = "-1"`, `memsize = "99999999999999"`} {
		_, err := machine.Describe("vmx", []byte(nonsense))
		require.ErrorIs(t, err, machine.ErrOther, nonsense)
	}
}

const tideBoardOVF = `<?xml version="1.0"?><Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1" xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
<References><File ovf:id="f1" ovf:href="tide%20board.vmdk"/></References>
<DiskSection><Info/><Disk ovf:diskId="d1" ovf:fileRef="f1" ovf:format="http://example.org/vmdk.html#stream"/><Disk ovf:diskId="d2" ovf:capacity="1"/></DiskSection>
<VirtualSystem ovf:id="tide-board"><AnnotationSection><Annotation>ask the harbour</Annotation></AnnotationSection>
<OperatingSystemSection><Description>Debian GNU/Linux 12 (64-bit)</Description></OperatingSystemSection>
<VirtualHardwareSection>
<Item><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>2</rasd:VirtualQuantity></Item>
<Item><rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits><rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>512</rasd:VirtualQuantity></Item>
<Item><rasd:InstanceID>3</rasd:InstanceID><rasd:ResourceSubType>AHCI</rasd:ResourceSubType><rasd:ResourceType>20</rasd:ResourceType></Item>
<Item><rasd:HostResource>ovf:/disk/d1</rasd:HostResource><rasd:InstanceID>4</rasd:InstanceID><rasd:Parent>3</rasd:Parent><rasd:ResourceType>17</rasd:ResourceType></Item>
<Item><rasd:InstanceID>5</rasd:InstanceID><rasd:Parent>3</rasd:Parent><rasd:ResourceType>15</rasd:ResourceType></Item>
<Item><rasd:Address>52:54:00:71:c4:e7</rasd:Address><rasd:Connection>quay-lan</rasd:Connection><rasd:InstanceID>6</rasd:InstanceID><rasd:ResourceSubType>E1000</rasd:ResourceSubType><rasd:ResourceType>10</rasd:ResourceType></Item>
</VirtualHardwareSection></VirtualSystem></Envelope>`

// TestReadOVF likewise, by the types of its resources.
func TestReadOVF(t *testing.T) {
	m, err := machine.Describe("ovf", []byte(tideBoardOVF))
	require.NoError(t, err)
	assert.Equal(t, machine.Machine{
		Name: "tide-board", Notes: "ask the harbour", Guest: machine.Linux, Processors: machine.Processors{Count: 2}, Memory: 512 << 20,
		Firmware: machine.BIOS, Disks: []machine.Disk{{File: "tide board.vmdk", Format: "vmdk", Bus: "sata"}},
		Drives:   []machine.Disk{{Device: "cdrom", Bus: "sata"}},
		Networks: []machine.Network{{Kind: "network", Network: "quay-lan", MAC: "52:54:00:71:c4:e7", Model: "e1000"}},
	}, m)
}
