package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"bagaglio/core/inspect"
	_ "bagaglio/core/inspect/all"
)

// StartFile is a file on any filesystem of a disk that names the one which has the system: a line "root LABEL=...".
const StartFile = "start.cfg"

// maxStart bounds it, in bytes.
const maxStart = 64 << 10

// kernels are where systems keep theirs.
var kernels = []string{"vmlinuz*", "boot/vmlinuz*", "Windows/System32/ntoskrnl.exe"}

// volumes are the filesystems of partitions, with their labels, as far as files of them are read.
func volumes(d inspect.Disk, found inspect.Contents, only func(inspect.Partition) bool) (all []*inspect.Volume, labels []string) {
	for _, p := range found.Partitions {
		if p.Filesystem == nil || !only(p) {
			continue
		}
		if v, err := inspect.Mount(d, p.Filesystem.Kind, p.Offset, p.Length); err == nil {
			all, labels = append(all, v), append(labels, p.Filesystem.Label)
		}
	}
	return all, labels
}

// loaderOf is the file that a UEFI starts, empty where there is none.
func loaderOf(d inspect.Disk, found inspect.Contents) string {
	efi, _ := volumes(d, found, func(p inspect.Partition) bool { return strings.HasPrefix(p.Type, "EFI system") })
	for _, v := range efi {
		for _, pattern := range []string{"EFI/BOOT/BOOT*.EFI", "EFI/*/*.efi"} {
			if names, err := fs.Glob(v, pattern); err == nil && len(names) > 0 {
				return names[0]
			}
		}
	}
	return ""
}

// system says what system is on a disk: that of the start file, or one with a kernel. A disk without partitions is what its boot code makes of it.
func system(d inspect.Disk, found inspect.Contents) (string, error) {
	if len(found.Partitions) == 0 {
		return "There are no partitions.", nil
	}
	all, labels := volumes(d, found, func(inspect.Partition) bool { return true })
	for _, v := range all {
		info, err := v.StatFile(StartFile)
		if err != nil || info.Size > maxStart {
			continue
		}
		text, err := fs.ReadFile(v, StartFile)
		if err != nil {
			return "", err
		}
		_, label, ok := strings.Cut(string(text), "root LABEL=")
		if !ok {
			continue
		}
		label, _, _ = strings.Cut(label, "\n")
		for i, root := range all {
			if labels[i] != label {
				continue
			}
			host, err := fs.ReadFile(root, "etc/hostname")
			if err != nil {
				return "", fmt.Errorf("the root filesystem %s: %w", label, err)
			}
			return fmt.Sprintf("Root %s, of %s", label, strings.TrimSpace(string(host))), nil
		}
		return "", fmt.Errorf("no root filesystem %s", label)
	}
	for _, v := range all {
		for _, pattern := range kernels {
			if names, err := fs.Glob(v, pattern); err == nil && len(names) > 0 {
				return "Kernel " + path.Base(names[0]), nil
			}
		}
	}
	return "", errors.New("no kernel found")
}
