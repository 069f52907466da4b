package all

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"bagaglio/core/machine"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rows has a definition of the same machine in each format: with two disks, one of them in another folder, and a drive for removable media.
var rows = map[string]string{
	"ovf": `<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1">
  <References>
    <File ovf:id="f1" ovf:href="tide%20board.vmdk"/><File ovf:id="f2" ovf:href="/srv/lighthouse/log.vmdk"/><File ovf:id="f3" ovf:href="setup.iso"/>
  </References>
  <DiskSection><Info/><Disk ovf:diskId="d1" ovf:fileRef="f1"/><Disk ovf:diskId="d2" ovf:fileRef="f2"/><Disk ovf:diskId="empty" ovf:capacity="1"/></DiskSection>
  <VirtualSystem ovf:id="vm1"><Name>tide-board</Name></VirtualSystem>
</Envelope>`,
	"domain-xml": `<domain type="x"><name>tide-board</name><devices>
  <disk type="file" device="disk"><source file="tide board.vmdk"/></disk>
  <disk type="file" device="cdrom"><source file="setup.iso"/></disk>
  <disk type="block"><source dev="/srv/lighthouse/log.vmdk"/></disk><disk><target dev="c"/></disk>
</devices></domain>`,
	"machine-file": `machine_file: 1
name: "tide-board"
processors:
  count: 1
memory: 67108864
firmware: "bios"
disks:
  - file: "tide board.vmdk"
    format: "vmdk"
  - file: "/srv/lighthouse/log.vmdk"
drives:
  - device: "cdrom"
    file: "setup.iso"
harbour: north
`,
	"vmx": "displayName = \"tide-board\"\r\nscsi0:0.present = \"TRUE\"\r\nscsi0:0.fileName = \"tide|20board.vmdk\"\r\n" +
		"ide1:0.deviceType = \"cdrom-image\"\r\nide1:0.fileName = \"setup.iso\"\r\nscsi0:1.fileName = \"\\srv\\lighthouse\\log.vmdk\"\r\nscsi0:2.present = \"FALSE\"\r\nscsi0:2.fileName = \"gone.vmdk\"\r\n",
}

func TestEveryFormat(t *testing.T) {
	for _, f := range machine.Formats() {
		t.Run(f.Name, func(t *testing.T) {
			text, ok := rows[f.Name]
			require.True(t, ok, "add a row for it")
			dir := t.TempDir()
			folder, err := local.Open(dir)
			require.NoError(t, err)
			defer folder.Close()
			put := func(name, text string) string {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
				return name
			}
			assert.True(t, machine.Claim("TIDE"+strings.ToUpper(f.Extension)))
			d, err := machine.Open(folder, put("a"+f.Extension, text))
			require.NoError(t, err)
			assert.Equal(
				t,
				machine.Definition{Name: "tide-board", Format: f.Name, Disks: []string{"tide board.vmdk", "/srv/lighthouse/log.vmdk"}},
				d,
			)
			assert.Equal(t, []string{"/pool/tide/tide board.vmdk", "/srv/lighthouse/log.vmdk"}, d.Uses("/pool/tide"))

			unnamed, err := machine.Open(folder, put("unnamed"+f.Extension, strings.NewReplacer("tide-board", "", `ovf:id="vm1"`, "").Replace(text)))
			require.NoError(t, err)
			assert.Equal(t, "unnamed", unnamed.Name)
			for name, other := range map[string]string{"empty": "", "other": "<note>the ferry leaves at ten</note>", "cut": text[:10], "long": strings.Repeat(" ", 5<<20)} {
				_, err := machine.Open(folder, put(name+f.Extension, other))
				assert.ErrorIs(t, err, machine.ErrOther, name)
			}
			many, err := machine.Open(folder, put("many"+f.Extension, strings.Replace(text, "tide board", strings.Repeat("tide", 2000), 1)))
			require.NoError(t, err)
			assert.LessOrEqual(t, len(many.Disks), 2, "a name that is too long")
		})
	}
	assert.Len(t, rows, len(machine.Formats()))
}

// TestEveryFormatFollows: a definition names its disks in their new places, and nothing else in it changes.
func TestEveryFormatFollows(t *testing.T) {
	old := map[string]string{
		"ovf":          "tide%20board.vmdk",
		"domain-xml":   "tide board.vmdk",
		"machine-file": "tide board.vmdk",
		"vmx":          "tide|20board.vmdk",
	}
	const to = `lamp room/tide & "board" | é.vmdk`
	now := map[string]string{
		"ovf":          "lamp%20room/tide%20&amp;%20%22board%22%20%7C%20%C3%A9.vmdk",
		"domain-xml":   "lamp room/tide &amp; &#34;board&#34; | é.vmdk",
		"machine-file": `lamp room/tide & \"board\" | é.vmdk`,
		"vmx":          `lamp room/tide & |22board|22 |7C é.vmdk`,
	}
	for _, f := range machine.Formats() {
		t.Run(f.Name, func(t *testing.T) {
			text := rows[f.Name]
			follow := func(c machine.Change) (string, error) {
				out, err := machine.Follow("a"+f.Extension, []byte(text), c)
				return string(out), err
			}
			change := machine.Change{Names: map[string]string{"tide board.vmdk": to}}
			changed, err := follow(change)
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(text, old[f.Name], now[f.Name], 1), changed)
			folder, err := local.Open(t.TempDir())
			require.NoError(t, err)
			defer folder.Close()
			put := func(text string) machine.Definition {
				file, err := folder.Create("a" + f.Extension)
				require.NoError(t, err)
				_, err = file.WriteAt([]byte(text), 0)
				require.NoError(t, errors.Join(err, file.Close()))
				d, err := machine.Open(folder, "a"+f.Extension)
				require.NoError(t, errors.Join(err, folder.Remove("a"+f.Extension)))
				return d
			}
			assert.False(t, put(text).Followed(change))
			assert.True(t, put(changed).Followed(change))
			assert.False(t, put(changed).Followed(change.Reverse()))

			for _, format := range append(slices.Clone(f.Images), "floppy") {
				changed, err := follow(machine.Change{Names: change.Names, Format: format})
				if format == "floppy" && !f.AnyImage {
					assert.ErrorContains(t, err, "cannot say")
					continue
				}
				require.NoError(t, err, format)
				assert.Equal(t, []string{to, "/srv/lighthouse/log.vmdk"}, put(changed).Disks, format)
			}
			_, err = follow(machine.Change{Names: map[string]string{"tide board.vmdk": "/srv/lamp-room/tide.vmdk"}})
			assert.Equal(t, f.Beside, err != nil, "a name outside of the folder of the definition")
			_, err = follow(machine.Change{Names: map[string]string{"gone.vmdk": "lamp.vmdk"}})
			assert.ErrorContains(t, err, "does not name gone.vmdk")
			_, err = machine.Follow("cut"+f.Extension, []byte(text)[:10], change)
			assert.ErrorIs(t, err, machine.ErrOther)
		})
	}
}

// TestDriverFollows: a definition that tells the format of an image tells the new one, of the disk that was converted only.
func TestDriverFollows(t *testing.T) {
	const text = "<domain><name>tide-board</name><!-- <source file='a.raw'/> --><devices><emulator>x</emulator>" +
		"<disk type='file' device='disk'><driver name='d' type = 'raw' cache='none'/><source\n file='a.raw' index='1'/></disk>" +
		"<disk><driver type='raw'/><source file='b.raw'/></disk>" +
		"<disk><source file='top.qcow2'/><backingStore type='file'><format type='raw'/><source file='c.raw'/></backingStore></disk></devices></domain>"
	out, err := machine.Follow("tide-board.xml", []byte(text), machine.Change{Names: map[string]string{"a.raw": "a.qcow2"}, Format: "qcow2"})
	require.NoError(t, err)
	want := strings.NewReplacer("type = 'raw'", "type = 'qcow2'", "\n file='a.raw'", "\n file='a.qcow2'").Replace(text)
	assert.Equal(t, want, string(out))
	for without, with := range map[string]string{
		"<disk><source file='a.raw'/></disk>":                        "<disk><driver type='qcow2'/><source file='a.qcow2'/></disk>",
		"<disk><driver/><source file='a.raw'/></disk>":               `<disk><driver type="qcow2"/><source file='a.qcow2'/></disk>`,
		"<disk><driver cache='none' /><source file='a.raw'/></disk>": `<disk><driver type="qcow2" cache='none' /><source file='a.qcow2'/></disk>`,
	} {
		out, err := machine.Follow(
			"tide-board.xml",
			[]byte("<domain><devices>"+without+"</devices></domain>"),
			machine.Change{Names: map[string]string{"a.raw": "a.qcow2"}, Format: "qcow2"},
		)
		require.NoError(t, err)
		assert.Equal(t, "<domain><devices>"+with+"</devices></domain>", string(out), "what tells no type would be taken for raw")
	}
	out, err = machine.Follow(
		"tide-board.xml",
		[]byte(text),
		machine.Change{Names: map[string]string{"top.qcow2": "lamp/top.qcow2", "c.raw": "lamp/c.raw"}},
	)
	require.NoError(t, err)
	assert.Equal(
		t,
		strings.NewReplacer("'top.qcow2'", "'lamp/top.qcow2'", "'c.raw'", "'lamp/c.raw'").Replace(text),
		string(out),
		"what it stands on, where that is listed",
	)
	_, err = machine.Follow(
		"a.vmx",
		[]byte(".encoding = \"windows-1252\"\nide0:0.fileName = \"a.vmdk\"\n"),
		machine.Change{Names: map[string]string{"a.vmdk": "é.vmdk"}},
	)
	assert.ErrorContains(t, err, "encoding")
	out, err = machine.Follow(
		"a.vmx",
		[]byte(`ide0:0.fileName = "x\a.vmdk"`),
		machine.Change{Names: map[string]string{"x/a.vmdk": "y/a.vmdk"}},
	)
	require.NoError(t, err)
	assert.Equal(t, `ide0:0.fileName = "y\a.vmdk"`, string(out))
}

func FuzzDefinitions(f *testing.F) {
	for _, text := range rows {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, format := range machine.Formats() {
			if m, err := machine.Describe(format.Name, text); err == nil {
				assert.GreaterOrEqual(t, m.Memory, int64(0))
				assert.Equal(t, storage.Printable(m.Name), m.Name)
				for _, other := range machine.Formats() { // or it says why not
					for i := range m.Disks {
						m.Disks[i].File, m.Disks[i].Format = "/lamp room/<é>.raw", append(other.Images, "raw")[0]
					}
					if out, err := machine.Become(text, format.Name, other.Name, m); err == nil {
						_, err = machine.Describe(other.Name, out)
						assert.NoError(t, err)
					}
				}
			}
			d, err := machine.Parse("m"+format.Extension, text)
			if err != nil {
				continue
			}
			assert.NotEmpty(t, d.Name)
			for _, file := range d.Uses("/pool") {
				assert.True(t, strings.HasPrefix(file, "/"), file)
			}
			for _, name := range d.Disks {
				change := machine.Change{Names: map[string]string{name: "lamp room/<é>.vmdk"}}
				changed, err := machine.Follow(name+format.Extension, text, change)
				if err != nil {
					continue // it says so and changes nothing
				}
				d, err := machine.Parse(format.Name+format.Extension, changed)
				require.NoError(t, err)
				assert.True(t, d.Followed(change))
			}
		}
	})
}

// whole is a machine with something of everything that all formats which write definitions can say.
func whole() machine.Machine {
	return machine.Machine{
		Name: "cargo & ledger", UUID: "0c7a6c7e-39b4-4e4b-9a53-6c3b5ad0a8f1", Notes: "ask the <harbour>", Memory: 96 << 20,
		MemoryMin: 64 << 20, Guest: machine.Linux, WithHost: true,
		Processors: machine.Processors{Count: 4, Sockets: 1, Cores: 2, Threads: 2}, Firmware: machine.UEFI, Chipset: "q35", Clock: "utc",
		Disks: []machine.Disk{
			{File: "/lamp room/a&b.qcow2", Format: "qcow2", Bus: "virtio", Slot: "vda", Boot: 1, Cache: "none", Serial: "S1"},
			{File: "/lamp room/c.vhd", Format: "vhd", Bus: "sata", Slot: "sda", ReadOnly: true},
		},
		Drives:   []machine.Disk{{Device: "cdrom", Bus: "sata", Slot: "sdb", ReadOnly: true}},
		Networks: []machine.Network{{Kind: "bridge", Network: "pier", MAC: "52:54:00:00:00:01", Model: "virtio", Boot: 2}},
		Displays: []string{"vnc"}, Serials: []string{"pty"}, Channels: []string{"agent.0"},
	}
}

// says is that machine as each format that writes definitions can say it.
var says = map[string]func(*machine.Machine){
	"domain-xml":   func(m *machine.Machine) { m.Guest, m.WithHost = "", false },
	"machine-file": func(*machine.Machine) {},
	"vmx": func(m *machine.Machine) {
		m.Chipset, m.Clock, m.Displays, m.Channels, m.Serials, m.MemoryMin, m.WithHost = "", "", nil, nil, []string{"file"}, 0, false
		m.Processors.Cores, m.Processors.Threads, m.Processors.Sockets = 2, 1, 2
		m.Disks = []machine.Disk{
			{
				File:   "/lamp room/a&b \"c\".vmdk",
				Format: "vmdk",
				Bus:    "scsi",
				Slot:   "scsi0:0",
			},
			{File: "c.vmdk", Format: "vmdk", Bus: "sata", Slot: "sata0:0"},
		}
		m.Drives = []machine.Disk{{Device: "cdrom", Bus: "ide", Slot: "ide0:0"}}
		m.Networks = []machine.Network{{Kind: "network", Network: "pier", MAC: "52:54:00:00:00:01", Model: "e1000"}}
	},
}

// TestEveryFormatWrites a machine that is read again as the same one, and becomes another one that way too; without a disk as well.
func TestEveryFormatWrites(t *testing.T) {
	written := 0
	for _, f := range machine.Formats() {
		if f.Write == nil {
			continue
		}
		written++
		t.Run(f.Name, func(t *testing.T) {
			m := whole()
			require.Contains(t, says, f.Name, "say what it can")
			says[f.Name](&m)
			text, err := machine.Become(nil, "none", f.Name, m)
			require.NoError(t, err)
			read, err := machine.Describe(f.Name, text)
			require.NoError(t, err)
			assert.Empty(t, machine.Compare(m, read))
			m.Name, m.Memory, m.UUID = "tide", 128<<20, "11111111-2222-4333-8444-555555555555"
			m.Disks[0].File, m.Networks[0].MAC = "/quay/a."+m.Disks[1].Format, "52:54:00:00:00:02"
			m.Disks[0].Format, m.Notes, m.Firmware, m.SecureBoot = m.Disks[1].Format, "two\nlines", machine.BIOS, false
			m.Processors = machine.Processors{Count: 1}
			text, err = machine.Become(text, f.Name, f.Name, m)
			require.NoError(t, err)
			read, err = machine.Describe(f.Name, text)
			require.NoError(t, err)
			assert.Empty(t, machine.Compare(m, read))

			m.Disks[1].Bus, m.Disks[1].Slot = "ide", "" // which the format chooses
			text, err = machine.Become(text, f.Name, f.Name, m)
			require.NoError(t, err)
			read, err = machine.Describe(f.Name, text)
			require.NoError(t, err)
			assert.NotEmpty(t, read.Disks[1].Slot)
			assert.Empty(t, machine.Unasked(m, read))

			text, err = machine.Without(f.Name, text, []int{0})
			require.NoError(t, err)
			m.Disks = read.Disks[1:]
			text, err = machine.Become(text, f.Name, f.Name, m)
			require.NoError(t, err)
			read, err = machine.Describe(f.Name, text)
			require.NoError(t, err)
			assert.Empty(t, machine.Compare(m, read))
		})
	}
	assert.Len(t, says, written)
}
