package transfer

import (
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/core/fingerprint"
)

// Meter counts while a transfer runs. Its fields may be read at any time. Bytes of real data, not of virtual size.
type Meter struct {
	Read    atomic.Int64
	Written atomic.Int64
	Retries atomic.Int64 // reads and writes that were tried again
	// Strip, unless it is nil, shows what of the disk has passed.
	Strip *Strip

	spent [activities]atomic.Int64 // nanoseconds of all workers
}

// Activity is what a worker spends its time with.
type Activity int

// The activities. Limited is waiting for a limit that somebody set.
const (
	Reading Activity = iota
	Hashing
	Encoding
	Writing
	Limited
	activities
)

func (a Activity) String() string {
	return [...]string{"reading", "hashing", "encoding", "writing", "a limit on the speed"}[a]
}

// spend counts the time since start.
func (m *Meter) spend(a Activity, start time.Time) { m.spent[a].Add(int64(time.Since(start))) }

// Bottleneck tells what most of the workers' time went to, and its share of it; 0 when there is nothing to tell.
func (m *Meter) Bottleneck() (most Activity, share float64) {
	var all int64
	for a := range m.spent {
		n := m.spent[a].Load()
		all += n
		if n > m.spent[most].Load() {
			most = Activity(a)
		}
	}
	if all == 0 {
		return most, 0
	}
	return most, float64(m.spent[most].Load()) / float64(all)
}

func (m *Meter) passed(r found) {
	if m.Strip != nil {
		m.Strip.pass(r)
	}
}

// Cells is how many cells a strip has.
const Cells = 200

// Strip is a disk from its first to its last byte in cells of equal length.
type Strip struct {
	size int64

	mu    sync.Mutex
	cells [Cells]cell
}

type cell struct {
	passed, data int64
	damaged      bool
}

// NewStrip makes the strip of a disk of that size in bytes.
func NewStrip(size int64) *Strip { return &Strip{size: size} }

// pass notes a block.
func (s *Strip) pass(r found) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.each(r.off, r.n, func(c *cell, n int64) { c.passed += n })
	for i, d := range r.digests {
		off := r.off + int64(i)*fingerprint.LeafSize
		if n := min(fingerprint.LeafSize, r.off+r.n-off); d != fingerprint.ZeroLeaf(int(n)) {
			s.each(off, n, func(c *cell, n int64) { c.data += n })
		}
	}
	for _, d := range r.damaged {
		s.each(d.Offset, d.Length, func(c *cell, _ int64) { c.damaged = true })
	}
}

// each calls do for the cells that a range lies in, with how many bytes of it lie there.
func (s *Strip) each(off, n int64, do func(*cell, int64)) {
	for end := off + n; off < end; {
		i := s.cell(off)
		part := min(end, s.start(i+1)) - off
		do(&s.cells[i], part)
		off += part
	}
}

// start is the offset of a cell, computed so that a disk of 2^63 bytes does not overflow.
func (s *Strip) start(i int64) int64 { return s.size/Cells*i + s.size%Cells*i/Cells }

func (s *Strip) cell(off int64) int64 {
	i := int64(float64(off) / float64(s.size) * Cells)
	for i = min(max(i, 0), Cells-1); s.start(i) > off; i-- {
	}
	for ; s.start(i+1) <= off; i++ {
	}
	return i
}

// What a cell holds: nothing has passed yet, nothing but zeros, data, or something that could not be read.
const (
	Ahead   = '.'
	Empty   = 'e'
	Passed  = 'd'
	Damaged = 'x'
)

// String has a letter for each cell.
func (s *Strip) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var b [Cells]byte
	for i, c := range s.cells {
		switch {
		case c.damaged:
			b[i] = Damaged
		case c.passed == 0 && s.start(int64(i+1)) > s.start(int64(i)):
			b[i] = Ahead
		case c.data == 0:
			b[i] = Empty
		default:
			b[i] = Passed
		}
	}
	return string(b[:])
}
