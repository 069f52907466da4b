package device

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// maxDepth bounds how many layers are looked through: partitions, volumes, mappings, files that are devices.
const maxDepth = 16

// Beneath returns the names of the disks that a file or folder lies on, or would, through everything that is between: partitions, volumes, mappings,
// RAID, files that are devices, and overlays. None where it lies in memory or on a network.
func Beneath(s System, name string) ([]string, error) {
	mounts, _, err := mounted(s)
	if err != nil {
		return nil, err
	}
	at := name
	for _, err := s.On(at); errors.Is(err, fs.ErrNotExist) && at != "/"; _, err = s.On(at) { // it would be in the folder above
		at = path.Dir(at)
	}
	l := layers{system: s, mounts: mounts, disks: map[string]bool{}}
	if err := l.file(at, 0); err != nil {
		return nil, fmt.Errorf("looking which disk %s lies on: %w", name, err)
	}
	var all []string
	for d := range l.disks {
		all = append(all, d)
	}
	slices.Sort(all)
	return all, nil
}

// MountOf is the number of the device that a path, without links, lies on by what is mounted, for a system that tells it of no file.
func MountOf(s System, name string) (string, error) {
	mounts, _, err := mounted(s)
	if err != nil {
		return "", err
	}
	number, longest := "", -1
	for _, m := range mounts { // of several at one place, the last
		at := strings.TrimSuffix(m.at, "/")
		if len(at) >= longest && (name == at || strings.HasPrefix(name, at+"/")) {
			number, longest = m.number, len(at)
		}
	}
	if longest < 0 {
		return "", fmt.Errorf("nothing is mounted where %s lies", name)
	}
	return number, nil
}

type layers struct {
	system System
	mounts []mount
	disks  map[string]bool
}

// file looks through what a file lies on.
func (l *layers) file(name string, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("more than %d layers", maxDepth)
	}
	number, err := l.system.On(name)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(number, "0:") {
		return l.device(number, depth+1)
	}
	for _, m := range l.mounts { // a filesystem with a number of its own
		if m.number != number {
			continue
		}
		if strings.HasPrefix(m.source, "/dev/") {
			real, err := l.system.Real(m.source)
			if err != nil {
				return err
			}
			return l.device(word(l.system, "/sys/class/block/"+path.Base(real)+"/dev"), depth+1)
		}
		for option := range strings.SplitSeq(m.options, ",") {
			if upper, ok := strings.CutPrefix(option, "upperdir="); ok {
				return l.file(upper, depth+1)
			}
		}
	}
	return nil
}

// device looks through what a block device lies on.
func (l *layers) device(number string, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("more than %d layers", maxDepth)
	}
	at, err := l.system.Real("/sys/dev/block/" + number)
	if err != nil {
		return err
	}
	if word(l.system, at+"/partition") != "" {
		at = path.Dir(at)
	}
	below, err := l.system.ReadDir(at + "/slaves")
	if err == nil && len(below) > 0 {
		for _, b := range below {
			if err := l.device(word(l.system, at+"/slaves/"+b+"/dev"), depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	l.disks[path.Base(at)] = true
	if file := word(l.system, at+"/loop/backing_file"); file != "" {
		return l.file(file, depth+1)
	}
	return nil
}
