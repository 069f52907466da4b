package inspect

import (
	"context"
	"path"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// configurations are the files of a filesystem that may say what is started: of GRUB, and of loaders by the Boot Loader Specification.
func (p place) configurations() (all []string) {
	for _, name := range []string{"boot/grub/grub.cfg", "boot/grub2/grub.cfg", "grub/grub.cfg", "grub2/grub.cfg"} {
		if p.exists(name) {
			all = append(all, name)
		}
	}
	for _, dir := range []string{"loader/entries", "boot/loader/entries"} {
		for _, name := range p.names(dir) {
			if path.Ext(name) == ".conf" {
				all = append(all, path.Join(dir, name))
			}
		}
	}
	for _, dir := range p.names("EFI") {
		if name := path.Join("EFI", dir, "grub.cfg"); p.exists(name) {
			all = append(all, name)
		}
	}
	return all
}

// roots are the ways in which the command lines in a configuration name the filesystem that a kernel runs from.
func roots(text string) (all []string) {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) == 0 || !slices.Contains([]string{"linux", "linux16", "linuxefi", "options", "kernel"}, words[0]) {
			continue
		}
		for _, w := range words[1:] {
			if value, ok := strings.CutPrefix(w, "root="); ok && !slices.Contains(all, printable(value)) {
				all = append(all, printable(value))
			}
		}
	}
	return all
}

func printable(s string) string { return storage.Printable(s) }

// loaded are the names of modules in a list of their files, one on a line.
func loaded(text string) map[string]bool {
	all := map[string]bool{}
	for line := range strings.Lines(text) {
		name, _, _ := strings.Cut(strings.TrimSpace(line), ":")
		if m := module(name); m != "" {
			all[m] = true
		}
	}
	return all
}

// has tells whether a list of files has the one of a module.
func has(text, driver string) bool { return loaded(text)[strings.ReplaceAll(driver, "-", "_")] }

// module is the name of a module by its file, empty for any other file.
func module(file string) string {
	name := path.Base(file)
	for _, packed := range []string{".gz", ".xz", ".zst"} {
		name = strings.TrimSuffix(name, packed)
	}
	name, ok := strings.CutSuffix(name, ".ko")
	if !ok {
		return ""
	}
	return strings.ReplaceAll(name, "-", "_")
}

// kernel is what one of a version can do when it starts: with what is built into it, and with what its initial memory disk has.
func kernel(ctx context.Context, version string, builtin map[string]bool, places []place) Kernel {
	k := Kernel{Version: printable(version), Buses: []string{}}
	modules := builtin
	for _, p := range places {
		for _, dir := range []string{"boot", "."} {
			for _, name := range p.names(dir) {
				if !slices.Contains(
					[]string{"initrd.img-" + version, "initramfs-" + version + ".img", "initrd-" + version, "initramfs-" + version},
					name,
				) {
					continue
				}
				k.Memory = path.Join(dir, name)
				inside, err := memoryDisk(ctx, p.Volume, k.Memory)
				if err != nil {
					k.Unknown = err.Error()
				}
				for m := range inside {
					modules[m] = true
				}
			}
		}
	}
	for _, b := range busDrivers {
		if slices.ContainsFunc(b.drivers, func(d string) bool { return modules[d] }) {
			k.Buses = append(k.Buses, b.bus)
		}
	}
	return k
}
