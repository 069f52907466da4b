package inspect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// Selection says what of a disk is read: everything else reads as zeros. What lies outside of partitions, tables and boot code, always is.
type Selection struct {
	// UsedOnly leaves out what filesystems do not use, of those whose map is to be relied on.
	UsedOnly bool
	// Without leaves out whole partitions, by their numbers, or by names or labels that one of them has.
	Without []string
}

// All tells that everything is read.
func (s Selection) All() bool { return !s.UsedOnly && len(s.Without) == 0 }

// Share is what is read of a partition, in bytes.
type Share struct {
	Partition int    `json:"partition"`        // 0 where the whole disk is one filesystem
	Volume    string `json:"volume,omitempty"` // of LVM on it, GROUP/VOLUME, whose share this is
	Type      string `json:"type,omitempty"`
	Name      string `json:"name,omitempty"`
	// Filesystem is its kind, Label what it is called.
	Filesystem string `json:"filesystem,omitempty"`
	Label      string `json:"label,omitempty"`
	Offset     int64  `json:"offset"`
	Length     int64  `json:"length"`
	Skipped    int64  `json:"skipped"`          // of its length, what is not read
	Left       bool   `json:"left,omitempty"`   // it is left out
	Active     bool   `json:"active,omitempty"` // a BIOS starts from it
	// Whole is why all of it is read, where only what is used was to be.
	Whole string `json:"whole,omitempty"`
	// State is what a check of the filesystem on the new image said, empty where none was made: StateClean, or in words what is wrong.
	State string `json:"state,omitempty"`
}

// StateClean is that of a filesystem which was unmounted, and whose structures agree with each other.
const StateClean = "clean"

// Check looks at the filesystem of a share on the disk that was made.
func (s *Share) Check(ctx context.Context, d Disk) {
	if s.Left || s.Filesystem == "" {
		return
	}
	v, err := On(d, Spot{Partition: s.Partition, Volume: s.Volume})
	if errors.Is(err, errors.ErrUnsupported) {
		return
	}
	if err == nil {
		err = v.Used(ctx, func(fingerprint.Range) error { return nil })
	}
	switch {
	case err != nil:
		s.State = "damaged: " + err.Error()
	case v.About().Doubt != "":
		s.State = v.About().Doubt
	default:
		s.State = StateClean
	}
}

// Called is how people call it.
func (s Share) Called() string {
	if s.Volume != "" {
		return fmt.Sprintf("The volume %s (%s)", s.Volume, cmp.Or(s.Filesystem, "nothing that is known"))
	}
	if s.Partition == 0 {
		return "The disk"
	}
	out := fmt.Sprintf("Partition %d", s.Partition)
	var more []string
	for _, word := range []string{s.Name, s.Type, s.Filesystem} {
		if word != "" && !slices.Contains(more, word) {
			more = append(more, word)
		}
	}
	if len(more) > 0 {
		out += " (" + strings.Join(more, ", ") + ")"
	}
	return out
}

// ErrNoPartition is the error for a partition that is to be left out, and is not there.
var ErrNoPartition = errors.New("there is no such partition")

// Skimmed is a disk of which a part reads as zeros.
type Skimmed struct {
	disk.Reader
	Shares []Share
	gaps   []fingerprint.Range // that read as zeros, ascending
	left   []fingerprint.Range // of these, what is left out
}

// Skim looks which part of a disk is read. The disk is not to change: what is used is looked at once.
func Skim(ctx context.Context, d disk.Reader, s Selection) (*Skimmed, error) {
	c, err := Inside(d)
	if err != nil {
		return nil, err
	}
	if len(s.Without) > 0 { // which may be labels
		c.Fill(d)
	}
	parts := c.all(d)
	left, volumes, err := s.left(c, parts)
	if err != nil {
		return nil, err
	}
	k := &Skimmed{Reader: d}
	for _, p := range parts {
		p.Length = min(p.Length, d.Size()-p.Offset)
		if p.Extended() || p.Length <= 0 {
			continue
		}
		share := Share{
			Partition: p.Number,
			Type:      p.Type,
			Name:      p.Name,
			Offset:    p.Offset,
			Length:    p.Length,
			Left:      left[p.Number],
			Active:    p.Active,
		}
		if p.Filesystem != nil {
			share.Filesystem, share.Label = p.Filesystem.Kind, p.Filesystem.Label
		}
		gaps := []fingerprint.Range{{Offset: p.Offset, Length: p.Length}}
		if !share.Left && share.Filesystem == kindLVM {
			k.volumes(ctx, d, p, share, s.UsedOnly, volumes)
			continue
		}
		if !share.Left {
			gaps = nil
			if s.UsedOnly {
				gaps, share.Whole = unusedIn(ctx, d, p)
			}
		}
		for _, g := range gaps {
			share.Skipped += g.Length
		}
		k.Shares, k.gaps = append(k.Shares, share), append(k.gaps, gaps...)
		if share.Left {
			k.left = append(k.left, gaps...)
		}
	}
	for _, all := range [][]fingerprint.Range{k.gaps, k.left} {
		sort.Slice(all, func(i, j int) bool { return all[i].Offset < all[j].Offset })
	}
	for i := range len(k.gaps) - 1 {
		if k.gaps[i].Offset+k.gaps[i].Length > k.gaps[i+1].Offset {
			return nil, disk.Damaged("partitions overlap: what is used cannot be told")
		}
	}
	return k, ctx.Err()
}

// left are the numbers of the partitions that are left out.
func (s Selection) left(c Contents, parts []Partition) (out map[int]bool, volumes map[string]bool, err error) {
	out, volumes = map[int]bool{}, map[string]bool{}
	for _, word := range s.Without {
		found := false
		for _, p := range parts {
			if p.Filesystem == nil {
				continue
			}
			for _, v := range p.Filesystem.Volumes {
				if v.Name == word || v.Filesystem != nil && v.Filesystem.Label == word {
					volumes[v.Name], found = true, true
				}
			}
		}
		for _, p := range c.Partitions {
			if strconv.Itoa(p.Number) == word || p.Name == word || p.Filesystem != nil && p.Filesystem.Label == word {
				out[p.Number], found = true, true
			}
		}
		if !found {
			var there []string
			for _, p := range c.Partitions {
				there = append(there, strings.TrimSpace(fmt.Sprintf("%d %s", p.Number, p.Name)))
			}
			return nil, nil, fmt.Errorf("%w: %s; the disk has: %s", ErrNoPartition, word, strings.Join(there, ", "))
		}
	}
	return out, volumes, nil
}

// volumes adds what is read of a partition that LVM has, and of each volume on it.
func (k *Skimmed) volumes(ctx context.Context, d Disk, p Partition, share Share, usedOnly bool, left map[string]bool) {
	l, err := logical(d, p.Offset, p.Length)
	if err != nil {
		share.Whole = err.Error()
		k.Shares = append(k.Shares, share)
		return
	}
	if usedOnly {
		for _, r := range l.free(p.Length) {
			share.Skipped += r.Length
			k.gaps = append(k.gaps, fingerprint.Range{Offset: p.Offset + r.Offset, Length: r.Length})
		}
	}
	k.Shares = append(k.Shares, share)
	for _, v := range p.Filesystem.Volumes {
		own := Share{Partition: p.Number, Volume: v.Name, Offset: p.Offset, Length: v.Size, Left: left[v.Name]}
		if v.Filesystem != nil {
			own.Filesystem, own.Label = v.Filesystem.Kind, v.Filesystem.Label
		}
		gaps := []fingerprint.Range{{Length: v.Size}}
		if !own.Left {
			gaps = nil
			if usedOnly {
				gaps, own.Whole = unusedIn(ctx, v.disk(d, p.Offset), Partition{Length: v.Size, Filesystem: v.Filesystem})
			}
		}
		for _, g := range gaps {
			own.Skipped += g.Length
		}
		there := v.onDisk(gaps, p.Offset)
		k.Shares, k.gaps = append(k.Shares, own), append(k.gaps, there...)
		if own.Left {
			k.left = append(k.left, there...)
		}
	}
}

// unusedIn is what a partition does not use, or why that cannot be told.
func unusedIn(ctx context.Context, d Disk, p Partition) (gaps []fingerprint.Range, why string) {
	if p.Filesystem == nil {
		return nil, "no filesystem is known on it"
	}
	v, err := Mount(d, p.Filesystem.Kind, p.Offset, p.Length)
	if errors.Is(err, errors.ErrUnsupported) {
		return nil, "what " + p.Filesystem.Kind + " uses is not read"
	}
	if err != nil {
		return nil, err.Error()
	}
	if why := v.About().Doubt; why != "" {
		return nil, why
	}
	var at int64
	err = v.Used(ctx, func(r fingerprint.Range) error {
		if r.Offset > at {
			gaps = append(gaps, fingerprint.Range{Offset: p.Offset + at, Length: r.Offset - at})
		}
		at = r.Offset + r.Length
		return nil
	})
	if err != nil {
		return nil, err.Error()
	}
	if size := min(v.About().Size, p.Length); at < size { // what is behind its end is read
		gaps = append(gaps, fingerprint.Range{Offset: p.Offset + at, Length: size - at})
	}
	return gaps, ""
}

// gap is the first gap that ends behind an offset.
func (k *Skimmed) gap(off int64) int {
	return sort.Search(len(k.gaps), func(i int) bool { return k.gaps[i].Offset+k.gaps[i].Length > off })
}

// ReadAt reads what is read, and zeros.
func (k *Skimmed) ReadAt(b []byte, off int64) (int, error) {
	for done := 0; done < len(b); {
		at, rest := off+int64(done), b[done:]
		i := k.gap(at)
		if i < len(k.gaps) && k.gaps[i].Offset <= at {
			n := min(int64(len(rest)), k.gaps[i].Offset+k.gaps[i].Length-at)
			clear(rest[:n])
			done += int(n)
			continue
		}
		if i < len(k.gaps) {
			rest = rest[:min(int64(len(rest)), k.gaps[i].Offset-at)]
		}
		n, err := k.Reader.ReadAt(rest, at)
		if done += n; err != nil && done < len(b) {
			return done, err
		}
		if n < len(rest) {
			return done, fmt.Errorf("reading at offset %d: %d bytes came of %d", at, n, len(rest))
		}
	}
	return len(b), nil
}

// Extent returns the run that begins at an offset.
func (k *Skimmed) Extent(off int64) (disk.Extent, error) {
	i := k.gap(off)
	if i < len(k.gaps) && k.gaps[i].Offset <= off {
		return disk.Extent{Off: off, Len: k.gaps[i].Offset + k.gaps[i].Length - off, Kind: disk.Zero}, nil
	}
	e, err := k.Reader.Extent(off)
	if err == nil && i < len(k.gaps) {
		e.Len = min(e.Len, k.gaps[i].Offset-off)
	}
	return e, err
}

// checked is one whose tables can be looked at.
type checked struct {
	*Skimmed
	disk.Checker
}

// Open opens a disk of which what is selected is read.
func Open(ctx context.Context, o disk.Origin, format string, s Selection) (disk.Reader, error) {
	r, err := o.Open(ctx, format)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", o.Name, err)
	}
	if s.All() {
		return r, nil
	}
	k, err := Skim(ctx, r, s)
	if storage.Unreadable(err) && len(s.Without) == 0 { // then nothing can be left out
		k = &Skimmed{Reader: r, Shares: []Share{{Length: r.Size(), Whole: "its tables cannot be read: " + err.Error()}}}
	} else if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	if c, ok := r.(disk.Checker); ok {
		return checked{k, c}, nil
	}
	return k, nil
}

// Like returns a copy of a disk that was opened so, of which the same is read.
func Like(d, copied disk.Reader) disk.Reader {
	switch k := d.(type) {
	case *Skimmed:
		return &Skimmed{Reader: copied, Shares: k.Shares, gaps: k.gaps, left: k.left}
	case checked:
		return Like(k.Skimmed, copied)
	}
	return copied
}

// Anew returns a disk that was opened so as another one sees it now, without looking again at what is used: only what is left out reads as zeros.
func Anew(d, now disk.Reader) disk.Reader {
	switch k := d.(type) {
	case *Skimmed:
		return &Skimmed{Reader: now, Shares: k.Shares, gaps: k.left, left: k.left}
	case checked:
		return Anew(k.Skimmed, now)
	}
	return now
}

// Shares tells what of a disk that was opened so is read, nil where that is all.
func Shares(r disk.Reader) []Share {
	switch k := r.(type) {
	case *Skimmed:
		return k.Shares
	case checked:
		return k.Shares
	case interface{ Beneath() disk.Reader }:
		return Shares(k.Beneath())
	}
	return nil
}
