package disk

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Counting looks at no more of a disk than this, so that a badly scattered one, or one that somebody made to be so, costs whoever asks
// a bounded time: what is said of it then is "at least".
const (
	MostCounted = 1 << 20 // extents
	CountFor    = 5 * time.Second
	CheckFor    = 20 * time.Second
)

// Stored tells for a unit, in bytes, how many bytes lie in those units of a disk that have data.
type Stored map[int64]int64

// Allocated adds up the bytes of r that are stored; atLeast tells that there may be more of them.
func Allocated(ctx context.Context, r Reader) (n int64, atLeast bool, err error) {
	stored, atLeast, err := Count(ctx, r, 1)
	return stored[1], atLeast, err
}

// Count looks at a disk once for all units; atLeast tells that it did not look at all of it.
func Count(ctx context.Context, r Reader, units ...int64) (stored Stored, atLeast bool, err error) {
	sums := make([]int64, len(units))
	counted := make([]int64, len(units)) // the end of the last unit that is in the sum
	err = Survey(ctx, r, func(e Extent) {
		if e.Kind != Data {
			return
		}
		for i, unit := range units {
			start := max(e.Off/unit*unit, counted[i])
			counted[i] = max(counted[i], (e.End()+unit-1)/unit*unit)
			sums[i] += counted[i] - start
		}
	})
	stored = Stored{}
	for i, unit := range units {
		stored[unit] = sums[i]
	}
	if errors.Is(err, ErrNotAll) {
		return stored, true, nil
	}
	return stored, false, err
}

// ErrNotAll is the error of a survey that ended before the disk did.
var ErrNotAll = errors.New("the disk is too large or too scattered for all of it to be looked at")

// Survey calls each with the extents of r in their order, as Extents does, but ends with ErrNotAll after MostCounted of them or when
// CountFor is over.
func Survey(ctx context.Context, r Reader, each func(Extent)) error {
	within, cancel := context.WithTimeoutCause(ctx, CountFor, ErrNotAll)
	defer cancel()
	n := 0
	err := Extents(within, r, func(e Extent) error {
		if n++; n > MostCounted {
			return ErrNotAll
		}
		each(e)
		return nil
	})
	if err != nil && ctx.Err() == nil && errors.Is(context.Cause(within), ErrNotAll) {
		return ErrNotAll
	}
	return err
}

// CheckSoon checks the tables of r where it has any, as far as that is done in CheckFor; the error then wraps ErrNotAll.
func CheckSoon(ctx context.Context, r Reader) error {
	c, ok := r.(Checker)
	if !ok {
		return nil
	}
	within, cancel := context.WithTimeoutCause(ctx, CheckFor, ErrNotAll)
	defer cancel()
	err := c.Check(within)
	if err != nil && ctx.Err() == nil && within.Err() != nil {
		return fmt.Errorf("not all of its tables were looked at within %s: %w", CheckFor, ErrNotAll)
	}
	return err
}
