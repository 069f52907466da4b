// Package salvage reads a disk that fails: what reads well first, what does not later and in ever smaller parts, and each place no more often than it has to be.
// A map says what was read, so that a later time goes on from there.
package salvage

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// State is what is known of a range of a disk.
type State string

// The states. A range that is in none was not tried yet.
const (
	Read  State = "read"  // its content is there
	Later State = "later" // it could not be read, or lies behind such a range, and is tried in smaller parts
	Bad   State = "bad"   // it cannot be read, by the sector
)

// Run is a range of a disk in one state.
type Run struct {
	fingerprint.Range
	State State
}

// Map says what of a disk was read. Runs are ascending, and none touches another one of its state.
type Map struct {
	Disk string // which disk it is of, in one line
	Size int64  // bytes
	// Image is the fingerprint of the image that it lies beside, empty where there is none yet.
	Image string
	Runs  []Run
}

// Extension is what the name of a map has behind that of the image that it lies beside.
const Extension = ".bagmap"

// The text of a map (docs/devices.md): a line for what it is, one for the disk, one for its size, one for the image where there is one, and one for each run.
const (
	title   = "bagaglio map 1"
	maxRuns = 4 << 20
	maxLine = 4096
)

// ErrMap is the error for what is no map.
var ErrMap = errors.New("it is no map of a disk")

// Set puts a range into a state, whatever it was in before.
func (m *Map) Set(off, n int64, s State) {
	if n <= 0 {
		return
	}
	end := off + n
	from, _ := slices.BinarySearchFunc(m.Runs, off, func(r Run, off int64) int {
		if r.Offset+r.Length < off {
			return -1
		}
		return 1
	})
	to := from
	var put []Run
	for ; to < len(m.Runs) && m.Runs[to].Offset <= end; to++ {
		r := m.Runs[to]
		if r.State == s { // they become one
			off, end = min(off, r.Offset), max(end, r.Offset+r.Length)
			continue
		}
		if r.Offset < off {
			put = append(put, Run{fingerprint.Range{Offset: r.Offset, Length: off - r.Offset}, r.State})
		}
		if last := r.Offset + r.Length; last > end {
			put = append(put, Run{fingerprint.Range{Offset: end, Length: last - end}, r.State})
		}
	}
	put = append(put, Run{fingerprint.Range{Offset: off, Length: end - off}, s})
	slices.SortFunc(put, func(a, b Run) int { return int(min(max(a.Offset-b.Offset, -1), 1)) })
	m.Runs = slices.Replace(m.Runs, from, to, put...)
}

// In are the ranges in a state.
func (m *Map) In(s State) (all []fingerprint.Range) {
	for _, r := range m.Runs {
		if r.State == s {
			all = append(all, r.Range)
		}
	}
	return all
}

// Within is what a map says of some ranges, which are ascending.
func (m *Map) Within(ranges []fingerprint.Range) *Map {
	out := &Map{Disk: m.Disk, Size: m.Size, Image: m.Image}
	for _, w := range ranges {
		for _, r := range m.Runs[m.behind(w.Offset):] {
			off, end := max(r.Offset, w.Offset), min(r.Offset+r.Length, w.Offset+w.Length)
			if off >= end {
				break
			}
			out.Set(off, end-off, r.State)
		}
	}
	return out
}

// behind is the first run that ends behind an offset.
func (m *Map) behind(off int64) int {
	return sort.Search(len(m.Runs), func(i int) bool { return m.Runs[i].Offset+m.Runs[i].Length > off })
}

// Untried are the parts of a range that are in no state.
func (m *Map) Untried(off, n int64) (all []fingerprint.Range) {
	at, end := off, off+n
	for i := m.behind(off); i < len(m.Runs) && m.Runs[i].Offset < end; i++ {
		if r := m.Runs[i]; r.Offset > at {
			all = append(all, fingerprint.Range{Offset: at, Length: r.Offset - at})
		}
		at = max(at, m.Runs[i].Offset+m.Runs[i].Length)
	}
	if at < end {
		all = append(all, fingerprint.Range{Offset: at, Length: end - at})
	}
	return all
}

// WriteTo writes the text of a map.
func (m *Map) WriteTo(w io.Writer) (int64, error) {
	var b strings.Builder
	_, _ = fmt.Fprintf(&b, "%s\ndisk %s\nsize %d\n", title, storage.Printable(m.Disk), m.Size) // a strings.Builder takes everything
	if m.Image != "" {
		_, _ = fmt.Fprintf(&b, "image %s\n", storage.Printable(m.Image))
	}
	for _, r := range m.Runs {
		_, _ = fmt.Fprintf(&b, "%s %d %d\n", r.State, r.Offset, r.Length)
	}
	n, err := io.WriteString(w, b.String())
	return int64(n), err
}

// Parse reads the text of a map. It fails with ErrMap for what is none: all of it may be anything.
func Parse(r io.Reader) (*Map, error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, maxLine)
	next := func() string {
		if !lines.Scan() {
			return ""
		}
		return lines.Text()
	}
	if next() != title {
		return nil, fmt.Errorf("%w: its first line is not %q", ErrMap, title)
	}
	m := &Map{}
	var ok bool
	if m.Disk, ok = strings.CutPrefix(next(), "disk "); !ok {
		return nil, fmt.Errorf("%w: it does not say of which disk it is", ErrMap)
	}
	if _, err := fmt.Sscanf(next(), "size %d", &m.Size); err != nil || m.Size < 0 {
		return nil, fmt.Errorf("%w: it does not say how large the disk is", ErrMap)
	}
	var at int64
	for lines.Scan() {
		if image, ok := strings.CutPrefix(lines.Text(), "image "); ok && m.Image == "" && len(m.Runs) == 0 {
			m.Image = image
			continue
		}
		var run Run
		if _, err := fmt.Sscanf(lines.Text(), "%s %d %d", &run.State, &run.Offset, &run.Length); err != nil || len(m.Runs) == maxRuns {
			return nil, fmt.Errorf("%w: the line %q", ErrMap, storage.Printable(lines.Text()))
		}
		known := slices.Contains([]State{Read, Later, Bad}, run.State)
		if !known || run.Offset < at || run.Length <= 0 || run.Length > m.Size-run.Offset {
			return nil, fmt.Errorf("%w: the line %q makes no sense", ErrMap, storage.Printable(lines.Text()))
		}
		at = run.Offset + run.Length
		m.Runs = append(m.Runs, run)
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMap, err)
	}
	return m, nil
}
