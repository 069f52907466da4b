package vmdk

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

type reader struct {
	descriptor
	parts   disk.Pieces
	sparse  []*sparseExtent // of the parts
	files   []storage.File
	names   []string // the one that was opened comes last
	layout  string
	version uint32
	grain   int64
	unclean bool
	base    disk.Reader // nil without one
}

func open(ctx context.Context, o disk.Origin) (disk.Reader, error) {
	r := &reader{}
	if err := r.load(ctx, o); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

func (r *reader) load(ctx context.Context, o disk.Origin) error {
	file, err := o.Folder.Open(o.Name)
	if err != nil {
		return err
	}
	r.files = append(r.files, file)
	defer func() { r.names = append(r.names, o.Name) }()
	mark := make([]byte, 4)
	if err := disk.ReadFull(file, mark, 0); err != nil {
		return fmt.Errorf("reading the mark: %w", err)
	}
	if string(mark) == sparseMark || string(mark) == cowMark {
		err = r.loadSingle(file, o.Name)
	} else {
		err = r.loadDescriptor(o, file)
	}
	if err != nil {
		return err
	}
	if r.parentCID != noParent {
		return r.openBase(ctx, o)
	}
	return nil
}

// loadSingle: the one file is the extent, with the descriptor inside.
func (r *reader) loadSingle(file storage.File, name string) error {
	e, size, h, embedded, err := load(file, name)
	if err != nil {
		return err
	}
	r.parentCID = noParent
	if embedded != nil {
		if r.descriptor, err = parseDescriptor(embedded); err != nil {
			return err
		}
		if len(r.extents) != 1 {
			return disk.Unsupported("one part of a disk with %d extents: open its descriptor instead", len(r.extents))
		}
	}
	r.layout = sparse
	if h.flags&compressFlag != 0 {
		r.layout = stream
	}
	r.note(h, e)
	r.parts.Add(e, size)
	return nil
}

func (r *reader) note(h header, e disk.Piece) {
	r.version, r.grain, r.unclean = h.version, int64(h.grain)*sector, r.unclean || h.unclean
	if s, ok := e.(*sparseExtent); ok {
		r.sparse = append(r.sparse, s)
	}
}

// loadDescriptor: the file is the descriptor, which names the extents.
func (r *reader) loadDescriptor(o disk.Origin, file storage.File) error {
	length, err := file.Size()
	if err != nil {
		return err
	}
	if length > maxDescriptor {
		return disk.Damaged("a descriptor of %d bytes is absurd", length)
	}
	b, err := readDescriptor(file, 0, length)
	if err != nil {
		return err
	}
	if r.descriptor, err = parseDescriptor(b); err != nil {
		return err
	}
	sparseParts := 0
	for _, line := range r.extents {
		e, isSparse, err := r.openExtent(o, line)
		if err != nil {
			return fmt.Errorf("opening the extent %q: %w", line.file, err)
		}
		if isSparse {
			sparseParts++
		}
		r.parts.Add(e, line.sectors*sector)
	}
	r.layout = map[bool]string{true: sparse, false: flat}[sparseParts > 0]
	if len(r.extents) > 1 || r.kind == kinds[splitSparse] || r.kind == kinds[splitFlat] {
		r.layout = "split-" + r.layout
	}
	return nil
}

func (r *reader) openExtent(o disk.Origin, line extentLine) (e disk.Piece, isSparse bool, err error) {
	if line.kind == "ZERO" {
		return zeros{line.sectors * sector}, false, nil
	}
	name, err := o.Beside(line.file)
	if err != nil {
		return nil, false, err
	}
	file, err := o.Folder.Open(name)
	if err != nil {
		return nil, false, err
	}
	r.files = append(r.files, file)
	if !slices.Contains(r.names, name) {
		r.names = append(r.names, name)
	}
	switch line.kind {
	case "FLAT", "VMFS":
		length, err := file.Size()
		if err != nil {
			return nil, false, err
		}
		if line.offset > length/sector || line.sectors*sector > length-line.offset*sector {
			return nil, false, disk.Damaged(
				"%d sectors from sector %d on do not lie in its file of %d bytes: it is truncated",
				line.sectors,
				line.offset,
				length,
			)
		}
		return disk.FilePiece{File: file, Name: name, Off: line.offset * sector, Len: line.sectors * sector}, false, nil
	case "SPARSE", "VMFSSPARSE", "COWD":
		e, size, h, _, err := load(file, name)
		if err != nil {
			return nil, false, err
		}
		if size < line.sectors*sector {
			return nil, false, disk.Damaged("the extent has %d bytes, and the descriptor says %d", size, line.sectors*sector)
		}
		r.note(h, e)
		return e, true, nil
	}
	return nil, false, disk.Unsupported("extents of the kind %s", line.kind)
}

// openBase opens the parent, which must be as it was when this disk was put on it.
func (r *reader) openBase(ctx context.Context, o disk.Origin) error {
	if r.parentHint == "" {
		return disk.Damaged("the disk stands on a parent, but does not name it")
	}
	base, err := o.Base(ctx, r.parentHint, "vmdk")
	if err != nil {
		return err
	}
	r.base = base
	r.layout = delta
	if parent, ok := base.(*reader); ok && parent.cid != r.parentCID {
		return disk.Damaged(
			"the parent %q has changed since this disk was put on it (content id %08x, expected %08x): together they make no sense",
			r.parentHint,
			parent.cid,
			r.parentCID,
		)
	}
	return nil
}

func (r *reader) Size() int64 { return r.parts.Size() }

func (r *reader) ReadAt(p []byte, off int64) (int, error) {
	if r.base == nil {
		return r.parts.ReadAt(p, off)
	}
	return disk.ReadRuns(p, off, r.Size(), func(p []byte, off int64) (int, error) {
		e, err := r.parts.Extent(off)
		if err != nil {
			return 0, err
		}
		p = p[:min(int64(len(p)), e.Len)]
		if e.Kind == disk.Hole {
			return len(p), disk.ReadBelow(r.base, p, off)
		}
		return r.parts.ReadAt(p, off)
	})
}

// Locate tells where a run lies.
func (r *reader) Locate(off int64) (disk.Place, error) { return r.parts.Locate(off) }

func (r *reader) Extent(off int64) (disk.Extent, error) {
	e, err := r.parts.Extent(off)
	if err != nil || e.Kind != disk.Hole || r.base == nil {
		return e, err
	}
	return disk.ExtentBelow(r.base, e)
}

// Check walks the tables of the sparse extents.
func (r *reader) Check(ctx context.Context) error {
	if c, ok := r.base.(disk.Checker); ok {
		if err := c.Check(ctx); err != nil {
			return err
		}
	}
	for _, s := range r.sparse {
		taken := []disk.Extent{{Off: 0, Len: sector}}
		for _, d := range s.directories {
			taken = append(taken, disk.Extent{Off: d, Len: 4 * ((s.Count() + int64(s.header.entries) - 1) / int64(s.header.entries))})
		}
		if err := s.Check(ctx, 0, taken...); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) Describe() disk.Description {
	d := disk.Description{
		Format:      "vmdk",
		Layout:      r.layout,
		VirtualSize: r.Size(),
		BlockSize:   r.grain,
		SectorSize:  sector,
		Files:       disk.OpenedFirst(r.names),
		Dirty:       r.unclean,
		Identifier:  fmt.Sprintf("%08x", r.cid),
	}
	if r.version > 0 {
		d.Version = fmt.Sprint(r.version)
	}
	if r.base != nil {
		d.StandOn(r.base, r.parentHint)
	}
	if r.unclean {
		d.Warnings = append(d.Warnings, "the image was not closed properly")
	}
	return d
}

func (r *reader) Close() error {
	var err error
	for _, f := range r.files {
		err = errors.Join(err, f.Close())
	}
	if r.base != nil {
		err = errors.Join(err, r.base.Close())
	}
	return err
}
