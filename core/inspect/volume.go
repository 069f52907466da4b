package inspect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// Nodes is a filesystem as the room of its kind reads it, only from its own structures. All of it is data that anybody may have written: a room
// bounds what it reads, and fails with disk.ErrDamaged for what makes no sense. Nodes are the room's own numbers for files and folders.
type Nodes interface {
	About() About
	// Used calls each with what the filesystem uses, its own structures included: in bytes from its start, ascending, none twice. What About has a
	// doubt of is not to be relied on.
	Used(ctx context.Context, each func(fingerprint.Range) error) error
	Root() uint64
	// List returns what a folder has, without itself and the one above.
	List(folder uint64) ([]Entry, error)
	Stat(node uint64) (Info, error)
	// Pieces returns where the content of a file or link lies, ascending. What is in no piece is zeros.
	Pieces(node uint64) ([]Piece, error)
}

// Labelled is a filesystem whose label is not where it is recognised by.
type Labelled interface{ Label() string }

// Folding is a filesystem that takes names for the same that differ in case only.
type Folding interface{ AnyCase() }

// About is what a filesystem says of itself, in bytes.
type About struct {
	Size, Used int64
	// Doubt is why its map of used ranges is not to be relied on, empty when it is.
	Doubt string
}

// Entry is a name in a folder. Names are as they can be shown: bytes that cannot be are `\xNN`.
type Entry struct {
	Name string
	Node uint64
}

// Info is what a node is.
type Info struct {
	Mode     fs.FileMode // what it is, and who may what where that is told
	Size     int64
	Modified time.Time
}

// Piece is a part of a file. It lies on the filesystem at At, or is Data, where a filesystem keeps it with what describes the file.
type Piece struct {
	Off, Len int64
	At       int64
	Data     []byte
}

// Bounds of what is followed: links in a path, folders in each other, and names in a folder.
const (
	maxLinks = 40
	maxDepth = 200
	// MaxNames bounds the names in a folder that a room returns.
	MaxNames = 4 << 20
	// maxTarget bounds the length of a link, in bytes.
	maxTarget = 4096
)

var errDeep = fmt.Errorf("folders lie more than %d deep", maxDepth)

type room struct {
	kinds []string
	open  func(r io.ReaderAt, size int64) (Nodes, error)
}

var rooms []room

// Register makes the room of some kinds of filesystems known. Each calls it once, from init.
func Register(open func(r io.ReaderAt, size int64) (Nodes, error), kinds ...string) {
	rooms = append(rooms, room{kinds, open})
}

// Volume is an opened filesystem. It is an fs.FS, from which nothing is run, mounted or changed. Links are followed inside of it.
type Volume struct {
	Nodes
	disk  io.ReaderAt
	start int64
}

// Mount opens the filesystem in a range of a disk. It fails with errors.ErrUnsupported for a kind that is only recognised.
func Mount(d Disk, kind string, off, length int64) (*Volume, error) {
	i := slices.IndexFunc(rooms, func(r room) bool { return slices.Contains(r.kinds, kind) })
	if i < 0 {
		return nil, fmt.Errorf("files of %s are not read: %w", kind, errors.ErrUnsupported)
	}
	length = min(length, d.Size()-off)
	if off < 0 || length <= 0 {
		return nil, disk.Damaged("a filesystem behind the end of the disk")
	}
	n, err := rooms[i].open(disk.NewPages(io.NewSectionReader(d, off, length), length), length)
	if err != nil {
		return nil, fmt.Errorf("opening the filesystem (%s): %w", kind, err)
	}
	return &Volume{Nodes: n, disk: d, start: off}, nil
}

// at finds a node by its path, and follows links: the last one only when that is wanted.
func (v *Volume) at(name string, last bool) (uint64, Info, error) {
	left := strings.Split(name, "/")
	if name == "." {
		left = nil
	}
	folders := []uint64{v.Root()}
	info, err := v.Stat(v.Root())
	for links := 0; len(left) > 0 && err == nil; {
		part := left[0]
		left = left[1:]
		switch {
		case part == "" || part == ".":
			continue
		case part == "..":
			folders = folders[:max(1, len(folders)-1)]
			info, err = v.Stat(folders[len(folders)-1])
			continue
		case !info.Mode.IsDir() || len(folders) > maxDepth:
			return 0, info, fs.ErrNotExist
		}
		var node uint64
		if node, err = v.child(folders[len(folders)-1], part); err != nil {
			break
		}
		if info, err = v.Stat(node); err != nil {
			break
		}
		if info.Mode&fs.ModeSymlink == 0 || len(left) == 0 && !last {
			folders = append(folders, node)
			continue
		}
		if links++; links > maxLinks {
			return 0, info, fmt.Errorf("more than %d links", maxLinks)
		}
		var target string
		if target, err = v.target(node, info); err != nil {
			break
		}
		if strings.HasPrefix(target, "/") {
			folders = folders[:1]
		}
		left = append(strings.Split(target, "/"), left...)
		info, err = v.Stat(folders[len(folders)-1])
	}
	return folders[len(folders)-1], info, err
}

func (v *Volume) child(folder uint64, name string) (uint64, error) {
	all, err := v.List(folder)
	if err != nil {
		return 0, err
	}
	i := slices.IndexFunc(all, func(e Entry) bool { return e.Name == name })
	if _, folds := v.Nodes.(Folding); folds && i < 0 {
		i = slices.IndexFunc(all, func(e Entry) bool { return strings.EqualFold(e.Name, name) })
	}
	if i < 0 {
		return 0, fs.ErrNotExist
	}
	return all[i].Node, nil
}

// target is where a link leads.
func (v *Volume) target(node uint64, info Info) (string, error) {
	if info.Size > maxTarget {
		return "", disk.Damaged("a link of %d bytes", info.Size)
	}
	b := make([]byte, info.Size)
	r, err := v.content(node, info)
	if err == nil {
		_, err = io.ReadFull(r, b)
	}
	return string(b), err
}

func wrong(op, name string, err error) error { return &fs.PathError{Op: op, Path: name, Err: err} }

// StatFile returns what a path is.
func (v *Volume) StatFile(name string) (Info, error) {
	if !fs.ValidPath(name) {
		return Info{}, wrong("stat", name, fs.ErrInvalid)
	}
	_, info, err := v.at(name, true)
	if err != nil {
		return Info{}, wrong("stat", name, err)
	}
	return info, nil
}

// Open opens a file or folder. A file is an io.ReaderAt too.
func (v *Volume) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, wrong("open", name, fs.ErrInvalid)
	}
	node, info, err := v.at(name, true)
	if err != nil {
		return nil, wrong("open", name, err)
	}
	is := named{path.Base(name), info}
	switch {
	case info.Mode.IsDir():
		return &folder{is: is, volume: v, node: node}, nil
	case !info.Mode.IsRegular():
		return nil, wrong("open", name, storage.ErrNotFile)
	}
	r, err := v.content(node, info)
	if err != nil {
		return nil, wrong("open", name, err)
	}
	return &file{is, r}, nil
}

// content reads a file.
func (v *Volume) content(node uint64, info Info) (*io.SectionReader, error) {
	pieces, err := v.Pieces(node)
	if err != nil {
		return nil, err
	}
	return io.NewSectionReader(&content{v, pieces}, 0, info.Size), nil
}

// content is that of a file, as long as it may be.
type content struct {
	volume *Volume
	pieces []Piece
}

func (c *content) ReadAt(b []byte, off int64) (int, error) {
	clear(b)
	end := off + int64(len(b))
	i, _ := slices.BinarySearchFunc(c.pieces, off, func(p Piece, off int64) int {
		if p.Off+p.Len <= off {
			return -1
		}
		return 1
	})
	for ; i < len(c.pieces) && c.pieces[i].Off < end; i++ {
		p := c.pieces[i]
		from, to := max(off, p.Off), min(end, p.Off+p.Len)
		into := b[from-off : to-off]
		if p.Data != nil {
			copy(into, p.Data[min(from-p.Off, int64(len(p.Data))):])
			continue
		}
		if _, err := c.volume.disk.ReadAt(into, c.volume.start+p.At+from-p.Off); err != nil {
			return int(from - off), fmt.Errorf("at offset %d of the file: %w", from, err)
		}
	}
	return len(b), nil
}

// ReadDir lists a folder, by names.
func (v *Volume) ReadDir(name string) ([]fs.DirEntry, error) {
	if !fs.ValidPath(name) {
		return nil, wrong("readdir", name, fs.ErrInvalid)
	}
	node, info, err := v.at(name, true)
	if err == nil && !info.Mode.IsDir() {
		err = errors.New("it is no folder")
	}
	var all []fs.DirEntry
	if err == nil {
		all, err = v.entries(node)
	}
	if err != nil {
		return nil, wrong("readdir", name, err)
	}
	return all, nil
}

func (v *Volume) entries(node uint64) ([]fs.DirEntry, error) {
	found, err := v.List(node)
	if err != nil {
		return nil, err
	}
	all := make([]fs.DirEntry, 0, len(found))
	for _, e := range found {
		info, err := v.Stat(e.Node)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name, err)
		}
		all = append(all, named{e.Name, info})
	}
	slices.SortFunc(all, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return all, nil
}
