package service

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const envelope = `<?xml version="1.0"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <References><File ovf:id="file1" ovf:href="tide-board-disk1.vmdk"/></References>
 <DiskSection><Info>Disks</Info><Disk ovf:diskId="vmdisk1" ovf:fileRef="file1" ovf:capacity="1048576" ovf:format="vmdk"/></DiskSection>
 <VirtualSystem ovf:id="tide-board"><Info>A machine</Info><Name>tide-board</Name>
  <VirtualHardwareSection><Info>Hardware</Info>
   <Item><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>1</rasd:VirtualQuantity></Item>
   <Item><rasd:InstanceID>2</rasd:InstanceID><rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>64</rasd:VirtualQuantity></Item>
   <Item><rasd:InstanceID>3</rasd:InstanceID><rasd:ResourceType>20</rasd:ResourceType><rasd:ResourceSubType>AHCI</rasd:ResourceSubType></Item>
   <Item><rasd:InstanceID>4</rasd:InstanceID><rasd:ResourceType>17</rasd:ResourceType><rasd:Parent>3</rasd:Parent>
    <rasd:HostResource>ovf:/disk/vmdisk1</rasd:HostResource></Item>
  </VirtualHardwareSection>
 </VirtualSystem>
</Envelope>
`

// member is a file of an archive.
type member struct {
	name string
	text []byte
	kind byte
}

// archived writes an archive, cut off by some bytes.
func archived(t *testing.T, file string, cut int64, all ...member) {
	t.Helper()
	f, err := os.Create(file)
	require.NoError(t, err)
	w := tar.NewWriter(f)
	for _, m := range all {
		h := &tar.Header{Name: m.name, Size: int64(len(m.text)), Mode: 0o644, Typeflag: tar.TypeReg}
		if m.kind != 0 {
			h.Typeflag, h.Linkname, h.Size = m.kind, "/etc/passwd", 0
		}
		require.NoError(t, w.WriteHeader(h))
		if m.kind == 0 {
			_, err = w.Write(m.text)
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	info, err := f.Stat()
	require.NoError(t, err)
	require.NoError(t, f.Truncate(info.Size()-cut))
	require.NoError(t, f.Close())
}

// TestAPackageIsUnpacked from one archive onto a host, read where it lies: each file is compared with the manifest before anything is written; an archive that
// is damaged, incomplete or hostile is refused, and nothing of it gets anywhere.
func TestAPackageIsUnpacked(t *testing.T) {
	t.Parallel()
	s := start(t)
	sea := s.Pool("seabag")
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	noise(t, sea, "tide-board.raw", mib)
	c := convert("tide-board.raw", "tide-board.vmdk", "vmdk")
	c.Source.Pool, c.Destination.Pool, c.Layout = "seabag", "seabag", "stream"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
	content := read(t, sea, "tide-board.raw")
	disk, err := os.ReadFile(filepath.Join(sea, "tide-board.vmdk"))
	require.NoError(t, err)
	sums := func(text string, disk []byte) []byte {
		return fmt.Appendf(
			nil,
			"SHA256(tide-board.ovf)= %x\nSHA256(tide-board-disk1.vmdk)= %x\n",
			sha256.Sum256([]byte(text)),
			sha256.Sum256(disk),
		)
	}
	ovf, vmdk := member{name: "tide-board.ovf", text: []byte(envelope)}, member{name: "tide-board-disk1.vmdk", text: disk}
	mf := member{name: "tide-board.mf", text: sums(envelope, disk)}
	request := func(name string) plan.Request {
		return plan.Request{
			Kind:        plan.CopyMachine,
			Source:      plan.Place{Pool: "seabag", Path: name + "/tide-board.ovf"},
			To:          "quay",
			Destination: &plan.Place{Pool: "quay-store"},
			As:          "qcow2",
			Name:        strings.TrimSuffix(name, ".ova"),
		}
	}
	archived(t, filepath.Join(sea, "good.ova"), 0, ovf, mf, vmdk)
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, request("good.ova")).Id)
	assert.Contains(t, strings.Join(r.Machine.Evidence, " "), "2 file(s) of the package")
	assert.Equal(t, content, read(t, quay.Folder, "good/tide-board-disk1.qcow2"))
	m, err := s.Machine(t.Context(), "quay", "good")
	require.NoError(t, err)
	assert.Equal(t, "sata", m.Is.Disks[0].Bus)

	archived(t, filepath.Join(sea, "reordered.ova"), 0, vmdk, mf, ovf)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, request("reordered.ova")).Id)
	archived(t, filepath.Join(sea, "bare.ova"), 0, ovf, vmdk)
	p, err := s.Plan(t.Context(), request("bare.ova"))
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "it has no manifest")

	spoilt := append([]byte{}, disk...)
	spoilt[len(spoilt)/2] ^= 1
	archived(t, filepath.Join(sea, "spoilt.ova"), 0, ovf, mf, member{name: vmdk.name, text: spoilt})
	j := testkit.Await(t, s.Service, testkit.Begin(t, s.Service, request("spoilt.ova")).Id)
	assert.Equal(t, api.JobStateFailed, j.State)
	assert.Contains(t, *j.Reason, "the SHA256 of tide-board-disk1.vmdk is")
	assert.NoDirExists(t, filepath.Join(quay.Folder, "spoilt"))

	for name, c := range map[string]struct {
		cut  int64
		all  []member
		want string
	}{
		"cut":      {int64(len(disk)), []member{ovf, mf, vmdk}, "damaged or incomplete"},
		"link":     {0, []member{ovf, mf, {name: "tide-board-disk1.vmdk", kind: tar.TypeSymlink}}, "is no plain file"},
		"hardlink": {0, []member{ovf, mf, {name: "tide-board-disk1.vmdk", kind: tar.TypeLink}}, "is no plain file"},
		"outside":  {0, []member{ovf, {name: "../../etc/tide-board.mf", text: mf.text}, vmdk}, "leads out"},
		"twice":    {0, []member{ovf, mf, vmdk, vmdk}, "is in it twice"},
		"no disk":  {0, []member{ovf, mf}, "file does not exist"},
		"no ovf":   {0, []member{mf, vmdk}, "not found"},
		"manifest": {0, []member{ovf, {name: mf.name, text: []byte("SHA256(tide-board.ovf)= 12\n")}, vmdk}, "is no SHA256"},
		"nonsense": {0, []member{ovf, {name: mf.name, text: []byte("hello\n")}, vmdk}, "the manifest does not hold: a line is"},
	} {
		file := strings.ReplaceAll(name, " ", "-") + ".ova"
		archived(t, filepath.Join(sea, file), c.cut, c.all...)
		p, err := s.Plan(t.Context(), request(file))
		said := fmt.Sprint(err)
		if err == nil {
			assert.True(t, p.Blocked, name)
			said = messages(p.Plan)
		}
		assert.Contains(t, said, c.want, name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(sea, "text.ova"), []byte(strings.Repeat("no archive ", 100)), 0o600))
	_, err = s.Plan(t.Context(), request("text.ova"))
	require.ErrorContains(t, err, "damaged or incomplete")
}

// TestAMachineIsPacked as one archive and as a folder, on each kind of host: the system's own tar lists and unpacks the archive with exactly the checksums of its
// manifest; unpacked onto a host under another name the machine has the disks, and what an envelope can say of it. Nothing is overwritten.
func TestAMachineIsPacked(t *testing.T) {
	t.Parallel()
	for kind, begin := range rosters {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			sea := r.Pool("seabag")
			content := read(t, r.folder, "crew-roster/crew-roster.qcow2")
			_, err := r.StartMachine(t.Context(), r.host, "crew-roster")
			require.NoError(t, err)
			q := plan.Request{Kind: plan.PackMachine, Machine: r.machine(), Destination: &plan.Place{Pool: "seabag", Path: "crew.ova"}}
			p, err := r.Plan(t.Context(), q)
			require.NoError(t, err)
			require.True(t, p.Blocked, "it runs")
			q.Stop = true
			packed, done := r.does(t, q)
			require.Equal(t, receipt.Proven, done.Outcome, done.Reason)
			assert.Len(t, done.Parts, 1)
			assert.EqualValues(t, "running", r.is(t).State, "it was started again")
			listed, err := exec.Command("tar", "-tf", filepath.Join(sea, "crew.ova")).CombinedOutput()
			require.NoError(t, err, string(listed))
			assert.Equal(t, "crew-roster.ovf\ncrew-roster.mf\ncrew-roster-disk1.vmdk\n", string(listed))
			out := t.TempDir()
			said, err := exec.Command("tar", "-xf", filepath.Join(sea, "crew.ova"), "-C", out).CombinedOutput()
			require.NoError(t, err, string(said))
			manifest, err := os.ReadFile(filepath.Join(out, "crew-roster.mf"))
			require.NoError(t, err)
			for _, name := range []string{"crew-roster.ovf", "crew-roster-disk1.vmdk"} {
				b, err := os.ReadFile(filepath.Join(out, name))
				require.NoError(t, err)
				assert.Contains(t, string(manifest), fmt.Sprintf("SHA256(%s)= %x\n", name, sha256.Sum256(b)))
			}
			assert.Equal(t, content, read(t, out, "crew-roster-disk1.vmdk"))

			again, err := r.Plan(t.Context(), q)
			require.NoError(t, err)
			assert.Contains(t, messages(again.Plan), "is there already, and nothing is overwritten")
			require.NoError(t, os.Rename(filepath.Join(sea, "crew.ova"), filepath.Join(sea, "renamed.ova")))
			run := testkit.Run(
				t,
				sea,
				r.State,
				"machine",
				"unpack",
				"seabag:renamed.ova",
				r.host,
				"--pool",
				"quay-store",
				"--name",
				"crew-again",
				"--as",
				"qcow2",
				"--yes",
			)
			require.Zero(t, run.Code, run.Notes+run.Out)
			assert.Equal(t, content, read(t, r.folder, "crew-again/crew-roster-disk1.qcow2"))
			m, err := r.Machine(t.Context(), r.host, "crew-again")
			require.NoError(t, err)
			assert.Equal(t, r.is(t).Is.Memory, m.Is.Memory)
			assert.Equal(t, "ide", m.Is.Disks[0].Bus)

			require.NoError(t, os.Rename(filepath.Join(sea, "renamed.ova"), filepath.Join(sea, "crew.ova")))
			r.does(t, plan.Request{Kind: plan.Undo, Job: packed})
			assert.NoFileExists(t, filepath.Join(sea, "crew.ova"))

			q.Destination.Path, q.As, q.Stop, q.Suspend = "packages/crew", "qcow2", false, true
			_, done = r.does(t, q)
			require.Equal(t, receipt.Proven, done.Outcome, done.Reason)
			assert.FileExists(t, filepath.Join(sea, "packages/crew/crew-roster.ovf"))
			assert.EqualValues(t, "running", r.is(t).State)
			left, err := filepath.Glob(filepath.Join(sea, ".*"))
			require.NoError(t, err)
			assert.LessOrEqual(t, len(left), 1, "nothing is left but what is held: %v", left)
		})
	}
}

// TestAPackageOfWhatChanges is none: a disk that somebody writes to while it is packed fails the job, and nothing has its name.
func TestAPackageOfWhatChanges(t *testing.T) {
	t.Parallel()
	r := rosters["standin"](t)
	sea := r.Pool("seabag")
	noise(t, r.folder, "log.raw", 4*mib)
	r.does(t, plan.Request{Kind: plan.AttachDisk, Source: plan.Place{Pool: "quay-store", Path: "log.raw"}})
	testkit.Limit(t, r.Service.Service, api.Limit{Scope: "service", Speed: 2 << 20})
	q := plan.Request{Kind: plan.PackMachine, Machine: r.machine(), Destination: &plan.Place{Pool: "seabag", Path: "crew.ova"}}
	j := testkit.Begin(t, r.Service.Service, q)
	testkit.Await(t, r.Service.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Step == plan.StepReread })
	f, err := os.OpenFile(filepath.Join(r.folder, "log.raw"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{0x55}, 1<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	ended := testkit.Await(t, r.Service.Service, j.Id)
	assert.Equal(t, api.JobStateFailed, ended.State)
	assert.Contains(t, *ended.Reason, "was written to while it was packed")
	assert.NoFileExists(t, filepath.Join(sea, "crew.ova"))
}

// TestAPackageInChunks whose disk stands on another one of the package, which can be deployed in several ways and asks for properties: the chunks are read as one file,
// compared with the manifest one by one; the way is chosen; what is given stands in the notes. A disk that does not say by itself that it stands on what the envelope
// names is refused, and so is a package of which a chunk is missing.
func TestAPackageInChunks(t *testing.T) {
	t.Parallel()
	s := start(t)
	sea := s.Pool("seabag")
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	noise(t, sea, "tide-board.raw", mib)
	does := func(r plan.Request) {
		t.Helper()
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	}
	base := convert("tide-board.raw", "p/base.vmdk", "vmdk")
	base.Source.Pool, base.Destination.Pool, base.NoTag = "seabag", "seabag", true
	does(base)
	noise(t, sea, "later.raw", mib)
	top := convert("later.raw", "p/tide-board-disk1.vmdk", "vmdk")
	top.Source.Pool, top.Destination.Pool, top.Layout, top.Base, top.NoTag = "seabag", "seabag", "delta", "p/base.vmdk", true
	does(top)
	content := read(t, sea, "later.raw")

	whole, err := os.ReadFile(filepath.Join(sea, "p/tide-board-disk1.vmdk"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(sea, "p/tide-board-disk1.vmdk")))
	text := strings.NewReplacer(
		`ovf:href="tide-board-disk1.vmdk"/>`,
		fmt.Sprintf(
			`ovf:href="tide-board-disk1.vmdk" ovf:size="%d" ovf:chunkSize="500000"/><File ovf:id="file0" ovf:href="base.vmdk"/>`,
			len(whole),
		),
		`<Disk `,
		`<Disk ovf:diskId="below" ovf:fileRef="file0" ovf:capacity="1048576" ovf:format="vmdk"/><Disk ovf:parentRef="below" `,
		` <VirtualSystem`,
		` <DeploymentOptionSection><Info>Ways</Info><Configuration ovf:id="one"><Label>One processor</Label></Configuration>`+
			`<Configuration ovf:id="four"><Label>Four</Label></Configuration></DeploymentOptionSection><VirtualSystem`,
		`<VirtualHardwareSection><Info>Hardware</Info>`,
		`<ProductSection ovf:class="tide"><Info>It</Info><Property ovf:key="place" ovf:type="string"/>`+
			`<Property ovf:key="word" ovf:password="true" ovf:type="string"/></ProductSection><VirtualHardwareSection><Info>Hardware</Info>`+
			`<Item ovf:configuration="four"><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>4</rasd:VirtualQuantity></Item>`,
	).Replace(strings.Replace(envelope, "  <VirtualHardwareSection><Info>Hardware</Info>\n", "  <VirtualHardwareSection><Info>Hardware</Info>", 1))
	manifest := fmt.Appendf(nil, "SHA256(tide-board.ovf)= %x\n", sha256.Sum256([]byte(text)))
	for i, rest := 0, whole; len(rest) > 0; i++ {
		name, n := fmt.Sprintf("tide-board-disk1.vmdk.%09d", i), min(500_000, len(rest))
		require.NoError(t, os.WriteFile(filepath.Join(sea, "p", name), rest[:n], 0o600))
		manifest = fmt.Appendf(manifest, "SHA256(%s)= %x\n", name, sha256.Sum256(rest[:n]))
		rest = rest[n:]
	}
	require.NoError(t, os.WriteFile(filepath.Join(sea, "p/tide-board.ovf"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(sea, "p/tide-board.mf"), manifest, 0o600))

	r := plan.Request{
		Kind:        plan.CopyMachine,
		Source:      plan.Place{Pool: "seabag", Path: "p/tide-board.ovf"},
		To:          "quay",
		Destination: &plan.Place{Pool: "quay-store"},
		As:          "qcow2",
	}
	p, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.False(t, p.Blocked, messages(p.Plan))
	said := messages(p.Plan)
	assert.Contains(t, said, "can be deployed in 2 ways, and is in the way one")
	assert.Contains(t, said, "It asks for properties that nobody has given (tide.place)")
	assert.Contains(t, said, "It asks for secrets, which are written nowhere (tide.word)")
	assert.JSONEq(t, `{"deployment":"four"}`, string(check(t, p.Plan, "deployment").Remedies[0].Change))
	r.Deployment, r.Properties = "four", map[string]string{"tide.place": "the lighthouse"}
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Contains(t, strings.Join(done.Machine.Evidence, " "), fmt.Sprintf("%d file(s) of the package", 1+(len(whole)+499_999)/500_000))
	assert.Equal(t, content, read(t, quay.Folder, "tide-board/tide-board-disk1.qcow2"))
	m, err := s.Machine(t.Context(), "quay", "tide-board")
	require.NoError(t, err)
	assert.Equal(t, 4, m.Is.Processors.Count)
	assert.Equal(t, "tide.place = the lighthouse", m.Is.Notes)

	r.Name, r.Properties = "again", map[string]string{"tide.moon": "full"}
	p, err = s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.Contains(t, messages(p.Plan), "The package asks for no property tide.moon")
	r.Deployment = "five"
	_, err = s.Plan(t.Context(), r)
	require.ErrorContains(t, err, `not deployed in the way "five", but in one, four`)

	r.Deployment, r.Properties = "", nil
	bare := strings.Replace(text, `ovf:href="base.vmdk"`, `ovf:href="other.vmdk"`, 1)
	require.NoError(t, os.Rename(filepath.Join(sea, "p/tide-board.mf"), filepath.Join(sea, "p/away")))
	require.NoError(t, os.WriteFile(filepath.Join(sea, "p/tide-board.ovf"), []byte(bare), 0o600))
	p, err = s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "stands on p/other.vmdk, and the image does not say so")
	require.NoError(t, os.Remove(filepath.Join(sea, "p", fmt.Sprintf("tide-board-disk1.vmdk.%09d", (len(whole)-1)/500_000))))
	p, err = s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), fmt.Sprintf("and the envelope says %d", len(whole)))
}

// TestACompressedPackage whose disk is compressed by gzip, in an archive and in chunks: it is read as what it holds, converted or as it is, and compared with the manifest
// as it lies there. What is cut off, damaged, or holds more than its envelope says is refused, and nothing is left of it.
func TestACompressedPackage(t *testing.T) {
	t.Parallel()
	s := start(t)
	sea := s.Pool("seabag")
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	noise(t, sea, "tide-board.raw", mib)
	c := convert("tide-board.raw", "tide-board.vmdk", "vmdk")
	c.Source.Pool, c.Destination.Pool, c.Layout = "seabag", "seabag", "stream"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
	content := read(t, sea, "tide-board.raw")
	squeezed := func(disk []byte) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, err := w.Write(disk[:len(disk)/2])
		require.NoError(t, errors.Join(err, w.Close()))
		w.Reset(&b) // one behind the other are one (RFC 1952, section 2.2)
		_, err = w.Write(disk[len(disk)/2:])
		require.NoError(t, errors.Join(err, w.Close()))
		return b.Bytes()
	}
	text := strings.Replace(envelope, `ovf:href="tide-board-disk1.vmdk"`, `ovf:href="tide-board-disk1.vmdk.gz" ovf:compression="gzip"`, 1)
	require.NotEqual(t, envelope, text)
	pack := func(name string, disk []byte, chunk int) plan.Request {
		all := []member{{name: "tide-board.ovf", text: []byte(text)}}
		manifest := fmt.Appendf(nil, "SHA256(tide-board.ovf)= %x\n", sha256.Sum256([]byte(text)))
		for i, rest := 0, disk; i == 0 || len(rest) > 0; i++ {
			m := member{name: "tide-board-disk1.vmdk.gz", text: rest[:min(chunk, len(rest))]}
			if rest = rest[len(m.text):]; chunk < len(disk) {
				m.name = fmt.Sprintf("%s.%09d", m.name, i)
			}
			manifest = fmt.Appendf(manifest, "SHA256(%s)= %x\n", m.name, sha256.Sum256(m.text))
			all = append(all, m)
		}
		archived(t, filepath.Join(sea, name+".ova"), 0, append(all, member{name: "tide-board.mf", text: manifest})...)
		return plan.Request{
			Kind: plan.CopyMachine, Source: plan.Place{Pool: "seabag", Path: name + ".ova"}, To: "quay",
			Destination: &plan.Place{Pool: "quay-store"}, Name: name,
		}
	}
	vmdk, err := os.ReadFile(filepath.Join(sea, "tide-board.vmdk"))
	require.NoError(t, err)
	packed := squeezed(vmdk)

	r := pack("whole", packed, len(packed))
	r.As = "qcow2"
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Contains(t, strings.Join(done.Machine.Evidence, " "), "2 file(s) of the package")
	assert.Equal(t, content, read(t, quay.Folder, "whole/tide-board-disk1.qcow2"))
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, pack("chunks", packed, 400_000)).Id)
	there, err := os.ReadFile(filepath.Join(quay.Folder, "chunks/tide-board-disk1.vmdk"))
	require.NoError(t, err)
	assert.Equal(t, vmdk, there, "as it is")

	damaged := bytes.Clone(packed)
	damaged[len(damaged)/2] ^= 0x10
	for name, b := range map[string]struct {
		disk []byte
		says string
	}{
		"cut":     {packed[:len(packed)-5], "damaged or incomplete"},
		"headcut": {packed[:12], "damaged or incomplete"},
		"damaged": {damaged, "damaged or incomplete"},
		"behind":  {append(bytes.Clone(packed), "more"...), "damaged or incomplete"},
		"bomb":    {squeezed(make([]byte, 80*mib)), "holds more than the"},
	} {
		p, err := s.Plan(t.Context(), pack(name, b.disk, len(b.disk)))
		require.NoError(t, err, name)
		assert.True(t, p.Blocked, name)
		assert.Contains(t, messages(p.Plan), b.says, name)
	}
	left, err := filepath.Glob(filepath.Join(s.State, "scratch/*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
