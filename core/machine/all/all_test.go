package all

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/machine"
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
			assert.Equal(t, machine.Definition{Name: "tide-board", Format: f.Name, Disks: []string{"tide board.vmdk", "/srv/lighthouse/log.vmdk"}}, d)
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

func FuzzDefinitions(f *testing.F) {
	for _, text := range rows {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		dir := t.TempDir()
		folder, err := local.Open(dir)
		require.NoError(t, err)
		defer folder.Close()
		for _, format := range machine.Formats() {
			name := "m" + format.Extension
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
			d, err := machine.Open(folder, name)
			if err != nil {
				continue
			}
			assert.NotEmpty(t, d.Name)
			for _, file := range d.Uses("/pool") {
				assert.True(t, strings.HasPrefix(file, "/"), file)
			}
		}
	})
}
