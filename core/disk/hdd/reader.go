package hdd

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// layer is one image of a range of the disk. Where it has a hole, the layer below shows.
type layer interface {
	io.ReaderAt
	Extent(off int64) (disk.Extent, error)
}

// span is a range of the disk with its layers, the top one first.
type span struct {
	off, len int64
	layers   []layer
}

type reader struct {
	files    []storage.File
	names    []string // the one that was opened comes last
	spans    []span
	size     int64
	layout   string
	cluster  int64
	images   []*image
	shots    []string // snapshots beside the state that is open
	bundleID string
	markless bool // a plain image without a bundle
}

func open(_ context.Context, o disk.Origin) (disk.Reader, error) {
	r := &reader{layout: expanding}
	if err := r.load(o); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return r, nil
}

func (r *reader) load(o disk.Origin) error {
	info, err := o.Folder.Stat(o.Name)
	if err != nil {
		return err
	}
	if info.IsDir {
		return r.loadBundle(o)
	}
	m, err := r.openFile(o, o.Name)
	if errors.Is(err, errNoMark) && info.Size > 0 && info.Size%sector == 0 {
		// Whoever recognises an image by its content does not come here: somebody says that it is one.
		file := r.files[0]
		r.layout, r.size, r.markless = plain, info.Size, true
		r.spans = []span{{0, r.size, []layer{disk.FilePiece{File: file, Len: r.size}}}}
		return nil
	}
	if err != nil {
		return err
	}
	r.size = m.Size
	r.spans = []span{{0, r.size, []layer{m}}}
	return nil
}

func (r *reader) openFile(o disk.Origin, name string) (*image, error) {
	file, err := o.Folder.Open(name)
	if err != nil {
		return nil, err
	}
	r.files, r.names = append(r.files, file), append(r.names, name)
	m, err := openImage(file, name)
	if err == nil {
		r.images, r.cluster = append(r.images, m), m.Block
	}
	return m, err
}

// bundle is what matters of a descriptor. Sizes count sectors.
type bundle struct {
	Size     int64  `xml:"Disk_Parameters>Disk_size"`
	ID       string `xml:"Disk_Parameters>UID"`
	Engine   string `xml:"Disk_Parameters>Encryption>Engine"`
	Storages []struct {
		Start, End int64
		Images     []struct{ GUID, Type, File string } `xml:"Image"`
	} `xml:"StorageData>Storage"`
	Top   string                              `xml:"Snapshots>TopGUID"`
	Shots []struct{ GUID, ParentGUID string } `xml:"Snapshots>Shot"`
}

const nothing = "{00000000-0000-0000-0000-000000000000}"

func (r *reader) loadBundle(o disk.Origin) error {
	inside := disk.Origin{Folder: o.Folder, Name: path.Join(o.Name, descriptorName)}
	file, err := o.Folder.Open(inside.Name)
	if err != nil {
		return err
	}
	r.files = append(r.files, file)
	size, err := file.Size()
	if err != nil {
		return err
	}
	if size > maxDescriptor {
		return disk.Damaged("a descriptor of %d bytes is absurd", size)
	}
	var b bundle
	if err := xml.NewDecoder(io.NewSectionReader(file, 0, size)).Decode(&b); err != nil { // never fetches what a text refers to
		return disk.Damaged("the descriptor cannot be read: %v", err)
	}
	if b.Engine != "" && b.Engine != nothing {
		return disk.Unsupported("the image is encrypted: decrypt it where its key is")
	}
	chain, err := b.chain(o.Snapshot)
	if err != nil {
		return err
	}
	r.bundleID = b.ID
	for _, s := range b.Shots {
		if s.GUID != chain[0] || o.Snapshot != "" {
			r.shots = append(r.shots, storage.Printable(s.GUID))
		}
	}
	for _, s := range b.Storages {
		p := span{off: s.Start * sector, len: (s.End - s.Start) * sector}
		if s.Start*sector != r.size || s.End <= s.Start || s.End > b.Size {
			return disk.Damaged("the storage of sectors %d to %d leaves a gap or overlaps", s.Start, s.End)
		}
		for _, shot := range chain {
			for _, i := range s.Images {
				if i.GUID != shot {
					continue
				}
				l, err := r.openLayer(inside, i.Type, i.File, p.len)
				if err != nil {
					return fmt.Errorf("opening the image %q: %w", i.File, err)
				}
				p.layers = append(p.layers, l)
			}
		}
		if len(p.layers) == 0 {
			return disk.Damaged("the storage of sectors %d to %d has no image", s.Start, s.End)
		}
		r.spans = append(r.spans, p)
		r.size += p.len
	}
	if r.size == 0 || r.size != b.Size*sector {
		return disk.Damaged("the storages end at %d and the disk at %d", r.size, b.Size*sector)
	}
	// Beside the image there is an empty file with the bundle's own name, mostly.
	if own := path.Join(o.Name, path.Base(o.Name)); !slices.Contains(r.names, own) {
		if info, err := o.Folder.Stat(own); err == nil && info.Regular {
			r.names = append(r.names, own)
		}
	}
	r.names = append(r.names, inside.Name)
	return nil
}

// chain returns the snapshots from the present state down, or from one that is asked for. Without snapshots it is the one
// image that there is.
func (b bundle) chain(from string) ([]string, error) {
	parents, isParent := map[string]string{}, map[string]bool{}
	for _, s := range b.Shots {
		if _, twice := parents[s.GUID]; twice {
			return nil, disk.Damaged("two snapshots have the GUID %s", storage.Printable(s.GUID))
		}
		parents[s.GUID] = s.ParentGUID
		isParent[s.ParentGUID] = true
	}
	for _, s := range b.Shots {
		steps := 0
		for at := s.GUID; at != "" && at != nothing; at = parents[at] {
			if steps++; steps > len(b.Shots)+1 { // the image that the first one stands on has no entry of its own
				return nil, disk.Damaged("the chain of snapshots comes back to itself")
			}
		}
	}
	top := b.Top
	for _, s := range b.Shots {
		if top == "" && !isParent[s.GUID] {
			top = s.GUID
		}
	}
	if from != "" {
		if _, known := parents[from]; !known {
			return nil, fmt.Errorf("there is no snapshot %q in the bundle", from)
		}
		top = from
	}
	if top == "" && len(b.Shots) == 0 && len(b.Storages) > 0 && len(b.Storages[0].Images) == 1 {
		return []string{b.Storages[0].Images[0].GUID}, nil
	}
	var chain []string
	for at := top; at != "" && at != nothing; at = parents[at] {
		if len(chain) > maxLayers || slices.Contains(chain, at) {
			return nil, disk.Damaged("the chain of snapshots comes back to itself or is too long")
		}
		chain = append(chain, at)
	}
	if len(chain) == 0 {
		return nil, disk.Damaged("the descriptor does not tell which image is the present one")
	}
	return chain, nil
}

func (r *reader) openLayer(inside disk.Origin, kind, name string, length int64) (layer, error) {
	at, err := inside.Beside(name)
	if err != nil {
		return nil, err
	}
	if kind == "Plain" {
		file, err := inside.Folder.Open(at)
		if err != nil {
			return nil, err
		}
		r.files, r.names, r.layout = append(r.files, file), append(r.names, at), plain
		size, err := file.Size()
		if err == nil && size < length {
			err = disk.Damaged("the file has %d bytes and should have %d: it is truncated", size, length)
		}
		return disk.FilePiece{File: file, Name: at, Len: length}, err
	}
	m, err := r.openFile(inside, at)
	if err == nil && m.Size < length {
		err = disk.Damaged("the image has %d bytes and should have %d", m.Size, length)
	}
	return m, err
}

func (r *reader) Size() int64 { return r.size }

// span returns the one that holds an offset of the disk.
func (r *reader) span(off int64) span {
	i := slices.IndexFunc(r.spans, func(s span) bool { return off < s.off+s.len })
	return r.spans[i]
}

// at returns the layer that shows at an offset, nil where none does, and the run for which that holds.
func (r *reader) at(off int64) (layer, disk.Extent, error) {
	s := r.span(off)
	run := disk.Extent{Off: off, Len: s.off + s.len - off, Kind: disk.Hole}
	for _, l := range s.layers {
		e, err := l.Extent(off - s.off)
		if err != nil {
			return nil, run, err
		}
		run.Len = min(run.Len, e.Len)
		if _, raw := l.(disk.FilePiece); e.Kind != disk.Hole || raw {
			run.Kind = e.Kind
			return l, run, nil
		}
	}
	return nil, run, nil
}

func (r *reader) ReadAt(p []byte, off int64) (int, error) {
	return disk.ReadRuns(p, off, r.size, func(p []byte, off int64) (int, error) {
		l, run, err := r.at(off)
		if err != nil {
			return 0, err
		}
		p = p[:min(int64(len(p)), run.Len)]
		if l == nil {
			clear(p)
			return len(p), nil
		}
		return l.ReadAt(p, off-r.span(off).off)
	})
}

// Locate tells where a run lies.
func (r *reader) Locate(off int64) (disk.Place, error) {
	s := r.span(off)
	if len(s.layers) != 1 {
		return disk.Place{}, errors.ErrUnsupported
	}
	p, err := s.layers[0].(disk.Locator).Locate(off - s.off)
	p.Off, p.Len = off, min(p.Len, s.off+s.len-off)
	return p, err
}

func (r *reader) Extent(off int64) (disk.Extent, error) {
	_, run, err := r.at(off)
	return run, err
}

// Check walks the tables of all images.
func (r *reader) Check(ctx context.Context) error {
	for _, m := range r.images {
		if err := m.check(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) Describe() disk.Description {
	d := disk.Description{
		Format:      "hdd",
		Layout:      r.layout,
		Version:     "2",
		Identifier:  storage.Printable(r.bundleID),
		VirtualSize: r.size,
		BlockSize:   r.cluster,
		SectorSize:  sector,
		Files:       disk.OpenedFirst(r.names),
	}
	if r.markless {
		d.Warnings = append(d.Warnings, "the file has no marks of the format: it is read as a plain image, as was asked for")
	}
	d.Snapshots = r.shots
	for _, m := range r.images {
		d.Dirty = d.Dirty || m.header.inUse
	}
	if d.Dirty {
		d.Warnings = append(d.Warnings, "the image was not closed properly; its content is there")
	}
	return d
}

func (r *reader) Close() error {
	var err error
	for _, f := range r.files {
		err = errors.Join(err, f.Close())
	}
	return err
}
