package adapt

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/initramfs"
	"bagaglio/core/inspect"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// image is a file as a disk.
type image struct{ *os.File }

func (i image) Size() int64 {
	info, err := i.Stat()
	if err != nil {
		return 0
	}
	return info.Size()
}

func opened(t *testing.T, name string) image {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return image{f}
}

func partition(t *testing.T, d inspect.Disk, number int) inspect.Mounted {
	t.Helper()
	_, mounts, err := inspect.Mounts(d)
	require.NoError(t, err)
	for _, m := range mounts {
		if m.Partition.Number == number {
			return m
		}
	}
	require.Fail(t, "no such partition")
	return inspect.Mounted{}
}

func of(c Changes, name string) *Change {
	for i := range c.Files {
		if c.Files[i].Path == name {
			return &c.Files[i]
		}
	}
	return nil
}

var wish = Wish{Bus: "virtio", Firmware: inspect.FirmwareUEFI, Cards: []Card{{Was: before, Now: address}}}

func unchanged(t *testing.T, o *Overlay) {
	t.Helper()
	require.NoError(t, o.Changed(func(off int64, _ []byte) error { return fmt.Errorf("a block at %d was changed", off) }))
}

// TestAGuestIsFitted on each filesystem that is written: what is changed is found by reading, written by the system's drivers on an overlay, and nothing else is another one.
func TestAGuestIsFitted(t *testing.T) {
	for kind, mkfs := range map[string]string{"ext4": "mkfs.ext4", "xfs": "mkfs.xfs", "btrfs": "mkfs.btrfs"} {
		t.Run(kind, func(t *testing.T) {
			needs(t, mkfs, "mkfs.vfat", "mcopy", "sfdisk")
			d := opened(t, diskWith(t, harbour(t), kind, tree{"EFI/harbour/shimx64.efi": "shim", "EFI/harbour/grubx64.efi": "grub"}))
			c, err := Find(t.Context(), d, wish)
			require.NoError(t, err)
			for _, name := range []string{
				"etc/fstab", "etc/default/grub", "boot/grub/grub.cfg", "etc/network/interfaces", "etc/udev/rules.d/70-persistent-net.rules",
				"etc/systemd/network/10-new-place-enp0s25.link", "boot/initrd.img-" + version, "EFI/BOOT/BOOTX64.EFI", "EFI/BOOT/grubx64.efi",
			} {
				assert.NotNil(t, of(c, name), name)
			}
			assert.Len(t, c.Files, 9)
			assert.Equal(t, []string{
				"@@ -2,2 +2,2 @@", "-/dev/sda2 / ext4 defaults 0 1", "-/dev/sda1 /boot/efi vfat defaults 0 2",
				"+UUID=" + partID + " / ext4 defaults 0 1", "+UUID=B0A6-A61E /boot/efi vfat defaults 0 2",
			}, of(c, "etc/fstab").Lines)
			require.Len(t, c.Left, 1, "what lies on another disk is not known: %v", c.Left)
			assert.Contains(t, c.Left[0].What, "/dev/sdb1")

			o, err := NewOverlay(d, t.TempDir())
			require.NoError(t, err)
			defer o.Close()
			require.NoError(t, Apply(t.Context(), o, c, t.TempDir()))
			root := partition(t, o, 2)
			assert.Contains(t, root.Text("boot/grub/grub.cfg"), "root=UUID="+partID+" ro quiet")
			assert.Contains(t, root.Text("etc/default/grub"), "root=UUID="+partID+" quiet")
			assert.Contains(t, root.Text("etc/network/interfaces"), "hwaddress "+strings.ToLower(address))
			assert.Equal(
				t,
				"[Match]\nMACAddress="+strings.ToLower(address)+"\n\n[Link]\nName=enp0s25\n",
				root.Text("etc/systemd/network/10-new-place-enp0s25.link"),
			)
			assert.Empty(t, root.Text("etc/udev/rules.d/70-persistent-net.rules"))
			assert.NotEmpty(t, root.Text("etc/udev/rules.d/70-persistent-net.rules"+Aside))
			info, err := root.StatFile("etc/fstab")
			require.NoError(t, err)
			assert.Equal(t, fs.FileMode(0o640), info.Mode.Perm(), "it keeps its mode")
			esp := partition(t, o, 1)
			assert.Equal(t, "shim", esp.Text("EFI/BOOT/BOOTX64.EFI"))
			assert.Equal(t, "grub", esp.Text("EFI/BOOT/grubx64.efi"))

			has := map[string]string{}
			f, err := root.Open("boot/initrd.img-" + version)
			require.NoError(t, err)
			require.NoError(t, initramfs.Walk(t.Context(), f, func(e initramfs.Entry, content io.Reader) error {
				b, err := io.ReadAll(content)
				has[e.Name] = string(b)
				return err
			}))
			assert.Equal(t, "ext4\nvirtio_pci\nvirtio_blk\n", has["conf/modules"])
			dir := "usr/lib/modules/" + version + "/"
			assert.Equal(t, "code of virtio_blk", has[dir+"kernel/drivers/block/virtio_blk.ko"])
			assert.Equal(t, "code of virtio_ring", has[dir+"kernel/drivers/virtio/virtio_ring.ko"], "which that needs")
			assert.Equal(t, root.Text("lib/modules/"+version+"/modules.alias"), has[dir+"modules.alias"])
			assert.NotContains(t, has, "lib")

			after, err := inspect.StartsFrom(t.Context(), o)
			require.NoError(t, err)
			knows, _ := after.KnowsBus("virtio")
			assert.True(t, knows)
			again, err := Find(t.Context(), o, wish)
			require.NoError(t, err)
			assert.Empty(t, again.Files, "once is enough")
			was, err := Find(t.Context(), d, wish)
			require.NoError(t, err)
			assert.True(t, c.Same(was), "what is below is as it was")
		})
	}
}

// TestWhatIsNotFitted: a file that was changed since stops it, and so does one that something else would be changed with.
func TestWhatIsNotFitted(t *testing.T) {
	needs(t, "mkfs.ext4", "mkfs.vfat", "mcopy", "sfdisk")
	d := opened(t, diskWith(t, harbour(t), "ext4", nil))
	c, err := Find(t.Context(), d, wish)
	require.NoError(t, err)
	fresh := func() *Overlay {
		o, err := NewOverlay(d, t.TempDir())
		require.NoError(t, err)
		t.Cleanup(func() { _ = o.Close() })
		return o
	}
	stale := Changes{Files: []Change{*of(c, "etc/fstab")}}
	stale.Files[0].Was = sum([]byte("another one"))
	o := fresh()
	require.ErrorContains(t, Apply(t.Context(), o, stale, t.TempDir()), "plan it again")
	unchanged(t, o)
	lies := Changes{Files: []Change{*of(c, "etc/fstab")}}
	lies.Files[0].SHA256 = sum([]byte("another one"))
	require.ErrorContains(t, Apply(t.Context(), fresh(), lies, t.TempDir()), "did not get what was written")
	out := Changes{Files: []Change{{Partition: 2, Path: "../../../tmp/out", How: Writes, content: []byte("x"), SHA256: sum([]byte("x"))}}}
	require.Error(t, Apply(t.Context(), fresh(), out, t.TempDir()))
	assert.NoFileExists(t, "/tmp/out")
	left, err := os.ReadFile("/proc/mounts")
	require.NoError(t, err)
	assert.NotContains(t, string(left), "served-", "nobody else sees what is mounted")
}

// TestACopyOfWhatIsMounted on this computer is not changed, where the kernel would take one for the other: the source would be written to.
func TestACopyOfWhatIsMounted(t *testing.T) {
	needs(t, "mkfs.btrfs", "mkfs.vfat", "mcopy", "sfdisk")
	name := diskWith(t, harbour(t), btrfs, nil)
	d := opened(t, name)
	c, err := Find(t.Context(), d, wish)
	require.NoError(t, err)
	at := t.TempDir()
	sh(t, "dd if="+name+" of="+at+"/root.raw bs=1M skip=33 conv=sparse status=none; mkdir "+at+"/on; mount -o loop "+at+"/root.raw "+at+"/on")
	t.Cleanup(func() { _ = unix.Unmount(at+"/on", 0) })
	o, err := NewOverlay(d, t.TempDir())
	require.NoError(t, err)
	defer o.Close()
	require.ErrorContains(t, Apply(t.Context(), o, c, t.TempDir()), "mounted")
	unchanged(t, o)
}

// TestWhatIsNotKnownIsSaid: a kernel whose initial memory disk was made by nothing known, one without drivers of its own, several cards.
func TestWhatIsNotKnownIsSaid(t *testing.T) {
	needs(t, "mkfs.ext4", "mkfs.vfat", "mcopy", "sfdisk")
	for name, c := range map[string]struct {
		change func(tree)
		wish   Wish
		says   string
	}{
		"nothing known": {func(x tree) {
			x["boot/initrd.img-"+version] = memory(t, initramfs.File{Name: "init", Content: []byte("#!"), Mode: 0o755})
		}, Wish{Bus: "virtio"}, "made by nothing that is known"},
		"no driver":     {func(x tree) {}, Wish{Bus: "scsi"}, "the system has none of virtio_scsi"},
		"no modules":    {func(x tree) { delete(x, "lib/modules/"+version+"/modules.dep") }, Wish{Bus: "virtio"}, "modules.dep says nothing"},
		"no memory":     {func(x tree) { delete(x, "boot/initrd.img-"+version) }, Wish{Bus: "virtio"}, "no initial memory disk"},
		"two cards":     {func(tree) {}, Wish{Cards: []Card{{Now: address}, {Now: before}}}, "Which of the cards"},
		"no name giver": {func(x tree) { delete(x, "lib/systemd/systemd") }, Wish{Cards: []Card{{Now: address}}}, "nothing that gives cards names"},
	} {
		t.Run(name, func(t *testing.T) {
			system := harbour(t)
			c.change(system)
			found, err := Find(t.Context(), opened(t, diskWith(t, system, "ext4", nil)), c.wish)
			require.NoError(t, err)
			var all []string
			for _, l := range found.Left {
				all = append(all, l.What)
				assert.NotEmpty(t, l.Do)
			}
			assert.Contains(t, strings.Join(all, "\n"), c.says)
			assert.Nil(t, of(found, "boot/initrd.img-"+version))
		})
	}
}

// failing is a disk that cannot be read from an offset on.
type failing struct {
	image
	from int64
}

func (f *failing) ReadAt(p []byte, off int64) (int, error) {
	if off+int64(len(p)) > f.from {
		return 0, errors.New("it cannot be read")
	}
	return f.image.ReadAt(p, off)
}

// TestOverlay: what is written is read back, whatever the offsets and lengths; only blocks that are others are told, and none is left out that cannot be read.
func TestOverlay(t *testing.T) {
	const size = 1<<20 + 700
	name := filepath.Join(t.TempDir(), "below.raw")
	want := make([]byte, size)
	for i := range want {
		want[i] = byte(rand.Uint32())
	}
	require.NoError(t, os.WriteFile(name, want, 0o600))
	below := &failing{opened(t, name), size}
	o, err := NewOverlay(below, t.TempDir())
	require.NoError(t, err)
	defer o.Close()
	was := bytes.Clone(want)
	for range 300 {
		off := rand.IntN(size)
		p := bytes.Repeat([]byte{byte(rand.Uint32())}, min(1+rand.IntN(9000), size-off))
		n, err := o.WriteAt(p, int64(off))
		require.NoError(t, err)
		require.Len(t, p, n)
		copy(want[off:], p)
	}
	got := make([]byte, size)
	_, err = o.ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))
	told := bytes.Clone(was)
	require.NoError(t, o.Changed(func(off int64, block []byte) error {
		require.False(t, bytes.Equal(was[off:off+int64(len(block))], block))
		copy(told[off:], block)
		return nil
	}))
	require.True(t, bytes.Equal(want, told))
	_, err = o.WriteAt([]byte("x"), size)
	require.Error(t, err)
	_, err = o.ReadAt(got[:2], size-1)
	require.ErrorIs(t, err, io.EOF)
	below.from = size / 2
	require.ErrorContains(t, o.Changed(func(int64, []byte) error { return nil }), "cannot be read")
}

// TestAKernelWithoutAMemoryDisk keeps the name of what it runs from: it knows no other one. Cards that change places get each other's addresses.
func TestAKernelWithoutAMemoryDisk(t *testing.T) {
	needs(t, "mkfs.ext4", "mkfs.vfat", "mcopy", "sfdisk")
	system := harbour(t)
	delete(system, "boot/initrd.img-"+version)
	system["lib/modules/"+version+"/modules.builtin"] = "kernel/drivers/block/virtio_blk.ko\n"
	const one, two = "52:54:00:00:00:0a", "52:54:00:00:00:0b"
	system["etc/netplan/quay.yaml"] = "a: " + strings.ToUpper(one) + "\nb: " + two + "\n"
	d := opened(t, diskWith(t, system, "ext4", nil))
	c, err := Find(t.Context(), d, Wish{Bus: "virtio", Cards: []Card{{Was: one, Now: two}, {Was: two, Now: one}}})
	require.NoError(t, err)
	assert.NotNil(t, of(c, "etc/fstab"))
	assert.Nil(t, of(c, "boot/grub/grub.cfg"))
	assert.Nil(t, of(c, "etc/default/grub"))
	var all []string
	for _, l := range c.Left {
		all = append(all, l.What)
	}
	assert.Contains(t, strings.Join(all, "\n"), "has no initial memory disk")
	assert.Contains(t, strings.Join(of(c, "etc/netplan/quay.yaml").Lines, "\n"), "+a: "+two+"\n+b: "+one)
}

// TestAnotherDisk of a machine: what is called by the name of the first disk does not lie on it, and keeps that name.
func TestAnotherDisk(t *testing.T) {
	needs(t, "mkfs.ext4", "mkfs.vfat", "mcopy", "sfdisk")
	c, err := Find(t.Context(), opened(t, diskWith(t, harbour(t), "ext4", nil)), Wish{Bus: "virtio", Other: true})
	require.NoError(t, err)
	require.Len(t, c.Files, 1)
	assert.NotNil(t, of(c, "boot/initrd.img-"+version))
	assert.NotEmpty(t, c.Left)
}
