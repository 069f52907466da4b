package adapt

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"bagaglio/core/inspect"
)

// deviceName are names of disks by the bus that they are on, and of their partitions: the letter or number of the disk, and that of the partition.
var deviceName = regexp.MustCompile(`^/dev/(?:(?:sd|hd|vd|xvd)([a-z])(\d*)|nvme(\d+)n1(?:p(\d+))?)$`)

// nameOf is a name that stays, of what a device is called on the old bus: UUID=... of what lies on it. Not ok where it is no such name, or nothing is known of what lies there. Of
// several disks, only the first is this one.
func (f *finder) nameOf(device string) (string, bool) {
	m := deviceName.FindStringSubmatch(device)
	if m == nil || f.wish.Other || m[1] != "" && m[1] != "a" || m[3] != "" && m[3] != "0" {
		return "", false
	}
	on := f.contents.Filesystem
	if n, err := strconv.Atoi(cmp.Or(m[2], m[4])); err == nil {
		i := slices.IndexFunc(f.contents.Partitions, func(p inspect.Partition) bool { return p.Number == n })
		if i < 0 {
			return "", false
		}
		on = f.contents.Partitions[i].Filesystem
	}
	if on == nil || on.ID == "" {
		return "", false
	}
	return "UUID=" + on.ID, true
}

// isDevice tells whether a name is one that another bus gives otherwise.
func isDevice(name string) bool { return deviceName.MatchString(name) }

// names has a system name its filesystems by what is on them.
func (f *finder) names(root inspect.Mounted, y inspect.System) {
	f.edit(root, "etc/fstab", "so that it is mounted on any bus", f.inTable)
	f.edit(root, "etc/crypttab", "so that it is found on any bus", f.inCrypttab)
	if !slices.ContainsFunc(y.Kernels, func(k inspect.Kernel) bool { return k.Memory != "" }) {
		if slices.ContainsFunc(y.Root, isDevice) {
			f.left(
				"Its kernel has no initial memory disk, and without one it finds what it runs from by the name of a device alone: "+strings.Join(
					y.Root,
					", ",
				)+".",
				"Name it as it is called on the new bus (root=), where the machine runs or as it is started; or leave the bus.",
			)
		}
		return
	}
	for _, m := range f.mounts {
		for _, name := range m.Configurations() {
			f.edit(m, name, "so that what the system runs from is found on any bus", f.inCommands)
		}
	}
	for _, name := range []string{"etc/default/grub", "etc/kernel/cmdline", "etc/initramfs-tools/conf.d/resume"} {
		f.edit(root, name, "so that the next configuration that is made finds it too", f.inAssignments)
	}
}

// edit has the lines of a text be others, where they are.
func (f *finder) edit(on inspect.Mounted, name, why string, line func(string) string) {
	was := on.Text(name)
	if was == "" {
		return
	}
	var now strings.Builder
	for l := range strings.Lines(was) {
		now.WriteString(line(l))
	}
	if now.String() != was {
		f.write(on, name, why, []byte(was), []byte(now.String()))
	}
}

// firstWord is a line with another first word.
func firstWord(line string, other func(string) string) string {
	trimmed := strings.TrimLeft(line, " \t")
	end := strings.IndexAny(trimmed, " \t\n")
	if end <= 0 || trimmed[0] == '#' {
		return line
	}
	return line[:len(line)-len(trimmed)] + other(trimmed[:end]) + trimmed[end:]
}

// rename is the name that stays of a device, or what it is called.
func (f *finder) rename(name string) string {
	if stays, ok := f.nameOf(name); ok {
		return stays
	}
	if isDevice(name) {
		f.left(
			name+" is named by the bus that its disk is on, and what lies there is not known.",
			"Name it by its UUID or label, where the machine runs.",
		)
	}
	return name
}

// inTable is a line of fstab(5).
func (f *finder) inTable(line string) string { return firstWord(line, f.rename) }

// inCrypttab is one of crypttab(5): the device is its second word.
func (f *finder) inCrypttab(line string) string {
	words := strings.Fields(line)
	if len(words) < 2 || strings.HasPrefix(words[0], "#") {
		return line
	}
	return strings.Replace(line, words[1], f.rename(words[1]), 1)
}

// commandLine are the words of a kernel's command line that name devices.
var commandLine = regexp.MustCompile(`\b(root|resume)=(/dev/[a-z0-9]+)`)

// inCommands is a line of a loader's configuration.
func (f *finder) inCommands(line string) string {
	words := strings.Fields(line)
	if len(words) == 0 || !slices.Contains(inspect.CommandLines, words[0]) {
		return line
	}
	return f.inAssignments(line)
}

func (f *finder) inAssignments(line string) string {
	if strings.HasPrefix(strings.TrimSpace(line), "#") {
		return line
	}
	line = commandLine.ReplaceAllStringFunc(line, func(s string) string {
		name, device, _ := strings.Cut(s, "=")
		return name + "=" + f.rename(device)
	})
	if device, ok := strings.CutPrefix(strings.TrimSpace(line), "RESUME="); ok && isDevice(device) {
		return strings.Replace(line, device, f.rename(device), 1)
	}
	return line
}

// largestLoader bounds a loader, in bytes.
const largestLoader = 64 << 20

// loader puts one where firmware looks that remembers none.
func (f *finder) loader() {
	if f.wish.Firmware != inspect.FirmwareUEFI {
		return
	}
	for _, m := range f.mounts {
		if !strings.HasPrefix(strings.ToLower(m.Partition.Type), "efi") {
			continue
		}
		dir, names := f.loadersOn(m)
		if len(names) == 0 || m.Exists(inspect.Fallback) {
			continue
		}
		first := true
		for _, name := range names {
			content, err := read(m, path.Join(dir, name), largestLoader)
			to := path.Join(path.Dir(inspect.Fallback), name)
			why := "which the other one starts from its own folder"
			if first {
				to, why, first = inspect.Fallback, "so that firmware that remembers no loader finds one: it is "+path.Join(dir, name), false
			}
			if err == nil && !m.Exists(to) {
				f.write(m, to, why, nil, content)
			}
		}
	}
}

// loadersOn are the files to copy, and the folder that they lie in: one that is started by the keys of the firmware has another one beside it.
func (f *finder) loadersOn(m inspect.Mounted) (string, []string) {
	for _, vendor := range m.Names("EFI") {
		dir := path.Join("EFI", vendor)
		if strings.EqualFold(vendor, "BOOT") {
			continue
		}
		var found []string
		for _, want := range []string{"shimx64.efi", "grubx64.efi", "systemd-bootx64.efi"} {
			for _, name := range m.Names(dir) {
				if strings.EqualFold(name, want) {
					found = append(found, name)
				}
			}
		}
		if len(found) > 0 {
			return dir, found
		}
	}
	return "", nil
}
