package fit

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
)

// span is a run of the new disk, and where it comes from: a reader, or nothing, which reads as zeros.
type span struct {
	off, length int64
	from        io.ReaderAt // a disk.Reader tells its holes
	at          int64
}

func (s span) end() int64 { return s.off + s.length }

// fitted is a disk as it was laid out.
type fitted struct {
	src   disk.Reader
	parts []disk.Reader
	size  int64
	spans []span // all of the disk, ascending
}

// Open returns the disk as it was laid out: of src, and of the filesystems that were changed, by the numbers of their partitions. It closes all of
// them with itself; where it fails, the caller does.
func Open(src disk.Reader, l Layout, changed map[int]disk.Reader) (disk.Reader, error) {
	if src.Size() != l.Before {
		return nil, fmt.Errorf("%w: the disk has another size than when this was planned: plan it again", ErrSize)
	}
	f := &fitted{src: src, size: l.Size, spans: []span{{0, l.Size, nil, 0}}}
	if len(l.Parts) > 0 {
		f.put(span{0, l.Parts[0].Offset, src, 0})
	} else {
		f.put(span{0, min(l.Size, l.Before), src, 0})
	}
	for i, p := range l.Parts {
		if i > 0 { // what lies between stays where both its neighbours do
			before := l.Parts[i-1]
			if end := before.Offset + before.Length; p.Offset == p.From && end == before.From+before.FromLength {
				f.put(span{end, p.Offset - end, src, end})
			}
		}
		switch r := changed[p.Number]; {
		case p.Left:
		case p.Resized && (r == nil || r.Size() > p.Length):
			return nil, fmt.Errorf("%s was not made to fit", p.Called())
		case p.Resized:
			f.parts = append(f.parts, r)
			f.put(span{p.Offset, r.Size(), r, 0})
		default:
			f.put(span{p.Offset, min(p.Length, p.FromLength), src, p.From})
		}
	}
	tables, err := l.tables(src)
	if err != nil {
		return nil, err
	}
	f.patch(tables)
	moved, err := l.moved(f)
	if err != nil {
		return nil, err
	}
	f.patch(moved)
	return f, nil
}

// Tables are the ranges in which a GPT differs from what the old disk has, when no partition is another one: the first copy, where the second one
// was, and where it is. They are ascending.
func (l Layout) Tables() []fingerprint.Range {
	was := min(gptTail(l.Sector), l.Before-l.Parts[len(l.Parts)-1].From-l.Parts[len(l.Parts)-1].FromLength)
	return []fingerprint.Range{
		{Offset: 0, Length: min(2*l.Sector+gptUsual, l.Parts[0].From)},
		{Offset: l.Before - was, Length: was},
		{Offset: l.Size - gptTail(l.Sector), Length: gptTail(l.Sector)},
	}
}

func (f *fitted) patch(all []patch) {
	for _, p := range all {
		f.put(span{p.off, int64(len(p.data)), bytes.NewReader(p.data), 0})
	}
}

// put puts a span over what is there.
func (f *fitted) put(s span) {
	if s.length <= 0 {
		return
	}
	var out []span
	for _, old := range f.spans {
		if old.end() <= s.off || s.end() <= old.off {
			out = append(out, old)
			continue
		}
		if old.off < s.off {
			out = append(out, span{old.off, s.off - old.off, old.from, old.at})
		}
		if s.end() < old.end() {
			out = append(out, span{s.end(), old.end() - s.end(), old.from, old.at + s.end() - old.off})
		}
	}
	f.spans = append(out, s)
	slices.SortFunc(f.spans, func(a, b span) int { return int(min(max(a.off-b.off, -1), 1)) })
}

func (f *fitted) span(off int64) span {
	return f.spans[sort.Search(len(f.spans), func(i int) bool { return f.spans[i].end() > off })]
}

func (f *fitted) Size() int64 { return f.size }

// ReadAt reads the disk as it was laid out.
func (f *fitted) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= f.size {
		return 0, io.EOF
	}
	done := 0
	for done < len(b) && off+int64(done) < f.size {
		at := off + int64(done)
		s := f.span(at)
		into := b[done:min(int64(len(b)), int64(done)+s.end()-at)]
		if s.from == nil {
			clear(into)
		} else if n, err := s.from.ReadAt(into, s.at+at-s.off); n < len(into) {
			return done + n, fmt.Errorf("reading at offset %d: %w", at, err)
		}
		done += len(into)
	}
	if done < len(b) {
		return done, io.EOF
	}
	return done, nil
}

// Extent returns the run that begins at an offset.
func (f *fitted) Extent(off int64) (disk.Extent, error) {
	s := f.span(off)
	out := disk.Extent{Off: off, Len: s.end() - off, Kind: disk.Zero}
	if s.from == nil {
		return out, nil
	}
	out.Kind = disk.Data
	r, ok := s.from.(disk.Reader)
	if !ok {
		return out, nil
	}
	e, err := r.Extent(s.at + off - s.off)
	if err != nil {
		return out, err
	}
	out.Len, out.Kind = min(out.Len, e.Len), e.Kind
	return out, nil
}

// Beneath is the old disk.
func (f *fitted) Beneath() disk.Reader { return f.src }

// Describe is that of the old disk, with the new size.
func (f *fitted) Describe() disk.Description {
	d := f.src.Describe()
	d.VirtualSize, d.OtherSize = f.size, 0
	return d
}

// Close closes what it is put together of.
func (f *fitted) Close() error {
	var errs []error
	for _, r := range append(f.parts, f.src) {
		errs = append(errs, r.Close())
	}
	return errors.Join(errs...)
}
