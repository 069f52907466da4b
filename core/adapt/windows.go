package adapt

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/inspect"
	"bagaglio/core/inspect/hive"
	"bagaglio/core/storage"
)

// Facts of Windows that what is changed goes by.
const (
	driversDir = "Windows/System32/drivers"
	startsAt   = "Start"         // how a service is begun: 0 by the loader ("REG_DWORD Start", Windows driver documentation)
	override   = "StartOverride" // a key in which a number puts a driver off that was not needed when the system was installed
	overridden = "0"
	byLoader   = 0
	// hibernation is the file with what was in memory, which begins with one of these where it is of use ("hibernation file", memory image header).
	hibernation = "hiberfil.sys"
	memoryMark  = 4

	largestHive = 256 << 20
)

var hibernated = []string{"hibr", "HIBR", "rstr", "RSTR"}

// windows has the loader of a system load a driver for the new bus that the system has already.
func (f *finder) windows(root inspect.Mounted, y inspect.System) {
	if f.wish.Bus == "" {
		return
	}
	if len(y.Kernels) > 0 && y.Kernels[0].Unknown == "" && slices.Contains(y.Kernels[0].Buses, f.wish.Bus) {
		return
	}
	cannot := func(what, do string) {
		f.left(fmt.Sprintf("Windows %s gets no driver for %s: %s.", root.Where(), f.wish.Bus, what), do)
	}
	if sleeps(root) {
		cannot("what it had in memory is kept on its disk (hibernation, or a fast start)",
			"Start it once more where it is, and shut it down whole: shutdown /s /t 0, and before that powercfg /h off.")
		return
	}
	name := realName(root, inspect.Registry+"SYSTEM")
	content, err := read(root, name, largestHive)
	if err != nil {
		cannot(err.Error(), "Leave it on the bus that it has.")
		return
	}
	now, lines, err := loads(content, f.wish.Bus, func(service string) bool {
		return root.Exists(path.Join(driversDir, service+".sys"))
	})
	switch {
	case errors.Is(err, hive.ErrUnfinished):
		cannot("its registry was not written to the end", "Start it once more where it is, and shut it down.")
	case errors.Is(err, fs.ErrNotExist):
		cannot(
			"it has none of "+strings.Join(inspect.BusServices(f.wish.Bus), ", "),
			"Install the driver where it runs now, and give the machine a small second disk on that bus; or leave the bus.",
		)
	case err != nil:
		cannot(storage.Printable(err.Error()), "Leave it on the bus that it has.")
	case len(lines) > 0:
		f.add(root, Change{
			Path: name, How: Writes, Bytes: int64(len(now)), SHA256: sum(now), Was: sum(content), Lines: lines, content: now,
			Why: "so that its loader loads a driver for " + f.wish.Bus + ", as far as is known: try it out before the old machine goes",
		})
	}
}

// sleeps tells whether what the system had in memory is kept on its disk.
func sleeps(root inspect.Mounted) bool {
	file, err := root.Open(hibernation)
	if err != nil {
		return false
	}
	defer file.Close()
	mark := make([]byte, memoryMark)
	n, err := file.Read(mark)
	return err == nil && n == memoryMark && slices.Contains(hibernated, string(mark))
}

// loads is a registry whose loader loads the drivers for a bus that the system has, and the lines in which that differs. It fails with fs.ErrNotExist where it has none.
func loads(content []byte, bus string, has func(service string) bool) (now []byte, lines []string, err error) {
	h, err := hive.Open(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil, nil, err
	}
	if h.Unfinished {
		return nil, nil, hive.ErrUnfinished
	}
	selected, err := h.Key("Select")
	if err != nil {
		return nil, nil, err
	}
	number, err := selected.Number("Current")
	if err != nil {
		return nil, nil, err
	}
	set := fmt.Sprintf(`ControlSet%03d\Services`, number)
	all, err := h.Key(set)
	if err != nil {
		return nil, nil, err
	}
	services, err := all.Keys()
	if err != nil {
		return nil, nil, err
	}
	var edits []hive.Edit
	found := false
	edit := func(k hive.Key, at, value string) error {
		e, err := k.SetNumber(value, byLoader)
		if err != nil || e.Was == byLoader {
			return err
		}
		edits = append(edits, e)
		lines = append(lines, fmt.Sprintf(`-%s\%s %d`, at, value, e.Was), fmt.Sprintf(`+%s\%s %d`, at, value, byLoader))
		return nil
	}
	for _, k := range services {
		wanted := func(name string) bool { return strings.EqualFold(name, k.Name()) }
		if !slices.ContainsFunc(inspect.BusServices(bus), wanted) || !has(k.Name()) {
			continue
		}
		at := set + `\` + storage.Printable(k.Name())
		if err := edit(k, at, startsAt); errors.Is(err, fs.ErrNotExist) {
			continue // settings of something that is not begun
		} else if err != nil {
			return nil, nil, err
		}
		found = true
		if put, err := k.Key(override); err == nil {
			if err := edit(put, at+`\`+override, overridden); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, nil, err
			}
		}
	}
	if !found {
		return nil, nil, fs.ErrNotExist
	}
	if len(edits) == 0 {
		return content, nil, nil
	}
	now, err = hive.Apply(content, edits)
	return now, lines, err
}

// realName is a path as it is written on a filesystem that takes names for the same that differ in case.
func realName(on inspect.Mounted, name string) string {
	at := "."
	for part := range strings.SplitSeq(name, "/") {
		for _, is := range on.Names(at) {
			if strings.EqualFold(is, part) {
				part = is
				break
			}
		}
		at = path.Join(at, part)
	}
	return at
}
