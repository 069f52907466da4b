// Package machine reads definitions of virtual machines, files that say what a machine is called and which disks it uses, and keeps them in
// step with where the disks lie. The formats are in rooms of their own below this one, which register themselves.
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
	// Bases are files that disks stand on, named likewise, where the definition lists them.
	Bases []string `json:"bases,omitempty"`
	// More tells that it names more files than are read of a definition: which those are is not known.
	More bool `json:"more,omitempty"`
}

// Files are all that it names.
func (d Definition) Files() []string { return slices.Concat(d.Disks, d.Bases) }

// Format is a format of definitions.
type Format struct {
	Name      string
	Extension string // of its files, with the dot
	// Read reads a definition. It fails with ErrOther for a file of another kind that has the same extension.
	Read func(text []byte) (Definition, error)
	// Follow returns the text with names changed; what is not named stays as it is.
	Follow func(text []byte, c Change) ([]byte, error)
	// Describe reads what the machine is. Nil where that is not read yet.
	Describe func(text []byte) (Machine, error)
	// Rewrite returns the text with the machine being another one, which has as many disks, drives and cards in the same order. What is not
	// said of it in a Machine stays as it is. Nil where that is not done yet.
	Rewrite func(text []byte, m Machine) ([]byte, error)
	// Without returns the text without some of its disks, by their places in the order. Nil where Rewrite, or nothing, does that.
	Without func(text []byte, disks []int) ([]byte, error)
	// Write returns a new definition. Nil where that is not done yet.
	Write func(m Machine) ([]byte, error)
	// Images are the formats of images that it can say a disk has become one of, and AnyImage tells that it can say all.
	Images   []string
	AnyImage bool
	// Containers tells that its machines may be containers.
	Containers bool
	// Beside tells that it names only files in its own folder, or below it.
	Beside bool
	// Seal is the extension of a file beside a definition that holds its checksum, empty where there is none.
	Seal string
}

// ErrOther says that a file is no definition of a machine.
var ErrOther = errors.New("it is no definition of a machine")

// Bounds of what is read of a definition: its length in bytes, the number of its disks and bases, and the length of a name and of all names
// together, in bytes.
const (
	maxLength = 4 << 20
	maxDisks  = 256
	maxName   = 4096
	maxNames  = 64 << 10
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
	return slices.ContainsFunc(formats, func(f Format) bool { return f.isCalled(name) })
}

// isCalled tells whether a file has a name as definitions of the format have, whatever the case.
func (f Format) isCalled(name string) bool {
	at := len(name) - len(f.Extension)
	return at >= 0 && strings.EqualFold(name[at:], f.Extension)
}

// Lookup returns the format of that name.
func Lookup(name string) (Format, error) {
	for _, f := range formats {
		if f.Name == name {
			return f, nil
		}
	}
	return Format{}, fmt.Errorf("there is no format of definitions %q", name)
}

// Open reads the definition in a file, which is data that anybody may have written.
func Open(folder storage.Folder, name string) (Definition, error) {
	text, err := Text(folder, name)
	if err != nil {
		return Definition{}, err
	}
	return Parse(name, text)
}

// Parse reads the text of a definition that lies in a file of that name.
func Parse(name string, text []byte) (Definition, error) {
	d, _, err := read(name, text)
	return d, err
}

// Text reads the file of a definition.
func Text(folder storage.Folder, name string) ([]byte, error) {
	file, err := folder.Open(name)
	if err != nil {
		return nil, err
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
		return nil, fmt.Errorf("reading the definition %s: %w", name, err)
	}
	return text, nil
}

// read does so and tells the format.
func read(name string, text []byte) (Definition, Format, error) {
	for _, f := range Formats() {
		if !f.isCalled(name) {
			continue
		}
		d, err := f.Read(text)
		if errors.Is(err, ErrOther) {
			continue
		}
		if err != nil {
			return d, f, fmt.Errorf("reading the definition %s: %w", name, err)
		}
		return d.bounded(f, name), f, nil
	}
	return Definition{}, Format{}, fmt.Errorf("%s: %w", name, ErrOther)
}

// bounded is the definition with nothing in it that is too long or cannot be shown. A machine without a name is called as its file.
func (d Definition) bounded(f Format, file string) Definition {
	d.Format, d.Name = f.Name, storage.Printable(d.Name)
	if d.Name == "" || len(d.Name) > maxName {
		d.Name = path.Base(file)
		d.Name = d.Name[:len(d.Name)-len(f.Extension)]
	}
	number, length := 0, 0
	bounded := func(all []string) []string {
		names, seen := []string{}, map[string]bool{}
		for _, name := range all {
			if name == "" || seen[name] {
				continue
			}
			if storage.Printable(name) != name || len(name) > maxName || number == maxDisks || length+len(name) > maxNames {
				d.More = true
				continue
			}
			names, number, length, seen[name] = append(names, name), number+1, length+len(name), true
		}
		return names
	}
	d.Disks, d.Bases = bounded(d.Disks), bounded(d.Bases)
	if len(d.Bases) == 0 {
		d.Bases = nil
	}
	return d
}

// Uses are the files that a definition names, absolute, when the definition lies in the folder at dir.
func (d Definition) Uses(dir string) (files []string) {
	for _, name := range d.Files() {
		if !path.IsAbs(name) {
			name = path.Join(dir, name)
		}
		files = append(files, path.Clean(name))
	}
	return files
}
