package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"bagaglio/core/adapt"
	"bagaglio/core/initramfs"
	"bagaglio/core/plan"
)

// Where the partitions of the drive of the kiosk begin, in MiB, and its size.
const (
	kioskReserved = bootMiB
	kioskSystem   = kioskReserved + 16
	kioskData     = kioskSystem + 61
	kioskMiB      = kioskData + 61 + 1
)

// MakeKiosk makes the drive of the gate kiosk in dir, as a file: EFI, reserved, system and data partitions. It returns its path.
func MakeKiosk(ctx context.Context, dir string) (path string, err error) {
	tmp, err := os.MkdirTemp(dir, ".making-")
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(tmp)) }()
	path = filepath.Join(dir, "gate-kiosk.drive")
	if err := sized(path, kioskMiB<<20); err != nil {
		return "", err
	}
	table := fmt.Sprintf(`label: gpt
start=1MiB, size=%dMiB, type=U, name="boot"
start=%dMiB, size=16MiB, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE, name="reserved"
start=%dMiB, size=61MiB, type=L, name="system"
start=%dMiB, size=61MiB, type=L, name="data"
`, bootMiB-1, kioskReserved, kioskSystem, kioskData)
	if err := run(ctx, table, "sfdisk", "--quiet", path); err != nil {
		return "", err
	}
	drive, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, drive.Close()) }()
	system := machine{"gate-kiosk", 96, 2000, "tickets", "Opens the gate for whoever has a ticket.\n", oldKiosk()}
	data := machine{"data", 96, 90_000, "faces", "Nobody else is to see this.\n", nil}
	for i, make := range []func() error{
		func() error { return system.makeBoot(ctx, tmp, filepath.Join(tmp, "0")) },
		func() error { return system.makeRoot(ctx, tmp, filepath.Join(tmp, "1")) },
		func() error {
			if err := os.RemoveAll(filepath.Join(tmp, "tree")); err != nil {
				return err
			}
			return data.makeRoot(ctx, tmp, filepath.Join(tmp, "2"))
		},
	} {
		if err := make(); err != nil {
			return "", err
		}
		if err := insert(drive, filepath.Join(tmp, fmt.Sprint(i)), []int64{1, kioskSystem, kioskData}[i]<<20); err != nil {
			return "", err
		}
	}
	return path, nil
}

// oldKiosk are files of a system that knew its own controller alone, and names its disk and its network card by where they are.
func oldKiosk() map[string]string {
	const lib = "lib/modules/6.1.0-12-harbour/"
	files := map[string]string{
		"etc/fstab":                        "/dev/sda3 / ext4 defaults 0 1\n",
		"etc/network/interfaces":           "auto lo\niface lo inet loopback\n\nauto enp0s25\niface enp0s25 inet dhcp\n",
		"lib/systemd/systemd":              "it gives network cards their names\n",
		"boot/loader/entries/harbour.conf": "title gate-kiosk\noptions root=/dev/sda3 quiet\n",
		lib + "modules.builtin":            "",
		lib + "modules.dep": "kernel/ahci.ko:\nkernel/sd_mod.ko:\nkernel/virtio_ring.ko:\n" +
			"kernel/virtio_pci.ko: kernel/virtio_ring.ko\nkernel/virtio_blk.ko: kernel/virtio_ring.ko\n",
	}
	memory := []initramfs.File{
		{Name: "conf/initramfs.conf", Content: []byte("MODULES=dep\n"), Mode: 0o644},
		{Name: "conf/modules", Content: []byte("ahci\nsd_mod\n"), Mode: 0o644},
	}
	for _, name := range []string{"ahci", "sd_mod", "virtio_ring", "virtio_pci", "virtio_blk"} {
		code := strings.Repeat("the driver "+name+"\n", 800)
		files[lib+"kernel/"+name+".ko"] = code
		if !strings.HasPrefix(name, "virtio") {
			memory = append(memory, initramfs.File{Name: lib + "kernel/" + name + ".ko", Content: []byte(code), Mode: 0o644})
		}
	}
	files["boot/initrd.img-6.1.0-12-harbour"] = string(
		initramfs.Archive(append(initramfs.Folders(memory, func(string) bool { return false }), memory...)),
	)
	return files
}

// Attach makes a device of a file, where that can be, and returns its path.
func Attach(ctx context.Context, file string) (device string, err error) {
	if os.Getuid() != 0 {
		return "", errors.New("that takes root")
	}
	out, err := exec.CommandContext(ctx, "losetup", "--find", "--show", file).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, strings.TrimSpace(string(out)))
	}
	return strings.TrimSpace(string(out)), nil
}

// kioskSmaller is the size that the disk of the kiosk gets: 30 % less than the drive has, in bytes.
const kioskSmaller = kioskMiB * 7 / 10 << 20

// capture makes a machine of the drive of the kiosk, without its data partition and on a smaller disk. Where no device can be made of it, it is read
// as the file that it is, and becomes an image alone.
func (s *show) capture(ctx context.Context) error {
	file, err := MakeKiosk(ctx, s.dir)
	if err != nil {
		return err
	}
	r := plan.Request{UsedOnly: true, Without: []string{"data"}, Size: kioskSmaller}
	device, err := Attach(ctx, file)
	if err != nil {
		s.say("\nThe drive of the gate kiosk cannot be connected as a device (%v): it is read as an image.", err)
		if err := os.Rename(file, filepath.Join(s.dir, "quay-store", "gate-kiosk.raw")); err != nil {
			return err
		}
		r.Kind, r.As, r.Source = plan.Convert, "qcow2", plan.Place{Pool: "quay-store", Path: "gate-kiosk.raw", Format: "raw"}
		r.Destination = &plan.Place{Pool: "lighthouse-store", Path: "gate-kiosk.qcow2"}
		_, err = s.carry(ctx, "The drive of the gate kiosk becomes an image, without its data partition, and smaller", r)
		return err
	}
	s.device = device
	s.say("\nThe drive of the gate kiosk is connected as %s.", device)
	r.Kind, r.Source = plan.CopyMachine, plan.Place{Pool: plan.DevicesOf("local"), Path: filepath.Base(device), Format: "raw"}
	r.To, r.Destination, r.Name, r.Start = "quay", &plan.Place{Pool: "harbour"}, "gate-kiosk", true
	r.Changes = plan.Changes{Memory: 512 << 20, Processors: 1}
	title := "becomes a machine, without its data partition, and smaller"
	if adapt.Able("ext4") == nil { // otherwise it stays on a bus that it knows
		r.Fit, title = true, "which knew its old controller alone, becomes a machine on virtio, without its data partition, and smaller"
	}
	done, err := s.carry(ctx, "The drive of the gate kiosk, "+title, r)
	if err == nil && !done.Machine.CameUp {
		err = fmt.Errorf("gate-kiosk was not seen to come up: %v", done.Machine.Evidence)
	}
	return err
}

// detach lets go of the device, if there is one.
func (s *show) detach() error {
	if s.device == "" {
		return nil
	}
	return Detach(s.device)
}

// Detach lets go of a device that Attach made.
func Detach(device string) error {
	out, err := exec.Command("losetup", "--detach", device).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("disconnecting %s: %w: %s", device, err, strings.TrimSpace(string(out)))
	}
	return err
}
