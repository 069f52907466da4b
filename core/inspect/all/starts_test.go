package all

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/inspect"
	"bagaglio/internal/testkit/hives"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packed is an archive of cpio(1) with a tree.
func packed(t *testing.T, tree string) []byte {
	t.Helper()
	cmd := exec.Command("sh", "-c", "find . | cpio --quiet -o -H newc")
	cmd.Dir = tree
	out, err := cmd.Output()
	require.NoError(t, err)
	return out
}

// put writes a file below a folder.
func put(t *testing.T, dir, name, content string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644))
}

func gzipped(t *testing.T, b []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, err := z.Write(b)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return out.Bytes()
}

// piped is what a program makes of bytes.
func piped(t *testing.T, b []byte, command string, args ...string) []byte {
	t.Helper()
	cmd := exec.Command(command, args...)
	cmd.Stdin = bytes.NewReader(b)
	out, err := cmd.Output()
	require.NoError(t, err, "%s %v", command, args)
	return out
}

// greedy is what xz packed, with a dictionary of 4 GiB.
func greedy(b []byte) []byte {
	b[12+4] = 40
	return b
}

// rotten is what is packed, with a byte changed.
func rotten(b []byte) []byte {
	b[len(b)/2] ^= 0x55
	return b
}

// TestWhatStarts: a system, how it names what it runs from, and which buses it has drivers for, by its initial memory disk however that is packed, and by
// what is built into its kernel.
func TestWhatStarts(t *testing.T) {
	for _, tool := range []string{"cpio", "mkfs.ext4", "xz", "lz4", "bzip2"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is missing", tool)
		}
	}
	const version = "6.1.0-18-amd64"
	drivers, microcode := t.TempDir(), t.TempDir()
	for _, m := range []string{"virtio_blk", "virtio_pci", "ahci", "sd_mod"} {
		put(t, drivers, fmt.Sprintf("usr/lib/modules/%s/kernel/drivers/%s.ko.xz", version, strings.ReplaceAll(m, "_", "-")), "module")
	}
	put(t, microcode, "kernel/x86/microcode/GenuineIntel.bin", "microcode")
	plain := packed(t, drivers)
	early := append(packed(t, microcode), make([]byte, 512)...)
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	for _, c := range []struct {
		name, unknown string
		memory        []byte
	}{
		{"not packed", "", plain},
		{"gzip", "", gzipped(t, plain)},
		{"zstd behind microcode", "", append(bytes.Clone(early), enc.EncodeAll(plain, nil)...)},
		{"gzip behind microcode", "", append(bytes.Clone(early), gzipped(t, plain)...)},
		{"two, one behind the other", "", append(gzipped(t, packed(t, microcode)), gzipped(t, plain)...)},
		{"xz", "", piped(t, plain, "xz", "--check=crc32")},
		{"lz4 behind microcode", "", append(bytes.Clone(early), piped(t, plain, "lz4", "-l")...)},
		{"bzip2", "", piped(t, plain, "bzip2")},
		{"packed in another way", "not read", []byte("\x89LZO\x00\x0d and more")},
		{"xz, and rotten", "damaged", rotten(piped(t, plain, "xz"))},
		{"xz that takes much memory", "bytes of memory", greedy(piped(t, plain, "xz"))},
		{"cut", "damaged", plain[:len(plain)/2]},
		{"packed, and cut", "damaged", gzipped(t, plain)[:60]},
		{"packed, and rotten", "damaged", rotten(enc.EncodeAll(plain, nil))},
	} {
		t.Run(c.name, func(t *testing.T) {
			tree := t.TempDir()
			put(t, tree, "usr/lib/os-release", "NAME=Harbour\nPRETTY_NAME=\"Harbour Linux 12\"\n")
			require.NoError(t, os.MkdirAll(filepath.Join(tree, "etc"), 0o755))
			require.NoError(t, os.Symlink("../usr/lib/os-release", filepath.Join(tree, "etc", "os-release")))
			put(t, tree, "etc/fstab", "# <file system>\nUUID=1-2 / ext4 defaults 0 1\n/dev/sda5 none swap sw 0 0\n")
			put(
				t,
				tree,
				"boot/grub/grub.cfg",
				"menuentry x {\n\tlinux /boot/vmlinuz root=/dev/sda1 ro quiet\n}\nmenuentry y {\n  linux /boot/vmlinuz root=UUID=1-2\n}\n",
			)
			put(t, tree, "boot/initrd.img-"+version, string(c.memory))
			put(t, tree, "lib/modules/"+version+"/modules.builtin", "kernel/drivers/nvme/host/nvme.ko\n")
			put(
				t,
				tree,
				"lib/modules/"+version+"/modules.dep",
				"kernel/drivers/net/virtio_net.ko.xz: kernel/x.ko\nkernel/drivers/net/e1000/e1000.ko:\n",
			)
			image := filepath.Join(t.TempDir(), "image")
			require.NoError(t, os.WriteFile(image, nil, 0o600))
			require.NoError(t, os.Truncate(image, 32<<20))
			run(t, "mkfs.ext4 -q -F -d "+tree, image)
			d, _ := opened(t, image)
			s, err := inspect.StartsFrom(t.Context(), d)
			require.NoError(t, err)
			require.Len(t, s.Systems, 1)
			y := s.Systems[0]
			assert.Equal(t, "Harbour Linux 12", y.Name)
			assert.Equal(t, []string{"/dev/sda1", "UUID=1-2"}, y.Root)
			assert.Equal(t, []string{"virtio", "e1000"}, y.Networks)
			require.Len(t, y.Kernels, 1)
			k := y.Kernels[0]
			assert.Equal(t, "boot/initrd.img-"+version, k.Memory)
			var found []string
			for _, f := range s.Findings {
				found = append(found, f.What)
			}
			assert.Equal(t, []string{
				"etc/fstab on the disk mounts /dev/sda5 at none: on another bus the disk is called otherwise.",
				"boot/grub/grub.cfg on the disk names the filesystem that the system runs from as /dev/sda1, which is another one on another bus.",
			}, found)
			if c.unknown != "" {
				assert.Contains(t, k.Unknown, c.unknown)
				_, unknown := s.KnowsBus("virtio")
				assert.Equal(t, k.Unknown, unknown)
				return
			}
			assert.Empty(t, k.Unknown)
			assert.Equal(t, []string{"virtio", "sata", "nvme"}, k.Buses)
			for bus, want := range map[string]bool{"virtio": true, "sata": true, "nvme": true, "scsi": false, "ide": false} {
				has, unknown := s.KnowsBus(bus)
				assert.Empty(t, unknown)
				assert.Equal(t, want, has, bus)
			}
		})
	}
}

// TestNothingStarts from a disk with nothing on it, and that is no error.
func TestNothingStarts(t *testing.T) {
	s, err := inspect.StartsFrom(t.Context(), zeros(1<<20))
	require.NoError(t, err)
	assert.Empty(t, s.Firmware)
	assert.Empty(t, s.Systems)
	_, unknown := s.KnowsBus("virtio")
	assert.NotEmpty(t, unknown)
}

type zeros int64

func (z zeros) Size() int64 { return int64(z) }
func (z zeros) ReadAt(b []byte, off int64) (int, error) {
	clear(b)
	if off+int64(len(b)) > int64(z) {
		return 0, io.EOF
	}
	return len(b), nil
}

// driven is a registry of Windows with the drivers, by how each is begun. A driver that is put off has a second number.
func driven(services map[string][]uint32) []byte {
	list := hives.Key{Name: "Services", Each: 2}
	for name, start := range services {
		k := hives.Key{Name: name, Values: map[string]any{"Start": start[0]}}
		if len(start) > 1 {
			k.Keys = []hives.Key{{Name: "StartOverride", Values: map[string]any{"0": start[1]}}}
		}
		list.Keys = append(list.Keys, k)
	}
	list.Keys = append(list.Keys, hives.Key{Name: "settings"})
	old := hives.Key{Name: "ControlSet001", Keys: []hives.Key{{Name: "Services", Keys: []hives.Key{
		{Name: "viostor", Values: map[string]any{"Start": uint32(0)}},
	}}}}
	return hives.Make(hives.Key{Name: "ROOT", Keys: []hives.Key{
		old, {Name: "ControlSet002", Keys: []hives.Key{list}}, {Name: "Select", Values: map[string]any{"Current": uint32(2)}},
	}})
}

// TestWhatWindowsStartsWith: the drivers that are loaded first, by the registry in use, and not those that are only there.
func TestWhatWindowsStartsWith(t *testing.T) {
	drivers := driven(map[string][]uint32{
		"storahci": {0}, "stornvme": {0, 3}, "intelide": {3, 0}, "LSI_SAS": {3}, "E1G60": {3}, "netkvm": {4}, "vmxnet3ndis6": {1},
	})
	software := hives.Make(
		hives.Key{Name: "ROOT", Keys: []hives.Key{{Name: "Microsoft", Keys: []hives.Key{{Name: "Windows NT", Keys: []hives.Key{
			{Name: "CurrentVersion", Values: map[string]any{
				"ProductName": "Harbour Edition", "CurrentVersion": "6.3", "CurrentMajorVersionNumber": uint32(10), "CurrentBuild": "19045",
			}},
		}}}}}},
	)
	unfinished := bytes.Clone(drivers)
	unfinished[4]++
	hives.Sum(unfinished)
	for _, c := range []struct {
		name, unknown string
		system        []byte
		buses, cards  []string
	}{
		{"whole", "", drivers, []string{"sata", "ide"}, []string{"e1000", "vmxnet3"}},
		{"not written to the end", "not written to the end", unfinished, []string{"sata", "ide"}, []string{"e1000", "vmxnet3"}},
		{"damaged", "damaged", drivers[:6000], []string{}, nil},
		{"something else", "no file of the registry", make([]byte, 8192), []string{}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			image := filepath.Join(t.TempDir(), "image")
			require.NoError(t, os.WriteFile(image, nil, 0o600))
			require.NoError(t, os.Truncate(image, 32<<20))
			run(t, "mkfs.ntfs -Q -q -F", image)
			inMount(t, image, "", func(at string) {
				put(t, at, "WINDOWS/system32/config/SYSTEM", string(c.system))
				put(t, at, "WINDOWS/system32/config/SOFTWARE", string(software))
			})
			d, _ := opened(t, image)
			s, err := inspect.StartsFrom(t.Context(), d)
			require.NoError(t, err)
			require.Len(t, s.Systems, 1)
			y := s.Systems[0]
			assert.Equal(t, inspect.Windows, y.Kind)
			assert.Equal(t, "Harbour Edition", y.Name)
			assert.Equal(t, c.cards, y.Networks)
			require.Len(t, y.Kernels, 1)
			assert.Equal(t, "10.0.19045", y.Kernels[0].Version)
			assert.Equal(t, c.buses, y.Kernels[0].Buses)
			assert.Contains(t, y.Kernels[0].Unknown, c.unknown)
			has, unknown := s.KnowsBus("sata")
			assert.Equal(t, c.unknown == "", has)
			assert.Equal(t, y.Kernels[0].Unknown, unknown)
			has, unknown = s.KnowsBus("virtio")
			assert.False(t, has)
			assert.Equal(t, y.Kernels[0].Unknown, unknown)
		})
	}
}
