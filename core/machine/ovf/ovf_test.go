package ovf

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"bagaglio/core/machine"
	"bagaglio/core/storage"
	inmemory "bagaglio/core/storage/memory"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEnvelopesSayWhatMachinesAre: of machines of all sorts, with names and notes that XML has to have written otherwise, what an envelope can say comes back.
func TestEnvelopesSayWhatMachinesAre(t *testing.T) {
	random := rand.New(rand.NewPCG(18, 1))
	names := []string{"tide-board", `crew "roster" & <more>`, "größe", "a b", "x]]>y", "'"}
	for n := range 500 {
		m := machine.Machine{
			Name: names[n%len(names)], Notes: names[random.IntN(len(names))], Memory: (1 + random.Int64N(4096)) << 20, Disks: []machine.Disk{},
			Processors: machine.Processors{Count: 1 + random.IntN(64)}, Firmware: []string{machine.BIOS, machine.UEFI}[random.IntN(2)],
			Guest: []string{"", machine.Linux, machine.Windows}[random.IntN(3)],
		}
		var files []File
		for i := range random.IntN(5) {
			bus := []string{"ide", "scsi", "virtio", "sata", "nvme", "usb"}[random.IntN(6)]
			name := fmt.Sprintf("disk %d%%.vmdk", i)
			m.Disks = append(m.Disks, machine.Disk{File: name, Format: "vmdk", Bus: bus})
			files = append(files, File{Name: name, Size: random.Int64N(1 << 50), Capacity: random.Int64N(1 << 50), Format: "vmdk", Layout: "stream"})
		}
		for range random.IntN(4) {
			m.Networks = append(m.Networks, machine.Network{
				Kind: "network", Network: names[random.IntN(2)], MAC: fmt.Sprintf("52:54:00:00:00:%02x", random.IntN(256)), Model: "virtio",
			})
		}
		if random.IntN(2) == 0 {
			m.Drives = append(m.Drives, machine.Disk{Device: "cdrom", Bus: "ide"})
		}
		text, err := Write(m, files)
		require.NoError(t, err)
		conforms(t, text)
		is, err := machine.Describe("ovf", text)
		require.NoError(t, err, string(text))
		require.Equal(t, m, is, string(text))
		said, err := Look(text)
		require.NoError(t, err)
		assert.Empty(t, said.Stops)
		assert.Empty(t, said.Lost)
		for _, f := range files {
			assert.Equal(t, f.Capacity, said.Capacities[f.Name])
			assert.Equal(t, f.Size, said.Lengths[f.Name])
		}
	}
	_, err := Write(machine.Machine{Disks: make([]machine.Disk, 2)}, nil)
	require.ErrorContains(t, err, "2 disks have 0 files")
}

// TestWhatEnvelopesSayBesides is told: what is not carried, and what the disks cannot be had for.
func TestWhatEnvelopesSayBesides(t *testing.T) {
	for text, want := range map[string]string{
		`<References><File id="f" href="a.vmdk.xz" compression="xz"/></References>`:                                            "a.vmdk.xz is compressed by xz",
		`<References><File id="f" href="a.vmdk"/></References><DiskSection><Disk fileRef="f" parentRef="base"/></DiskSection>`: "a.vmdk stands on another disk that the package does not have",
		`<VirtualSystem id="a"/><VirtualSystem id="b"/>`:                                                                       "the first one is taken",
		`<VirtualSystem id="a"><EulaSection/></VirtualSystem>`:                                                                 "a licence",
		`<VirtualSystemCollection id="all"><VirtualSystem id="a"/></VirtualSystemCollection>`:                                  "the first one is taken",
	} {
		said, err := Look([]byte("<Envelope>" + text + "</Envelope>"))
		require.NoError(t, err, text)
		assert.Contains(t, strings.Join(append(said.Stops, said.Lost...), "; "), want)
	}
	said, err := Look([]byte(`<Envelope><References><File id="f" href="a.vmdk"/><File id="g" href="b.vmdk"/></References>
		<DiskSection><Disk diskId="base" fileRef="f"/><Disk diskId="top" fileRef="g" parentRef="base"/></DiskSection>
		<VirtualSystem id="a"><ProductSection class="net" instance="1"><Property key="address" value="10.0.0.7"><Label>Address</Label></Property></ProductSection>
		<ProductSection><Property key="word" password="true"/></ProductSection></VirtualSystem></Envelope>`))
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"b.vmdk": "a.vmdk"}, said.Parents)
	assert.Equal(t, []Property{{"net.address.1", "Address", "10.0.0.7", false}, {"word", "", "", true}}, said.Properties)
	for _, text := range []string{"", "<Envelope>", "<Other/>", `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><Envelope>&b;</Envelope>`} {
		_, err := Look([]byte(text))
		require.ErrorIs(t, err, machine.ErrOther, text)
	}
}

const digest = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"

// TestManifests are read in all of their forms, and nothing else is taken for one.
func TestManifests(t *testing.T) {
	folder := &inmemory.Folder{}
	require.NoError(t, storage.WriteFile(folder, "p/a.vmdk", []byte("abc")))
	for _, text := range []string{
		"SHA256(a.vmdk)= " + digest + "\n",
		"SHA256 (a.vmdk) = " + strings.ToUpper(digest) + "\r\n\r\n",
		"SHA-256(a.vmdk)=" + digest,
		"SHA1(a.vmdk)= a9993e364706816aba3e25717850c26c9cd0d89d\n",
		"SHA512(a.vmdk)= ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f\n",
	} {
		sums, err := ParseManifest([]byte(text))
		require.NoError(t, err, text)
		require.Len(t, sums, 1)
		read := 0
		require.NoError(t, sums[0].Check(t.Context(), folder, "p", func(n int) { read += n }), text)
		assert.Equal(t, 3, read)
		require.ErrorIs(
			t,
			Sum{"a.vmdk", sums[0].Algorithm, bytes.Repeat([]byte{1}, len(sums[0].Digest))}.Check(t.Context(), folder, "p", func(int) {}),
			ErrManifest,
		)
	}
	for _, text := range []string{
		"SHA256(a.vmdk)= 12", "SHA256(a.vmdk)= " + digest + " more", "MD5(a.vmdk)= 900150983cd24fb0d6963f7d28e17f72", "a.vmdk " + digest, "SHA256()= " + digest,
		"SHA1(a.vmdk)= " + digest, "\x00\x01", strings.Repeat("SHA256(a.vmdk)= "+digest+"\n", 2), "SHA256(a.vmdk)= " + digest[:62] + "zz",
	} {
		_, err := ParseManifest([]byte(text))
		require.ErrorIs(t, err, ErrManifest, text)
	}
	for _, name := range []string{"../../etc/passwd", "/etc/passwd", "missing.vmdk", "a\x00b"} {
		require.Error(t, Sum{name, "SHA256", make([]byte, 32)}.Check(t.Context(), folder, "p", func(int) {}), name)
	}
}

// FuzzPackage reads manifests and envelopes that anybody wrote.
func FuzzPackage(f *testing.F) {
	f.Add([]byte("SHA256(a.vmdk)= " + digest + "\n"))
	text, err := Write(machine.Machine{Name: "tide-board"}, nil)
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		if sums, err := ParseManifest(text); err == nil {
			again, err := ParseManifest(WriteManifest(sums))
			require.NoError(t, err)
			assert.Equal(t, sums, again)
		}
		_, _ = Look(text) // what it finds does not matter, only that it ends
		if chosen, way, ways, err := Choose(text, ""); err == nil && way != "" {
			assert.NotEmpty(t, ways)
			_, _ = machine.Describe("ovf", chosen) // likewise
		}
	})
}
