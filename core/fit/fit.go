// Package fit gives what is inside of a disk another size. It computes where partitions lie on the new disk, has the system's own tools change
// the filesystems of those that become smaller or larger, each in a file of its own that a copy of it is in, and puts the disk together of these
// files and of what the old one has. The old disk is only read.
package fit

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"bagaglio/core/inspect"

	"github.com/dustin/go-humanize"
)

// Wish is what size a disk is to have.
type Wish struct {
	Size int64 // virtual, in bytes; 0 for the smallest that is possible
	// Grow is the number of the partition that takes what a larger disk has more, GrowNone for none; empty for the last one that it makes sense for.
	Grow string
}

// GrowNone leaves all partitions as long as they are.
const GrowNone = "none"

// Part is a partition before and after, in bytes.
type Part struct {
	Number     int    `json:"number"` // 0 where the whole disk is one filesystem
	Name       string `json:"name,omitempty"`
	From       int64  `json:"from"` // where it begins on the old disk
	FromLength int64  `json:"from_length"`
	Offset     int64  `json:"offset"` // on the new one
	Length     int64  `json:"length"`
	Filesystem string `json:"filesystem,omitempty"`
	Label      string `json:"label,omitempty"`
	// Resized tells that its filesystem is made to take all of it, Left that it reads as zeros.
	Resized bool `json:"resized,omitempty"`
	Left    bool `json:"left,omitempty"`
	// Note is what is left to whoever uses the disk, in words.
	Note string `json:"note,omitempty"`
	// Files is how many files and folders were compared before and after.
	Files int `json:"files,omitempty"`
}

// Called is how people call it.
func (p Part) Called() string {
	if p.Number == 0 {
		return "The filesystem (" + p.Filesystem + ")"
	}
	var words []string
	for _, w := range []string{p.Name, p.Filesystem, p.Label} {
		if w != "" && !slices.Contains(words, w) {
			words = append(words, w)
		}
	}
	return fmt.Sprintf("Partition %d (%s)", p.Number, strings.Join(words, ", "))
}

// Layout is where the partitions of a disk lie when it has its new size. Parts are in the order of the disk.
type Layout struct {
	Size   int64  `json:"size"`
	Before int64  `json:"before"`
	Table  string `json:"table,omitempty"`
	Sector int64  `json:"sector,omitempty"` // that the table counts in, in bytes
	Parts  []Part `json:"parts"`
	// Notes are what is to be known of the whole, in words.
	Notes []string `json:"notes,omitempty"`
}

// Scratch is how many bytes the copies of filesystems that are changed take at most.
func (l Layout) Scratch() (n int64) {
	for _, p := range l.Parts {
		if p.Resized {
			n += max(p.FromLength, p.Length)
		}
	}
	return n
}

// ErrSize is the error for a size that a disk cannot have.
var ErrSize = errors.New("the disk cannot have this size")

// SizeError says why, and what would be possible. It wraps ErrSize.
type SizeError struct {
	Least int64 // the smallest size that is possible, in bytes
	Why   []string
}

func (e *SizeError) Error() string {
	return fmt.Sprintf(
		"the smallest size that is possible is %s (%s bytes): %s",
		humanize.IBytes(uint64(e.Least)),
		humanize.Comma(e.Least),
		strings.Join(e.Why, "; "),
	)
}
func (e *SizeError) Unwrap() error { return ErrSize }

// unit is what partitions move by, and what their lengths change by, so that whatever is aligned stays so.
const unit = 1 << 20

// Room that a filesystem is left besides what it uses: its own tables need some, and its tool moves blocks about.
const (
	marginParts = 20 // a twentieth of what it uses
	marginBytes = 16 * unit
)

// maker computes a layout.
type maker struct {
	Layout
	wish  Wish
	parts []inspect.Partition // beside those of Layout
	able  func(kind string, smaller bool) error
	why   []string
}

// Compute says where the partitions of a disk go. c tells what is on it, filled (see inspect.Contents.Fill); left are the numbers of partitions that
// read as zeros; able tells whether filesystems of a kind can be made smaller or larger here (see Able). It fails with a SizeError where the disk
// cannot become that small.
func Compute(size int64, c inspect.Contents, left map[int]bool, wish Wish, able func(kind string, smaller bool) error) (Layout, error) {
	m := &maker{Layout: Layout{Before: size, Size: wish.Size, Table: c.Table, Sector: max(c.SectorSize, sector)}, wish: wish, able: able}
	parts := slices.Clone(c.Partitions)
	if c.Filesystem != nil {
		parts = []inspect.Partition{{Length: size, Filesystem: c.Filesystem}}
	}
	slices.SortFunc(parts, func(a, b inspect.Partition) int { return int(min(max(a.Offset-b.Offset, -1), 1)) })
	var end int64
	for _, p := range parts {
		if p.Offset < end && p.Number > 4 && c.Table == "mbr" { // it is in the extended one, and goes with it
			continue
		}
		if p.Offset < end || p.Length <= 0 || p.Offset+p.Length > size {
			return Layout{}, fmt.Errorf("%w: its partitions overlap, or end behind it: repair the table first", ErrSize)
		}
		end = p.Offset + p.Length
		part := Part{
			Number:     p.Number,
			Name:       cmp.Or(p.Name, p.Type),
			From:       p.Offset,
			FromLength: p.Length,
			Offset:     p.Offset,
			Length:     p.Length,
			Left:       left[p.Number],
		}
		if p.Filesystem != nil {
			part.Filesystem, part.Label = p.Filesystem.Kind, p.Filesystem.Label
		}
		m.Parts, m.parts = append(m.Parts, part), append(m.parts, p)
	}
	if err := m.fit(); err != nil {
		return Layout{}, err
	}
	m.note()
	return m.Layout, nil
}

func (m *maker) fit() error {
	if len(m.Parts) == 0 {
		switch {
		case m.wish.Size == 0 || m.Size < m.Before:
			return &SizeError{m.Before, []string{"nothing is known of what is on it, so nothing of it can be left out"}}
		case m.Size > m.Before:
			m.Notes = append(m.Notes, "nothing is known of what is on the disk: what it has more reads as zeros")
		}
		return nil
	}
	if m.wish.Size > m.Before {
		return m.larger()
	}
	return m.smaller()
}

// end is where the last partition ends.
func (m *maker) end() int64 {
	last := m.Parts[len(m.Parts)-1]
	return last.Offset + last.Length
}

// tail is how much the table takes at the end of the disk.
func (m *maker) tail() int64 {
	if m.Table == "gpt" {
		return gptTail(m.Sector)
	}
	return 0
}

// giver is something that can become shorter: a partition, or what lies empty before it.
type giver struct {
	part int
	gap  bool
	can  int64
}

func (m *maker) smaller() error {
	givers := m.givers()
	var most int64
	for _, g := range givers {
		most += g.can
	}
	least := min((m.end()-most+m.tail()+unit-1)/unit*unit, m.Before)
	if m.wish.Size == 0 {
		m.Size = least
	}
	if m.Size < least {
		return &SizeError{least, m.why}
	}
	need := (max(m.end()+m.tail()-m.Size, 0) + unit - 1) / unit * unit
	shift := make([]int64, len(m.Parts)) // by which each begins earlier than the one before it does
	for _, g := range givers {
		take := min(g.can, need)
		need -= take
		switch {
		case take == 0:
		case g.gap:
			shift[g.part] += take
		default:
			p := &m.Parts[g.part]
			p.Length -= take
			p.Resized = !p.Left
			if g.part+1 < len(shift) {
				shift[g.part+1] += take
			}
		}
	}
	var moved int64
	for i := range m.Parts {
		moved += shift[i]
		m.Parts[i].Offset -= moved
	}
	return nil
}

// givers are what can become shorter, what costs least first: what is left out or empty, then filesystems, the one with most to give first. Before
// what has to stay where it is, nothing does.
func (m *maker) givers() (all []giver) {
	var filesystems []giver
	first := 0
	for i, p := range m.parts {
		if isFixed(p) {
			first = i
		}
	}
	for i := len(m.Parts) - 1; i >= first; i-- {
		p, was := m.Parts[i], m.parts[i]
		switch {
		case isFixed(was):
		case p.Left:
			all = append(all, giver{i, false, (p.Length - 1) / unit * unit})
		default:
			least, why := m.least(was)
			if why != "" {
				m.why = append(m.why, p.Called()+" "+why)
			}
			if can := (p.Length - least) / unit * unit; can > 0 {
				filesystems = append(filesystems, giver{i, false, can})
			}
		}
		if i > first {
			if gap := (p.Offset - m.Parts[i-1].Offset - m.Parts[i-1].Length) / unit * unit; gap > 0 {
				all = append(all, giver{i, true, gap})
			}
		}
	}
	slices.SortStableFunc(filesystems, func(a, b giver) int { return int(min(max(b.can-a.can, -1), 1)) })
	return append(all, filesystems...)
}

// isFixed tells whether a loader is found by where a partition lies.
func isFixed(p inspect.Partition) bool { return p.Type == inspect.TypeBIOSBoot }

// least is the shortest that a partition can become, and why that is all of it, or what decides it.
func (m *maker) least(p inspect.Partition) (int64, string) {
	f := p.Filesystem
	if f == nil {
		return p.Length, "is as it is, since no filesystem is known on it"
	}
	if err := m.able(f.Kind, true); err != nil {
		return p.Length, "is as it is: " + err.Error()
	}
	if f.Doubt != "" || f.Size == 0 {
		return p.Length, "is as it is: " + f.Doubt
	}
	least := (f.Used + f.Used/marginParts + marginBytes + unit - 1) / unit * unit
	return min(least, p.Length), fmt.Sprintf("needs %s", humanize.IBytes(uint64(min(least, p.Length))))
}

// larger gives what the disk has more to a partition, and moves those behind it to the end.
func (m *maker) larger() error {
	more := (m.Size - m.tail() - m.end()) / unit * unit
	if m.Table == "mbr" {
		if most := int64(maxMBR); m.end()+more > most {
			more = max(most-m.end(), 0) / unit * unit
			m.Notes = append(m.Notes, "an MBR reaches 2 TiB: what lies behind is not used")
		}
	}
	i, err := m.grows()
	if err != nil {
		return err
	}
	if i < 0 || more <= 0 {
		m.Notes = append(m.Notes, "no partition is made larger: what the disk has more is free space at its end")
		return nil
	}
	p := &m.Parts[i]
	p.Length += more
	for j := i + 1; j < len(m.Parts); j++ {
		m.Parts[j].Offset += more
	}
	f := m.parts[i].Filesystem
	switch {
	case f == nil:
		p.Note = "what is on it does not know that it became larger"
		return nil
	case f.Doubt != "":
		err = errors.New(f.Doubt)
	default:
		err = m.able(f.Kind, false)
	}
	if err != nil {
		p.Note = "its filesystem stays as large as it is, and is made larger by whoever uses the disk: " + err.Error()
		return nil
	}
	p.Resized = true
	return nil
}

// grows is which of the parts becomes larger, -1 for none.
func (m *maker) grows() (int, error) {
	if m.wish.Grow == GrowNone {
		return -1, nil
	}
	found := -1
	for i, p := range m.parts {
		switch {
		case isFixed(p):
			found = -1 // those before it stay
		case m.wish.Grow == "" && m.isWorthGrowing(i):
			found = i
		case m.wish.Grow != "" && m.wish.Grow == strconv.Itoa(p.Number):
			found = i
		}
	}
	if found < 0 && m.wish.Grow != "" {
		return -1, fmt.Errorf(
			"%w: partition %s cannot be made larger: it is not there, is inside of an extended one, or the loader lies behind it",
			ErrSize,
			m.wish.Grow,
		)
	}
	return found, nil
}

// isWorthGrowing tells whether a partition holds what people keep growing things in.
func (m *maker) isWorthGrowing(i int) bool {
	p := m.parts[i]
	if m.Parts[i].Left || p.Filesystem == nil || slices.Contains(inspect.SmallTypes, strings.ToLower(p.Type)) {
		return false
	}
	switch p.Filesystem.Kind {
	case "swap", "iso9660", "raid member", "bitlocker", "luks":
		return false
	}
	return true
}

// note says what whoever starts from the disk should know.
func (m *maker) note() {
	for i := range m.Parts {
		p := m.Parts[i]
		if p.Offset != p.From && m.Table == "mbr" && p.Filesystem == "ntfs" && m.parts[i].Active {
			m.Notes = append(
				m.Notes,
				fmt.Sprintf("partition %d moves: a system that finds itself by where its partition begins has to be repaired", p.Number),
			)
		}
	}
}
