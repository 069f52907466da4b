// Package machine reads definitions of virtual machines: files that say what a machine is called and which disks it uses. The formats are
// in rooms of their own below this one, which register themselves.
package machine

import (
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// Definition is what is known of a machine.
type Definition struct {
	Name   string `json:"name"`
	Format string `json:"format"`
	// Disks are the files of its disks as the definition names them, in its order: absolute, or as seen from the definition's folder.
	Disks []string `json:"disks"`
}

// Format is a format of definitions.
type Format struct {
	Name      string
	Extension string // of its files, with the dot
	// Read reads a definition. It fails with ErrOther for a file of another kind that has the same extension.
	Read func(text []byte) (Definition, error)
}

// ErrOther says that a file is no definition of a machine.
var ErrOther = errors.New("it is no definition of a machine")

// Bounds of what is read of a definition: its length in bytes, the number of its disks, and the length of a name in bytes.
const (
	maxLength = 4 << 20
	maxDisks  = 1024
	maxName   = 4096
)

var formats []Format

// Register adds a format, at the start of the program.
func Register(f Format) { formats = append(formats, f) }

// Formats returns all formats, sorted by name.
func Formats() []Format {
	return slices.SortedFunc(slices.Values(formats), func(a, b Format) int { return strings.Compare(a.Name, b.Name) })
}

// Claim tells whether a file is called like a definition.
func Claim(name string) bool {
	return slices.ContainsFunc(formats, func(f Format) bool { return strings.EqualFold(path.Ext(name), f.Extension) })
}

// Open reads the definition in a file, which is data that anybody may have written.
func Open(folder storage.Folder, name string) (Definition, error) {
	file, err := folder.Open(name)
	if err != nil {
		return Definition{}, err
	}
	size, err := file.Size()
	if err == nil && size > maxLength {
		err = fmt.Errorf("%w: it is longer than %d bytes", ErrOther, maxLength)
	}
	var text []byte
	if err == nil {
		text, err = io.ReadAll(io.NewSectionReader(file, 0, size))
	}
	if err := errors.Join(err, file.Close()); err != nil {
		return Definition{}, fmt.Errorf("reading the definition %s: %w", name, err)
	}
	for _, f := range Formats() {
		if !strings.EqualFold(path.Ext(name), f.Extension) {
			continue
		}
		d, err := f.Read(text)
		if errors.Is(err, ErrOther) {
			continue
		}
		if err != nil {
			return d, fmt.Errorf("reading the definition %s: %w", name, err)
		}
		return d.bounded(f, name), nil
	}
	return Definition{}, fmt.Errorf("%s: %w", name, ErrOther)
}

// bounded is the definition with nothing in it that is too long or cannot be shown. A machine without a name is called as its file.
func (d Definition) bounded(f Format, file string) Definition {
	d.Format, d.Name = f.Name, storage.Printable(d.Name)
	if d.Name == "" || len(d.Name) > maxName {
		d.Name = strings.TrimSuffix(path.Base(file), path.Ext(file))
	}
	disks := []string{}
	for _, name := range d.Disks {
		if name == "" || len(name) > maxName || storage.Printable(name) != name || slices.Contains(disks, name) || len(disks) == maxDisks {
			continue
		}
		disks = append(disks, name)
	}
	d.Disks = disks
	return d
}

// Uses are the files that a definition names, absolute, when the definition lies in the folder at dir.
func (d Definition) Uses(dir string) (files []string) {
	for _, name := range d.Disks {
		if !path.IsAbs(name) {
			name = path.Join(dir, name)
		}
		files = append(files, path.Clean(name))
	}
	return files
}
