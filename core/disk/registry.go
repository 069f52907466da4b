package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"time"

	"bagaglio/core/storage"
)

// Format is a row of the registry: what a room offers.
type Format struct {
	Name       string
	Rank       int      // its place in lists: the smaller, the sooner
	Extensions []string // with the dot; the first is the one new files get
	Layouts    []Layout // that can be written; the first is the default
	// Sniff tells whether the content is of this format. Nil for raw, which has no marks.
	Sniff func(*Probe) bool
	// Snapshots tells whether Open opens those that are kept inside of an image.
	Snapshots bool
	// Open opens an image for reading. The Reader closes what it opened.
	Open func(context.Context, Origin) (Reader, error)
	// Create begins an image.
	Create func(Target) (Writer, error)
	// Rename changes in a file of an image the names of its other files, and of what it stands on, to new ones: both without folders. It
	// tells whether anything had to be changed. Nil for a format that names no files. RenameIn opens the file for it.
	Rename func(file storage.File, names map[string]string) (changed bool, err error)
}

// Layout is a variant inside a format, with its limits.
type Layout struct {
	Name        string
	Thick       bool  // takes the whole virtual size of the pool from the start
	Stands      bool  // on a base
	OwnBase     bool  // which has to be of the same format and virtual size
	Largest     int64 // virtual size in bytes, with the options that hold most
	Granularity int64 // the virtual size is a multiple of this many bytes
	Snapshots   bool  // a hypervisor can keep snapshots in it
	Compresses  bool  // what is stored; it takes all of its length in the worst case
	Gathers     bool  // a file that lies there under a fitting name is a part of the disk
	Options     []Option
	// Limit is the largest virtual size with those options. Nil stands for Largest.
	Limit func(Options) int64
	// Units are the lengths of the pieces in which the layout stores, in bytes: of data first, then of what its tables cover.
	Units func(virtual int64, o Options) []int64
	// FileSize is the length of all files of an image with that virtual size, of which the pieces that are counted are stored.
	FileSize func(virtual int64, o Options, stored Stored) int64
	// Names are those of the files of an image that is asked for under a name; the last one makes it openable. Nil stands
	// for one file of that name.
	Names func(name string, virtual int64, o Options) []string
}

// AnyUnits are those of a layout whatever the disk and the options.
func AnyUnits(units ...int64) func(int64, Options) []int64 {
	return func(int64, Options) []int64 { return units }
}

// Target says what image to make.
type Target struct {
	Folder     storage.Folder
	Name       string
	Size       int64 // virtual, in bytes; a multiple of the layout's granularity
	Layout     string
	Options    Options
	Identifier [16]byte // a UUID for formats that store one; with the same one the same content gives the same bytes
	Created    time.Time
	// Base is what the image stands on, in a layout that does, and BaseName how the image is to name it. The writer reads
	// it until Commit and does not close it.
	Base     Reader
	BaseName string

	replay *replay // nil for a new image
}

// Probe is what a format sees of a file to recognise it.
type Probe struct {
	Size int64
	Head []byte // the first bytes, at most 4096
	Tail []byte // the last bytes, at most 512
	// Names are those in a folder, which some formats use for the files of one disk; then there is nothing else.
	Names []string
}

var (
	formats []Format
	// namedFormats are the formats that names claim, by their extensions.
	namedFormats = map[string]string{}
)

// Register makes a format known. Each format's room calls it once, from init.
func Register(f Format) {
	formats = append(formats, f)
	slices.SortFunc(formats, func(a, b Format) int { return a.Rank - b.Rank })
	for _, extension := range f.Extensions {
		namedFormats[extension] = f.Name
	}
}

// Formats returns the formats that are known, raw first.
func Formats() []Format { return slices.Clone(formats) }

// Lookup returns the format of that name.
func Lookup(name string) (Format, error) {
	var names []string
	for _, f := range formats {
		if f.Name == name {
			return f, nil
		}
		names = append(names, f.Name)
	}
	return Format{}, fmt.Errorf("%w: format %q is not known: choose one of %v", ErrNoFormat, name, names)
}

// Layout returns the layout of that name, or the default for an empty name.
func (f Format) Layout(name string) (Layout, error) {
	if name == "" {
		return f.Layouts[0], nil
	}
	var names []string
	for _, l := range f.Layouts {
		if l.Name == name {
			return l, nil
		}
		names = append(names, l.Name)
	}
	return Layout{}, fmt.Errorf("%s has no layout %q: choose one of %v", f.Name, name, names)
}

// FileNames are the names of the files of an image that is asked for under a name; the last one makes it openable.
func (l Layout) FileNames(name string, virtual int64, o Options) []string {
	if l.Names == nil {
		return []string{name}
	}
	return l.Names(name, virtual, o)
}

// PieceSize is how many bytes of the disk lie in one file, or 0 in a layout that does not split it.
func (l Layout) PieceSize(o Options) int64 {
	for _, option := range l.Options {
		if option.Name != "piece_size" {
			continue
		}
		if o.PieceSize > 0 {
			return o.PieceSize
		}
		return option.Default
	}
	return 0
}

// LimitFor is the largest virtual size with those options, in bytes.
func (l Layout) LimitFor(o Options) int64 {
	if l.Limit == nil {
		return l.Largest
	}
	return l.Limit(o)
}

// StoredSize is how many bytes of the disk are stored in whole blocks of the layout.
func (l Layout) StoredSize(virtual int64, o Options, stored Stored) int64 {
	return stored[l.Units(virtual, o)[0]]
}

// Units returns the units of all layouts with their defaults, and of one with options, each once.
func Units(virtual int64, layout Layout, o Options) []int64 {
	units := layout.Units(virtual, o)
	for _, f := range formats {
		for _, l := range f.Layouts {
			units = append(units, l.Units(virtual, Options{})...)
		}
	}
	slices.Sort(units)
	return slices.Compact(units)
}

// RoundUp returns the smallest size that the layout can hold, that is a multiple of another one, and not below size.
func (l Layout) RoundUp(size int64, o Options, multiple int64) int64 {
	step := l.Granularity
	for _, m := range []int64{o.SectorSize, multiple} {
		if m > 0 {
			step = leastCommon(step, m)
		}
	}
	return (size + step - 1) / step * step
}

func leastCommon(a, b int64) int64 {
	divisor, rest := a, b
	for rest != 0 {
		divisor, rest = rest, divisor%rest
	}
	return a / divisor * b
}

// probe reads what is needed to recognise what lies in folder/name.
func probe(folder storage.Folder, name string) (*Probe, error) {
	info, err := folder.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir {
		infos, err := folder.List(name)
		p := &Probe{}
		for _, i := range infos {
			p.Names = append(p.Names, path.Base(i.Name))
		}
		return p, err
	}
	f, err := folder.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	size, err := f.Size()
	if err != nil {
		return nil, err
	}
	p := &Probe{Size: size, Head: make([]byte, min(size, 4096)), Tail: make([]byte, min(size, 512))}
	if _, err := f.ReadAt(p.Head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if _, err := f.ReadAt(p.Tail, size-int64(len(p.Tail))); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return p, nil
}
