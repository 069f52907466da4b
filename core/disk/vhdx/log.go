package vhdx

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"github.com/google/uuid"
)

// The log's facts (2.3).
const (
	entryMark      = "loge"
	entryHeader    = 64
	descriptorSize = 32
	zeroMark       = "zero"
	dataMark       = "desc"
	sectorMark     = "data"
	maxLog         = 256 << 20
)

// logEntry is an entry that is whole.
type logEntry struct {
	at          int64 // in the log
	length      int64
	tail        int64
	sequence    uint64
	flushed     uint64 // what the file's length was at least when it was written
	last        uint64 // what the file's length has to be at least
	descriptors uint32
}

// replay returns the file as it is once its log is replayed, in memory alone, and its length. An empty log changes nothing.
func (r *reader) replay(file storage.File, h header, size int64) (storage.File, int64, error) {
	if h.log == uuid.Nil {
		return file, size, nil
	}
	r.dirty = true
	if h.logLength == 0 || h.logLength%mib != 0 || h.logLength > maxLog || h.logOffset < mib || h.logOffset%mib != 0 ||
		h.logOffset > uint64(size) || uint64(h.logLength) > uint64(size)-h.logOffset {
		return nil, 0, disk.Damaged("a log of %d bytes at offset %d does not lie in the file", h.logLength, h.logOffset)
	}
	r.taken = append(r.taken, disk.Extent{Off: int64(h.logOffset), Len: int64(h.logLength)})
	l := &log{ring: ring{file, int64(h.logOffset), int64(h.logLength)}, id: h.log}
	sequence, err := l.active()
	if err != nil {
		return nil, 0, err
	}
	if len(sequence) == 0 {
		return nil, 0, disk.Damaged("the header names a log, but it has no whole entry")
	}
	p := &patched{File: file, ring: l.ring, pages: map[int64]patch{}, size: size}
	for _, e := range sequence {
		if e.flushed > uint64(size) {
			return nil, 0, disk.Damaged("the file has %d bytes and had at least %d when the log was written: it is truncated", size, e.flushed)
		}
		p.size = max(p.size, int64(min(e.last, largest*2)))
	}
	for _, e := range sequence {
		if err := p.apply(e); err != nil {
			return nil, 0, err
		}
	}
	return p, p.size, nil
}

// ring reads the log, which begins again at its start when it has come to its end.
type ring struct {
	file        storage.File
	off, length int64
}

func (g ring) read(p []byte, at int64) error {
	at %= g.length
	n := min(int64(len(p)), g.length-at)
	if err := disk.ReadFull(g.file, p[:n], g.off+at); err != nil {
		return err
	}
	if n < int64(len(p)) {
		return disk.ReadFull(g.file, p[n:], g.off)
	}
	return nil
}

type log struct {
	ring
	id uuid.UUID
}

// active returns the entries of the sequence to replay: of those that are complete the one that ends with the highest
// number (2.3.3).
func (l *log) active() (best []logEntry, err error) {
	known := map[int64]logEntry{}
	for at := int64(0); at < l.length; at += logAlign {
		e, ok, err := l.entry(at)
		if err != nil {
			return nil, err
		}
		if ok {
			known[at] = e
		}
	}
	for at := range known {
		sequence := []logEntry{known[at]}
		for length := known[at].length; ; {
			head := sequence[len(sequence)-1]
			// Whole, when its head says that it begins here.
			if head.tail == at && (best == nil || head.sequence > best[len(best)-1].sequence) {
				best = append([]logEntry(nil), sequence...)
			}
			next, ok := known[(head.at+head.length)%l.length]
			if length += next.length; !ok || next.sequence != head.sequence+1 || length > l.length {
				break
			}
			sequence = append(sequence, next)
		}
	}
	return best, nil
}

// entry reads the entry at an offset of the log, if one that is whole begins there (2.3.1).
func (l *log) entry(at int64) (e logEntry, ok bool, err error) {
	b := make([]byte, entryHeader)
	if err := l.read(b, at); err != nil {
		return e, false, err
	}
	le := binary.LittleEndian
	e = logEntry{
		at: at, length: int64(le.Uint32(b[8:])), tail: int64(le.Uint32(b[12:])), sequence: le.Uint64(b[16:]), descriptors: le.Uint32(b[24:]),
		flushed: le.Uint64(b[48:]), last: le.Uint64(b[56:]),
	}
	if string(b[:4]) != entryMark || guid(b[32:48]) != l.id || e.sequence == 0 || e.length < logAlign || e.length%logAlign != 0 ||
		e.length > l.length ||
		e.tail >= l.length ||
		e.tail%logAlign != 0 ||
		entryHeader+descriptorSize*int64(e.descriptors) > e.length {
		return e, false, nil
	}
	sum, err := l.sum(at, e.length)
	return e, sum == le.Uint32(b[4:]), err
}

// sum is the checksum of an entry, taken in pieces.
func (l *log) sum(at, length int64) (sum uint32, err error) {
	b := make([]byte, 64<<10)
	for done := int64(0); done < length; {
		n := min(int64(len(b)), length-done)
		if err := l.read(b[:n], at+done); err != nil {
			return 0, err
		}
		if done == 0 {
			clear(b[4:8])
		}
		sum = crc32.Update(sum, castagnoli, b[:n])
		done += n
	}
	return sum, nil
}

// patched is a file with what its log says laid over it.
type patched struct {
	storage.File
	ring  ring
	size  int64
	pages map[int64]patch // by their offset in the file
	zeros []zeroRange
	count int // of descriptors, so that what comes later counts
}

// patch is a page of 4 KiB: its first 8 and last 4 bytes are in the descriptor, the others in a sector of the log.
type patch struct {
	order       int
	first, last [8]byte
	sector      int64 // in the log
}

type zeroRange struct {
	order int
	disk.Extent
}

// apply notes what an entry changes (2.3.1.2, 2.3.1.3).
func (p *patched) apply(e logEntry) error {
	sector := e.at + up(entryHeader+descriptorSize*int64(e.descriptors), logAlign)
	b := make([]byte, descriptorSize)
	le := binary.LittleEndian
	for i := range int64(e.descriptors) {
		if err := p.ring.read(b, e.at+entryHeader+descriptorSize*i); err != nil {
			return err
		}
		off := le.Uint64(b[16:])
		if le.Uint64(b[24:]) != e.sequence || off%logAlign != 0 || off > uint64(p.size) {
			return disk.Damaged("a change to offset %d in the log makes no sense", off)
		}
		p.count++
		switch string(b[:4]) {
		case zeroMark:
			n := le.Uint64(b[8:])
			if n%logAlign != 0 || n > uint64(p.size)-off {
				return disk.Damaged("the log has %d zeros for offset %d, and the file ends at %d", n, off, p.size)
			}
			p.zeros = append(p.zeros, zeroRange{p.count, disk.Extent{Off: int64(off), Len: int64(n)}})
		case dataMark:
			if sector+logAlign > e.at+e.length {
				return disk.Damaged("an entry of the log is shorter than its data")
			}
			change := patch{order: p.count, sector: sector, first: [8]byte(b[8:16])}
			copy(change.last[:], b[4:8])
			if err := p.checkSector(sector, e.sequence); err != nil {
				return err
			}
			p.pages[int64(off)] = change
			sector += logAlign
		default:
			return disk.Damaged("an entry of the log has a descriptor of an unknown kind")
		}
	}
	return nil
}

// checkSector: the two halves of the sequence number around the data tell that it was written whole.
func (p *patched) checkSector(at int64, sequence uint64) error {
	b := make([]byte, logAlign)
	if err := p.ring.read(b, at); err != nil {
		return err
	}
	le := binary.LittleEndian
	if string(b[:4]) != sectorMark || le.Uint32(b[4:]) != uint32(sequence>>32) || le.Uint32(b[logAlign-4:]) != uint32(sequence) {
		return disk.Damaged("a sector of the log was not written whole")
	}
	return nil
}

func (p *patched) Size() (int64, error) { return p.size, nil }

// ReadAt reads page by page where something lies over the file.
func (p *patched) ReadAt(b []byte, off int64) (int, error) {
	done := 0
	for done < len(b) {
		at := off + int64(done)
		if at >= p.size {
			return done, io.EOF
		}
		n := min(int64(len(b)-done), p.size-at, logAlign-at%logAlign)
		part := b[done : done+int(n)]
		page := make([]byte, logAlign)
		overlaid, err := p.page(page, at/logAlign*logAlign)
		if err != nil {
			return done, err
		}
		if overlaid {
			copy(part, page[at%logAlign:])
		} else if k, err := p.File.ReadAt(part, at); k < len(part) {
			if !errors.Is(err, io.EOF) {
				return done, err
			}
			clear(part[k:]) // the log says that the file is longer
		}
		done += int(n)
	}
	return done, nil
}

// page returns what lies over a page of the file, if anything does.
func (p *patched) page(b []byte, at int64) (bool, error) {
	change, found := p.pages[at]
	zeros := 0
	for _, z := range p.zeros {
		if at >= z.Off && at < z.End() {
			zeros = max(zeros, z.order)
		}
	}
	if !found || zeros > change.order {
		return zeros > 0, nil
	}
	if err := p.ring.read(b, change.sector); err != nil {
		return false, err
	}
	copy(b, change.first[:])
	copy(b[logAlign-4:], change.last[:4])
	return true, nil
}
