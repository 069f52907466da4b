package inspect

import "bagaglio/core/fingerprint"

// Runs passes ranges on that come in order, those that touch joined to one.
type Runs struct {
	each func(fingerprint.Range) error
	now  fingerprint.Range
}

// NewRuns returns one that passes them on to each.
func NewRuns(each func(fingerprint.Range) error) *Runs { return &Runs{each: each} }

// Add takes the next range. What it has of the one before counts once.
func (r *Runs) Add(off, n int64) error {
	end := r.now.Offset + r.now.Length
	if r.now.Length > 0 && off <= end {
		r.now.Length = max(end, off+n) - r.now.Offset
		return nil
	}
	err := r.Flush()
	r.now = fingerprint.Range{Offset: off, Length: n}
	return err
}

// Flush passes the last one on.
func (r *Runs) Flush() error {
	if r.now.Length == 0 {
		return nil
	}
	now := r.now
	r.now = fingerprint.Range{}
	return r.each(now)
}
