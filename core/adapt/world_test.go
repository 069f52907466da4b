package adapt

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/initramfs"
	_ "bagaglio/core/inspect/all"

	"github.com/stretchr/testify/require"
)

const (
	version = "6.1.0-18-amd64"
	address = "52:54:00:0A:0b:0c" // of the card that the machine has in its new place
	before  = "52:54:00:01:02:03"
)

// needs skips a test where the system lacks programs.
func needs(t *testing.T, programs ...string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("mounting takes root")
	}
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			t.Skipf("%s is missing", p)
		}
	}
	if _, err := os.Stat("/dev/fuse"); err != nil {
		t.Skip("this kernel has no FUSE")
	}
}

// tree are files by their names.
type tree map[string]string

func (x tree) put(t *testing.T, dir string) {
	t.Helper()
	for name, content := range x {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o640))
	}
}

// memory is an initial memory disk as initramfs-tools make it: microcode, and the rest packed.
func memory(t *testing.T, files ...initramfs.File) string {
	t.Helper()
	var b bytes.Buffer
	b.Write(initramfs.Archive([]initramfs.File{{Name: "microcode.bin", Content: []byte("microcode"), Mode: 0o644}}))
	b.Write(make([]byte, 512-b.Len()%512))
	z := gzip.NewWriter(&b)
	_, err := z.Write(initramfs.Archive(append(initramfs.Folders(files, func(string) bool { return false }), files...)))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.String()
}

// harbour is a system that knew the bus SATA alone, on the first partition of a disk, and names things by that.
func harbour(t *testing.T) tree {
	t.Helper()
	lib := "lib/modules/" + version + "/"
	return tree{
		"etc/os-release":   "PRETTY_NAME=\"Harbour Linux 12\"\n",
		"etc/fstab":        "# where things are\n/dev/sda2 / ext4 defaults 0 1\n/dev/sda1\t/boot/efi vfat defaults 0 2\n/dev/sdb1 /store ext4 defaults 0 2\nLABEL=x /x ext4 defaults 0 2\n",
		"etc/default/grub": "GRUB_TIMEOUT=2\nGRUB_CMDLINE_LINUX=\"root=/dev/sda2 quiet\"\n",
		"boot/grub/grub.cfg": "menuentry x {\n\tlinux /boot/vmlinuz-" + version + " root=/dev/sda2 ro quiet\n" +
			"\tinitrd /boot/initrd.img-" + version + "\n}\n",
		"etc/network/interfaces":                   "auto lo\niface lo inet loopback\nauto enp0s25\niface enp0s25 inet dhcp\n\thwaddress " + before + "\n",
		"etc/udev/rules.d/70-persistent-net.rules": "SUBSYSTEM==\"net\", ATTR{address}==\"" + before + "\", NAME=\"eth0\"\n",
		"lib/systemd/systemd":                      "binary",
		lib + "modules.dep": "kernel/drivers/block/virtio_blk.ko: kernel/drivers/virtio/virtio_ring.ko\nkernel/drivers/virtio/virtio_ring.ko:\n" +
			"kernel/drivers/virtio/virtio_pci.ko: kernel/drivers/virtio/virtio_ring.ko\nkernel/drivers/ata/ahci.ko:\nkernel/drivers/scsi/sd_mod.ko:\n",
		lib + "modules.builtin":                      "kernel/drivers/nvme/host/nvme.ko\n",
		lib + "modules.alias":                        "alias pci:v00001AF4d*sv*sd*bc*sc*i* virtio_pci\n",
		lib + "kernel/drivers/block/virtio_blk.ko":   "code of virtio_blk",
		lib + "kernel/drivers/virtio/virtio_ring.ko": "code of virtio_ring",
		lib + "kernel/drivers/virtio/virtio_pci.ko":  "code of virtio_pci",
		lib + "kernel/drivers/ata/ahci.ko":           "code of ahci",
		lib + "kernel/drivers/scsi/sd_mod.ko":        "code of sd_mod",
		"boot/initrd.img-" + version: memory(t,
			initramfs.File{Name: "conf/initramfs.conf", Content: []byte("MODULES=dep\n"), Mode: 0o644},
			initramfs.File{Name: "conf/modules", Content: []byte("ext4"), Mode: 0o644},
			initramfs.File{Name: "usr/" + lib + "kernel/drivers/ata/ahci.ko", Content: []byte("code of ahci"), Mode: 0o644},
			initramfs.File{Name: "usr/" + lib + "kernel/drivers/scsi/sd_mod.ko", Content: []byte("code of sd_mod"), Mode: 0o644},
		),
		"home/crew/tides.txt": strings.Repeat("the tide comes in\n", 10000),
	}
}

const partID = "b0a6a61e-0000-4000-8000-00000000beac"

// diskWith is one with a system and a partition of its firmware.
func diskWith(t *testing.T, system tree, kind string, efi tree) string {
	t.Helper()
	dir := t.TempDir()
	image, root, esp := filepath.Join(dir, "disk.raw"), filepath.Join(dir, "root.raw"), filepath.Join(dir, "esp.raw")
	sh(
		t,
		`truncate -s 400M `+image+`; printf 'label: gpt\nstart=2048, size=65536, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\nstart=67584, size=716800, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n' | sfdisk -q `+image,
	)
	sh(t, "truncate -s 32M "+esp+"; mkfs.vfat -F 16 -i B0A6A61E "+esp)
	for name, content := range efi {
		from := filepath.Join(dir, "file")
		require.NoError(t, os.WriteFile(from, []byte(content), 0o600))
		for at := range folders(name) {
			_ = exec.CommandContext(t.Context(), "mmd", "-D", "s", "-i", esp, "::/"+at).Run() // it may be there
		}
		sh(t, "mcopy -i "+esp+" "+from+" ::/"+name)
	}
	from := filepath.Join(dir, "tree")
	require.NoError(t, os.Mkdir(from, 0o755))
	system.put(t, from)
	sh(t, "truncate -s 350M "+root)
	switch kind {
	case "ext4":
		sh(t, "mkfs.ext4 -q -F -U "+partID+" -d "+from+" "+root)
	case "btrfs":
		sh(t, "mkfs.btrfs -q -U "+partID+" -r "+from+" "+root)
	case "xfs":
		at := filepath.Join(dir, "at")
		sh(
			t,
			fmt.Sprintf(
				"mkfs.xfs -q -m uuid=%s %s; mkdir %s; mount -o loop %s %s; cp -a %s/. %s; umount %s",
				partID,
				root,
				at,
				root,
				at,
				from,
				at,
				at,
			),
		)
	}
	sh(
		t,
		"dd if="+esp+" of="+image+" bs=1M seek=1 conv=notrunc,sparse status=none; dd if="+root+" of="+image+" bs=1M seek=33 conv=notrunc,sparse status=none",
	)
	return image
}

func sh(t *testing.T, script string) {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), "sh", "-ec", script)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "LC_ALL=C")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", script, out)
}
