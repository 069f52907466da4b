package transfer

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
)

// found is what a worker found in a block, and wrote of it.
type found struct {
	block
	digests []fingerprint.Digest
	zeros   int64 // leaves, when there are no digests
	tail    []byte
	written []disk.Written
	damaged []fingerprint.Range
	changed int64
}

// addTo adds the leaves of a block that was looked at.
func (r found) addTo(leaves *fingerprint.Leaves) {
	if r.digests == nil {
		leaves.AppendZeros(r.zeros)
	} else {
		leaves.Append(r.digests...)
	}
}

// collect puts what was found into order, and marks how far it has come.
func (t *running) collect(ctx context.Context, in <-chan found) error {
	waiting := map[int64]found{} // those that came before their turn
	var next int64
	marks := marker{running: t, pending: t.mark(), last: time.Now()}
	for r := range in {
		waiting[r.number] = r
		for {
			r, ok := waiting[next]
			if !ok {
				break
			}
			delete(waiting, next)
			next++
			t.take(r)
			if t.Keep != nil {
				marks.pending.add(r)
			}
		}
		if err := marks.due(); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil { // the last of what came is not the last of the disk
		return errors.Join(marks.wait(), err)
	}
	return marks.end()
}

func (t *running) take(r found) {
	if r.known {
		for i := range r.zeros {
			t.Leaves.Append(t.Known.At(r.off/fingerprint.LeafSize + i))
		}
	} else {
		r.addTo(t.Leaves)
	}
	if r.tail != nil {
		t.result.Tail = r.tail
	}
	t.result.Damaged = Join(t.result.Damaged, r.damaged...)
	t.result.Changed += r.changed
	t.Meter.passed(r)
}

// Join adds ranges behind those that are there; neighbours become one.
func Join(ranges []fingerprint.Range, more ...fingerprint.Range) []fingerprint.Range {
	for _, m := range more {
		if n := len(ranges); n > 0 && ranges[n-1].Offset+ranges[n-1].Length == m.Offset {
			ranges[n-1].Length += m.Length
			continue
		}
		ranges = append(ranges, m)
	}
	return ranges
}

// marker makes marks beside the work.
type marker struct {
	*running
	pending Mark
	last    time.Time
	busy    chan error   // of the mark that is being made; nil when none is
	took    atomic.Int64 // how long the last one took, in nanoseconds
}

// rests is how many times as long as a mark takes goes by before the next one, where that is longer than was asked for, and longestRest the most that is: syncing slow storage
// is not what a job does most of the time.
const (
	rests       = 5
	longestRest = time.Minute
)

// due makes a mark when it is time, and none is being made.
func (m *marker) due() error {
	if m.Keep == nil || time.Since(m.last) < max(m.Every, min(rests*time.Duration(m.took.Load()), longestRest)) {
		return nil
	}
	if m.busy != nil {
		select {
		case err := <-m.busy:
			m.busy = nil
			if err != nil {
				return err
			}
		default:
			return nil
		}
	}
	m.last = time.Now()
	m.begin()
	return nil
}

func (m *marker) begin() {
	mark := m.pending
	m.pending = m.mark()
	m.busy = make(chan error, 1)
	go func() {
		err := m.keep(mark)
		m.took.Store(int64(time.Since(m.last)))
		m.busy <- err
	}()
}

func (m *marker) keep(mark Mark) error {
	if m.Destination != nil {
		if err := m.Destination.Checkpoint(); err != nil {
			return &DestinationError{fmt.Errorf("syncing the destination: %w", err)}
		}
	}
	return m.Keep(mark)
}

func (m *marker) wait() error {
	if m.busy == nil {
		return nil
	}
	return <-m.busy
}

func (m *marker) end() error {
	if err := m.wait(); err != nil || m.Keep == nil {
		return err
	}
	m.pending.Tail = m.result.Tail
	return m.keep(m.pending)
}

// mark begins one behind what was found so far.
func (t *running) mark() Mark { return Mark{Leaves: t.Leaves.Rest()} }

// Mark says what a transfer did since the mark before: all of it is on stable storage.
type Mark struct {
	Leaves  *fingerprint.Leaves // only those since the mark before
	Written []disk.Written
	Damaged []fingerprint.Range
	Tail    []byte // as in a Result, in the last one
}

func (m *Mark) add(r found) {
	r.addTo(m.Leaves)
	m.Written = append(m.Written, r.written...)
	m.Damaged = Join(m.Damaged, r.damaged...)
}

// AppendBinary writes the mark: a number of ranges written, each by the distance from the one before, its length, kind and
// encoded length; a number of damaged ranges; the tail with its length; all numbers as LEB128; and then the leaves in runs.
func (m Mark) AppendBinary(b []byte) ([]byte, error) {
	b = binary.AppendUvarint(b, uint64(len(m.Written)))
	last := int64(0)
	for _, w := range m.Written {
		for _, v := range []int64{w.Off - last, w.Len, int64(w.Kind), w.Encoded} {
			b = binary.AppendVarint(b, v)
		}
		last = w.End()
	}
	b = binary.AppendUvarint(b, uint64(len(m.Damaged)))
	for _, d := range m.Damaged {
		b = binary.AppendVarint(binary.AppendVarint(b, d.Offset), d.Length)
	}
	b = append(binary.AppendUvarint(b, uint64(len(m.Tail))), m.Tail...)
	out := bytes.NewBuffer(b)
	_, err := m.Leaves.WriteTo(out)
	return out.Bytes(), err
}

// ReadMark reads what AppendBinary wrote, and adds its leaves to those of the marks before.
func ReadMark(b []byte, leaves *fingerprint.Leaves) (m Mark, err error) {
	r := bytes.NewReader(b)
	number := func() (v int64) {
		if err == nil {
			v, err = binary.ReadVarint(r)
		}
		return v
	}
	count := func() uint64 {
		var n uint64
		if err == nil {
			n, err = binary.ReadUvarint(r)
		}
		if err == nil && n > uint64(r.Len()) {
			err = io.ErrUnexpectedEOF
		}
		return n
	}
	last := int64(0)
	for range count() {
		var w disk.Written
		w.Off = last + number()
		w.Len, w.Kind, w.Encoded = number(), disk.Kind(number()), number()
		if err != nil {
			break
		}
		m.Written = append(m.Written, w)
		last = w.End()
	}
	for range count() {
		d := fingerprint.Range{Offset: number(), Length: number()}
		if err != nil {
			break
		}
		m.Damaged = append(m.Damaged, d)
	}
	if n := count(); err == nil && n > 0 {
		m.Tail = make([]byte, n)
		_, err = io.ReadFull(r, m.Tail)
	}
	if err != nil {
		return m, fmt.Errorf("reading a mark: %w", err)
	}
	return m, leaves.ReadRuns(r)
}
