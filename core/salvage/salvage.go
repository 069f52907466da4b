package salvage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// How a disk is read: in large parts, from its start, jumping away from what does not read well; then what was left, from the end, in smaller ones; then by
// the sector. What is jumped over grows with each failure, and is small again when something could be read.
const (
	large     = 1 << 20
	small     = 64 << 10
	sector    = 512
	firstJump = large
	lastJump  = 256 << 20
	// slow is what a large part may take: a drive that needs longer for it is trying again by itself.
	slow = 3 * time.Second
)

// Salvage reads what can be read of a disk.
type Salvage struct {
	Source disk.Reader
	// Out gets what was read, at its offset.
	Out io.WriterAt
	// Map is what is known from before, and grows.
	Map *Map
	// Sector is the smallest part that can be read, in bytes; 0 for the usual one.
	Sector int64
	// Wait, unless it is nil, returns when n more bytes may be read: a drive that is read slowly may live longer.
	Wait func(ctx context.Context, n int64) error
	// Tell is called with the bytes that were read.
	Tell func(n int64)
	// Keep keeps Out and Map on stable storage: at least every time that Every has passed, and at the end, however it comes.
	Keep  func() error
	Every time.Duration
	// Slow is for tests; 0 for the usual time.
	Slow time.Duration

	wanted []fingerprint.Range
	kept   time.Time
	b      []byte
}

// Run reads until each part of the disk that is wanted is read or bad. It goes on from what the map says. An error that is none of reading a place stops it.
func (s *Salvage) Run(ctx context.Context) (err error) {
	s.b, s.kept = make([]byte, large), time.Now()
	if s.Sector == 0 {
		s.Sector = sector
	}
	if s.Slow == 0 {
		s.Slow = slow
	}
	if s.wanted, err = Wanted(ctx, s.Source); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Keep()) }()
	for _, pass := range []func(context.Context) error{s.forward, s.backward, s.sectors} {
		if err := pass(ctx); err != nil {
			return err
		}
	}
	return nil
}

// Wanted are the ranges of a disk that are read: what it says is zeros, since it is not selected, is not, and nothing is known of it then.
func Wanted(ctx context.Context, d disk.Reader) (all []fingerprint.Range, err error) {
	err = disk.Extents(ctx, d, func(e disk.Extent) error {
		if e.Kind == disk.Data {
			all = append(all, fingerprint.Range{Offset: e.Off, Length: e.Len})
		}
		return nil
	})
	return all, err
}

// forward reads what was not tried yet, and leaves what does not read well for later.
func (s *Salvage) forward(ctx context.Context) error {
	jump, from := int64(firstJump), int64(0)
	for _, wanted := range s.wanted {
		for _, r := range s.Map.Untried(wanted.Offset, wanted.Length) {
			for at, end := r.Offset, r.Offset+r.Length; at < end; {
				n := min(large-at%large, end-at)
				if at < from { // it is jumped over
					n = min(end, from) - at
					s.Map.Set(at, n, Later)
					at += n
					continue
				}
				began := time.Now()
				ok, err := s.read(ctx, at, n)
				if err != nil {
					return err
				}
				if !ok {
					s.Map.Set(at, n, Later)
				}
				at += n
				if ok && time.Since(began) < s.Slow {
					jump = firstJump
					continue
				}
				from = at + jump
				jump = min(2*jump, lastJump)
			}
		}
	}
	return nil
}

// backward tries what was left, from the end on: a scratch is come to from its other side.
func (s *Salvage) backward(ctx context.Context) error {
	for _, r := range slices.Backward(s.Map.Within(s.wanted).In(Later)) {
		for end := r.Offset + r.Length; end > r.Offset; {
			n := min(small, end-r.Offset)
			if _, err := s.read(ctx, end-n, n); err != nil {
				return err
			}
			end -= n
		}
	}
	return nil
}

// sectors tries what is still left, sector by sector. What cannot be read then is bad.
func (s *Salvage) sectors(ctx context.Context) error {
	for _, r := range s.Map.Within(s.wanted).In(Later) {
		for at, end := r.Offset, r.Offset+r.Length; at < end; {
			n := min(s.Sector-at%s.Sector, end-at)
			ok, err := s.read(ctx, at, n)
			if err != nil {
				return err
			}
			if !ok {
				s.Map.Set(at, n, Bad)
			}
			at += n
		}
	}
	return nil
}

// read reads a part, and tells whether it could be.
func (s *Salvage) read(ctx context.Context, off, n int64) (bool, error) {
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	if s.Wait != nil {
		if err := s.Wait(ctx, n); err != nil {
			return false, err
		}
	}
	p := s.b[:n]
	got, err := s.Source.ReadAt(p, off)
	if int64(got) < n {
		if !storage.Unreadable(err) && !errors.Is(err, disk.ErrDamaged) {
			return false, fmt.Errorf("reading the disk at offset %d: %w", off, err)
		}
		return false, s.keep()
	}
	if !fingerprint.IsZero(p) {
		if _, err := s.Out.WriteAt(p, off); err != nil {
			return false, fmt.Errorf("keeping what was read: %w", err)
		}
	}
	s.Map.Set(off, n, Read)
	s.Tell(n)
	return true, s.keep()
}

// keep keeps how far it is, from time to time.
func (s *Salvage) keep() error {
	if time.Since(s.kept) < s.Every {
		return nil
	}
	s.kept = time.Now()
	return s.Keep()
}
