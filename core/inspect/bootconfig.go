package inspect

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"bagaglio/core/initramfs"
	"bagaglio/core/storage"
)

// Configurations are the files of a filesystem that may say what is started: of GRUB, and of loaders by the Boot Loader Specification.
func (p Mounted) Configurations() (all []string) {
	for _, name := range []string{"boot/grub/grub.cfg", "boot/grub2/grub.cfg", "grub/grub.cfg", "grub2/grub.cfg"} {
		if p.Exists(name) {
			all = append(all, name)
		}
	}
	for _, dir := range []string{"loader/entries", "boot/loader/entries"} {
		for _, name := range p.Names(dir) {
			if path.Ext(name) == ".conf" {
				all = append(all, path.Join(dir, name))
			}
		}
	}
	for _, dir := range p.Names("EFI") {
		if name := path.Join("EFI", dir, "grub.cfg"); p.Exists(name) {
			all = append(all, name)
		}
	}
	return all
}

// CommandLines are the words in configurations that are followed by a kernel's command line.
var CommandLines = []string{"linux", "linux16", "linuxefi", "options", "kernel"}

// roots are the ways in which the command lines in a configuration name the filesystem that a kernel runs from.
func roots(text string) (all []string) {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) == 0 || !slices.Contains(CommandLines, words[0]) {
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
		if m := Module(name); m != "" {
			all[m] = true
		}
	}
	return all
}

// has tells whether a list of files has the one of a module.
func has(text, driver string) bool { return loaded(text)[strings.ReplaceAll(driver, "-", "_")] }

// Module is the name of a module of Linux by its file, empty for any other file.
func Module(file string) string {
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

// memoryDisk are the modules in an initial memory disk.
func memoryDisk(ctx context.Context, v *Volume, name string) (modules map[string]bool, err error) {
	f, err := v.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	modules = map[string]bool{}
	err = initramfs.Walk(ctx, f, func(e initramfs.Entry, _ io.Reader) error {
		if m := Module(e.Name); m != "" {
			modules[m] = true
		}
		return nil
	})
	if err != nil {
		err = fmt.Errorf("what is in %s is not known: %w", name, err)
	}
	return modules, err
}

// MemoryDisk is an initial memory disk, and the filesystem that it lies on.
type MemoryDisk struct {
	On   Mounted
	Path string
}

// MemoryDisks are those of a kernel.
func MemoryDisks(version string, all []Mounted) (found []MemoryDisk) {
	called := []string{"initrd.img-" + version, "initramfs-" + version + ".img", "initrd-" + version, "initramfs-" + version}
	for _, p := range all {
		for _, dir := range []string{"boot", "."} {
			for _, name := range p.Names(dir) {
				if slices.Contains(called, name) {
					found = append(found, MemoryDisk{p, path.Join(dir, name)})
				}
			}
		}
	}
	return found
}

// kernel is what one of a version can do when it starts: with what is built into it, and with what its initial memory disk has.
func kernel(ctx context.Context, version string, builtin map[string]bool, places []Mounted) Kernel {
	k := Kernel{Version: printable(version), Buses: []string{}}
	modules := builtin
	for _, m := range MemoryDisks(version, places) {
		k.Memory = m.Path
		inside, err := memoryDisk(ctx, m.On.Volume, m.Path)
		if err != nil {
			k.Unknown = err.Error()
		}
		for m := range inside {
			modules[m] = true
		}
	}
	for _, b := range busDrivers {
		if slices.ContainsFunc(b.drivers, func(d string) bool { return modules[d] }) {
			k.Buses = append(k.Buses, b.bus)
		}
	}
	return k
}
