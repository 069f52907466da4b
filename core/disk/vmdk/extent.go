package vmdk

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/klauspost/compress/zlib"
)

// zeros is an extent without a file.
type zeros struct{ size int64 }

func (z zeros) ReadAt(p []byte, _ int64) (int, error) {
	clear(p)
	return len(p), nil
}

func (z zeros) Extent(off int64) (disk.Extent, error) {
	return disk.Extent{Off: off, Len: z.size - off, Kind: disk.Zero}, nil
}

// sparseExtent is a file with grains that a directory of tables finds.
type sparseExtent struct {
	disk.Blocks
	header      header
	tables      *disk.Pages
	directories []int64 // file offsets: the first, and the second if there is one
}

func openSparse(file storage.File, name string, h header, size int64) (*sparseExtent, error) {
	s := &sparseExtent{header: h, tables: disk.NewPages(file, size)}
	s.Blocks = disk.Blocks{
		File:     file,
		Name:     name,
		FileSize: size,
		Size:     int64(h.capacity) * sector,
		Block:    int64(h.grain) * sector,
		Find:     s.find,
		Holes:    s.holes,
	}
	length := uint64((s.Count()+int64(h.entries)-1)/int64(h.entries)) * 4
	places := []uint64{h.directory}
	if h.flags&redundantFlag != 0 {
		places = append(places, h.redundant)
	}
	for _, at := range places {
		if at > 0 && at < uint64(size)/sector && at*sector+length <= uint64(size) {
			s.directories = append(s.directories, int64(at)*sector)
		}
	}
	if len(s.directories) == 0 {
		return nil, disk.Damaged("the grain directory lies behind the end of the file at %d", size)
	}
	return s, nil
}

// entry returns the entry of a grain: from the first directory, or from the second one where the first leads nowhere.
func (s *sparseExtent) entry(number int64) (entry uint32, err error) {
	perTable := int64(s.header.entries)
	for _, directory := range s.directories {
		var b [4]byte
		if _, err = s.tables.ReadAt(b[:], directory+4*(number/perTable)); err != nil {
			continue
		}
		table := int64(binary.LittleEndian.Uint32(b[:])) * sector
		if table == 0 {
			return 0, nil
		}
		if _, err = s.tables.ReadAt(b[:], table+4*(number%perTable)); err != nil {
			continue
		}
		entry = binary.LittleEndian.Uint32(b[:])
		if int64(entry)*sector < s.FileSize {
			return entry, nil
		}
		err = disk.Damaged("grain %d is said to lie at sector %d, but the file ends at %d", number, entry, s.FileSize)
	}
	return 0, err
}

// holes steps over what the first directory has no entries for.
func (s *sparseExtent) holes(number int64) int64 {
	perTable := int64(s.header.entries)
	var b [4]byte
	if _, err := s.tables.ReadAt(b[:], s.directories[0]+4*(number/perTable)); err != nil {
		return 0
	}
	rest := perTable - number%perTable
	table := int64(binary.LittleEndian.Uint32(b[:])) * sector
	if table == 0 {
		return rest
	}
	return min(s.tables.Run(table+4*(number%perTable), 0)/4, rest)
}

func (s *sparseExtent) find(number int64) (int64, disk.Kind, error) {
	entry, err := s.entry(number)
	switch {
	case err != nil || entry == 0:
		return 0, disk.Hole, err
	case entry == entryZero && s.header.flags&zeroFlag != 0:
		return 0, disk.Zero, nil
	}
	return int64(entry) * sector, disk.Data, nil
}

// compressed is a sparse extent whose grains are compressed, each behind its marker (the note's section on streams).
// Its grains lie anywhere and have any length.
type compressed struct{ *sparseExtent }

func (c compressed) Extent(off int64) (disk.Extent, error) {
	// A compressed grain is shorter in the file than on the disk: that it lies in the file is seen when it is read.
	blocks := c.Blocks
	blocks.FileSize = math.MaxInt64
	return blocks.Extent(off)
}

// Locate cannot tell: a grain is not stored as the guest sees it.
func (c compressed) Locate(int64) (disk.Place, error) { return disk.Place{}, errors.ErrUnsupported }

func (c compressed) ReadAt(p []byte, off int64) (int, error) {
	return disk.ReadRuns(p, off, c.Size, func(p []byte, off int64) (int, error) {
		number := off / c.Block
		p = p[:min(int64(len(p)), c.Block-off%c.Block)]
		at, kind, err := c.find(number)
		if err != nil {
			return 0, err
		}
		if kind != disk.Data {
			clear(p)
			return len(p), nil
		}
		whole, err := c.grain(number, at)
		if err != nil {
			return 0, err
		}
		copy(p, whole[off%c.Block:])
		return len(p), nil
	})
}

// grain inflates a grain. It gives a whole grain, or the rest of the disk.
func (c compressed) grain(number, at int64) ([]byte, error) {
	marker := make([]byte, markerSize)
	if err := disk.ReadFull(c.File, marker, at); err != nil {
		return nil, err
	}
	place, length := binary.LittleEndian.Uint64(marker), int64(binary.LittleEndian.Uint32(marker[8:]))
	if place != uint64(number)*c.header.grain {
		return nil, disk.Damaged(
			"the grain at offset %d says that it belongs to sector %d, and the table says %d",
			at,
			place,
			uint64(number)*c.header.grain,
		)
	}
	if length == 0 || length > 2*c.Block+1024 { // deflate never makes it much longer
		return nil, disk.Damaged("a compressed grain of %d bytes makes no sense", length)
	}
	b := make([]byte, length)
	if err := disk.ReadFull(c.File, b, at+markerSize); err != nil {
		return nil, err
	}
	z, err := zlib.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, disk.Damaged("the grain at offset %d: %v", at, err)
	}
	whole := make([]byte, c.Block+1)
	n, err := io.ReadFull(z, whole)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) { // the end, behind its checksum
		return nil, disk.Damaged("the grain at offset %d: %v", at, err)
	}
	if err == nil || int64(n) < min(c.Block, c.Size-number*c.Block) {
		return nil, disk.Damaged("the grain at offset %d gives %s than a grain", at, map[bool]string{true: "more", false: "less"}[err == nil])
	}
	return whole, nil
}

// load opens a file as a sparse extent of whatever kind. embedded is the descriptor inside of it, if it has one.
func load(file storage.File, name string) (e disk.Piece, size int64, h header, embedded []byte, err error) {
	length, err := file.Size()
	if err != nil {
		return nil, 0, h, nil, err
	}
	b := make([]byte, sparseHeader)
	if err := disk.ReadFull(file, b, 0); err != nil {
		return nil, 0, h, nil, fmt.Errorf("reading the header: %w", err)
	}
	if string(b[:4]) == cowMark {
		h, err = decodeCow(b)
	} else {
		h, err = decodeHeader(b)
	}
	if err != nil {
		return nil, 0, h, nil, err
	}
	if h.descriptor > 0 && h.descriptorSize > 0 {
		if h.descriptorSize > maxDescriptor/sector || h.descriptor > uint64(length)/sector {
			return nil, 0, h, nil, disk.Damaged("a descriptor of %d sectors at sector %d makes no sense", h.descriptorSize, h.descriptor)
		}
		if embedded, err = readDescriptor(file, int64(h.descriptor)*sector, int64(h.descriptorSize)*sector); err != nil {
			return nil, 0, h, nil, fmt.Errorf("reading the descriptor: %w", err)
		}
	}
	if h.directory == directoryAtEnd {
		// The footer is the last sector but one; the last one marks the end of the stream.
		if length < 3*sector {
			return nil, 0, h, nil, disk.Damaged("the file ends before its footer")
		}
		if err := disk.ReadFull(file, b, length-2*sector); err != nil {
			return nil, 0, h, nil, err
		}
		footer, err := decodeHeader(b)
		if err != nil || footer.directory == directoryAtEnd || footer.capacity != h.capacity || footer.grain != h.grain {
			return nil, 0, h, nil, disk.Damaged("the footer is missing or damaged: the stream was cut, fetch it again")
		}
		h = footer
	}
	s, err := openSparse(file, name, h, length)
	if err != nil {
		return nil, 0, h, nil, err
	}
	if h.flags&compressFlag != 0 {
		return compressed{s}, s.Size, h, embedded, nil
	}
	return s, s.Size, h, embedded, nil
}
