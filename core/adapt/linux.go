package adapt

import (
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/initramfs"
	"bagaglio/core/inspect"
)

// drivers are the modules of Linux that a bus of disks takes: those by which controllers are driven, of which one is needed, and what disks on it take too.
var drivers = map[string]struct{ one, all []string }{
	"virtio": {[]string{"virtio_blk"}, []string{"virtio_pci"}},
	"scsi":   {[]string{"virtio_scsi", "mptspi", "mptsas", "sym53c8xx", "vmw_pvscsi", "megaraid_sas"}, []string{"virtio_pci", "sd_mod"}},
	"sata":   {[]string{"ahci"}, []string{"sd_mod"}},
	"ide":    {[]string{"ata_piix", "ata_generic"}, []string{"sd_mod"}},
	"nvme":   {[]string{"nvme"}, nil},
}

// Buses are those that a guest can be fitted to.
var Buses = slices.Sorted(maps.Keys(drivers))

// linux finds what of a system is changed.
func (f *finder) linux(root inspect.Mounted, y inspect.System) {
	if f.wish.Bus != "" {
		for _, k := range y.Kernels {
			if !slices.Contains(k.Buses, f.wish.Bus) {
				f.memory(root, k)
			}
		}
		f.names(root, y)
	}
	f.network(root)
}

// memory puts the drivers of the new bus into the initial memory disk of a kernel.
func (f *finder) memory(root inspect.Mounted, k inspect.Kernel) {
	cannot := func(format string, args ...any) {
		f.left(fmt.Sprintf("The kernel %s gets no driver for %s: ", k.Version, f.wish.Bus)+fmt.Sprintf(format, args...)+".",
			"Leave the disk on the bus that it has, or put the driver in where the machine runs.")
	}
	found := inspect.MemoryDisks(k.Version, f.mounts)
	if len(found) == 0 {
		cannot("it has no initial memory disk that is found")
		return
	}
	set, err := modulesOf(root, k.Version)
	if err != nil {
		cannot("%v", err)
		return
	}
	wanted, ok := set.wanted(f.wish.Bus)
	if !ok {
		cannot("the system has none of %s in its own modules", strings.Join(drivers[f.wish.Bus].one, ", "))
		return
	}
	for _, m := range found {
		files, err := f.driversFor(m, set, wanted)
		if err != nil {
			cannot("%v", err)
			continue
		}
		info, err := m.On.StatFile(m.Path)
		if err != nil {
			cannot("%v", err)
			continue
		}
		f.put(m.On, m.Path, fmt.Sprintf("so that the kernel %s finds a disk on %s: %s", k.Version, f.wish.Bus, strings.Join(wanted, ", ")),
			initramfs.Behind(info.Size, initramfs.Archive(files)))
	}
}

// modules are those of a kernel, as a system has them.
type modules struct {
	root    inspect.Mounted
	dir     string            // that they lie in
	file    map[string]string // by their names, below that
	needs   map[string][]string
	builtin map[string]bool
}

// modulesOf reads which there are, and what each needs (modules.dep(5)).
func modulesOf(root inspect.Mounted, version string) (m modules, err error) {
	m = modules{
		root:    root,
		dir:     path.Join("lib/modules", version),
		file:    map[string]string{},
		needs:   map[string][]string{},
		builtin: map[string]bool{},
	}
	if _, err := root.StatFile(m.dir); err != nil {
		m.dir = path.Join("usr/lib/modules", version)
	}
	text := root.Text(path.Join(m.dir, "modules.dep"))
	if text == "" {
		return m, fmt.Errorf("%s/modules.dep says nothing", m.dir)
	}
	for line := range strings.Lines(text) {
		file, needs, _ := strings.Cut(strings.TrimSpace(line), ":")
		name := inspect.Module(file)
		if name == "" || !fs.ValidPath(file) {
			continue
		}
		m.file[name] = file
		for _, n := range strings.Fields(needs) {
			m.needs[name] = append(m.needs[name], inspect.Module(n))
		}
	}
	for line := range strings.Lines(root.Text(path.Join(m.dir, "modules.builtin"))) {
		m.builtin[inspect.Module(strings.TrimSpace(line))] = true
	}
	return m, nil
}

// wanted are the modules that a bus takes, as far as there are some; not ok where its controllers have none.
func (m modules) wanted(bus string) (all []string, ok bool) {
	d := drivers[bus]
	for _, name := range slices.Concat(d.all, d.one) {
		if m.file[name] == "" && !m.builtin[name] {
			continue
		}
		ok = ok || slices.Contains(d.one, name)
		if m.file[name] != "" {
			all = append(all, name)
		}
	}
	return all, ok
}

// with are modules with all that they need, what is needed first.
func (m modules) with(names []string) (all []string) {
	for _, name := range names {
		for _, n := range append(m.with(m.needs[name]), name) {
			if !slices.Contains(all, n) && m.file[n] != "" {
				all = append(all, n)
			}
		}
	}
	return all
}

// Bounds of what is read.
const (
	largestModule = 32 << 20
	largestIndex  = 16 << 20
	largestConfig = 1 << 20
)

// indexes are the files by which modules are found (modules.dep(5)), as the system has them for all of its own.
var indexes = []string{
	"modules.dep",
	"modules.dep.bin",
	"modules.alias",
	"modules.alias.bin",
	"modules.softdep",
	"modules.symbols",
	"modules.symbols.bin",
	"modules.order",
	"modules.builtin",
	"modules.builtin.bin",
	"modules.builtin.alias.bin",
	"modules.builtin.modinfo",
	"modules.devname",
}

// read reads a file that belongs to the modules.
func (m modules) read(name string, most int64) ([]byte, error) {
	return read(m.root, path.Join(m.dir, name), most)
}

// driversFor are the files to put into an initial memory disk: modules, by what they are found, and what has them loaded.
func (f *finder) driversFor(in inspect.MemoryDisk, m modules, wanted []string) ([]initramfs.File, error) {
	there, err := f.lookInto(in)
	if err != nil {
		return nil, err
	}
	dir := there.modulesDir(path.Base(m.dir))
	var files []initramfs.File
	for _, name := range m.with(wanted) {
		if there.modules[name] {
			continue
		}
		content, err := m.read(m.file[name], largestModule)
		if err != nil {
			return nil, err
		}
		files = append(files, initramfs.File{Name: path.Join(dir, m.file[name]), Content: content, Mode: 0o644})
	}
	for _, name := range indexes {
		if content, err := m.read(name, largestIndex); err == nil {
			files = append(files, initramfs.File{Name: path.Join(dir, name), Content: content, Mode: 0o644})
		}
	}
	loads, err := there.loads(wanted)
	if err != nil {
		return nil, err
	}
	files = append(files, loads...)
	return append(initramfs.Folders(files, func(name string) bool { return there.entries[name] != 0 }), files...), nil
}

// inMemory is what an initial memory disk has.
type inMemory struct {
	entries map[string]uint32 // modes, by names
	links   map[string]string
	modules map[string]bool
	configs map[string][]byte // of those files that say what is loaded
}

// Files in initial memory disks that say what is loaded when a system starts, of each of those that make them.
const (
	toolsModules = "conf/modules"                         // of initramfs-tools(7): a name on each line
	dracutLoads  = "etc/modules-load.d/50-new-place.conf" // of modules-load.d(5), which dracut has where systemd is in it
	dracutLine   = "etc/cmdline.d/50-new-place.conf"      // of dracut.cmdline(7), which its own scripts read
	initcpio     = "config"                               // of mkinitcpio(8): a script, in which MODULES is a list
	dracutMark   = "usr/lib/dracut"
)

// lookInto reads what an initial memory disk has.
func (f *finder) lookInto(in inspect.MemoryDisk) (all inMemory, err error) {
	file, err := in.On.Open(in.Path)
	if err != nil {
		return all, err
	}
	defer file.Close()
	all = inMemory{entries: map[string]uint32{}, links: map[string]string{}, modules: map[string]bool{}, configs: map[string][]byte{}}
	err = initramfs.Walk(f.ctx, file, func(e initramfs.Entry, content io.Reader) error {
		all.entries[e.Name] = e.Mode
		if m := inspect.Module(e.Name); m != "" {
			all.modules[m] = true
		}
		config := e.Name == toolsModules || e.Name == initcpio
		if !config && !e.IsLink() || e.Size > largestConfig {
			return nil
		}
		text, err := io.ReadAll(content)
		if err != nil {
			return err
		}
		if all.configs[e.Name] = text; e.IsLink() {
			all.links[e.Name] = string(text)
		}
		return nil
	})
	return all, err
}

// modulesDir is where the modules of a version lie in it.
func (i inMemory) modulesDir(version string) string {
	below := path.Join("lib/modules", version)
	for name := range i.entries {
		if at := strings.Index(name, below+"/"); at >= 0 && inspect.Module(name) != "" {
			return name[:at] + below
		}
	}
	if i.links["lib"] != "" {
		return path.Join("usr", below)
	}
	return below
}

// loads are the files that have modules loaded when a system starts with it.
func (i inMemory) loads(names []string) ([]initramfs.File, error) {
	list := func(sep string) string { return strings.Join(names, sep) }
	file := func(name, text string) initramfs.File {
		return initramfs.File{Name: name, Content: []byte(text), Mode: 0o644}
	}
	switch {
	case i.entries["conf/initramfs.conf"] != 0 || i.entries["conf/arch.conf"] != 0 || i.entries[toolsModules] != 0:
		text := strings.TrimRight(string(i.configs[toolsModules]), "\n")
		if text != "" {
			text += "\n"
		}
		return []initramfs.File{file(toolsModules, text+list("\n")+"\n")}, nil
	case i.entries[dracutMark] != 0 || i.entries["lib/dracut"] != 0:
		return []initramfs.File{file(dracutLoads, list("\n")+"\n"), file(dracutLine, "rd.driver.pre="+list(",")+"\n")}, nil
	case i.entries[initcpio] != 0 && i.entries["init_functions"] != 0:
		return []initramfs.File{file(initcpio, string(i.configs[initcpio])+"\nMODULES=\"$MODULES "+list(" ")+"\"\n")}, nil
	}
	return nil, fmt.Errorf("its initial memory disk was made by nothing that is known, so what has it load a driver is not known either")
}
