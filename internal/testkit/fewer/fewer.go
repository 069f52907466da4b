// Package fewer has long tests do a part of their rows, another one each time, so that all of them take minutes and not an hour. With
// BAGAGLIO_ALL=1, as make torture sets it, they do all.
package fewer

import (
	"math/rand/v2"
	"os"
	"testing"
)

// all tells that nothing is left out.
func all() bool { return os.Getenv("BAGAGLIO_ALL") != "" }

// Of returns n of the rows, in their order, or all.
func Of[T any](t testing.TB, n int, rows []T) (some []T) {
	t.Helper()
	if all() || n >= len(rows) {
		return rows
	}
	chosen := map[int]bool{}
	for _, i := range rand.Perm(len(rows))[:n] {
		chosen[i] = true
	}
	for i, row := range rows {
		if chosen[i] {
			some = append(some, row)
		}
	}
	t.Logf("%d of %d: %v", n, len(rows), some)
	return some
}

// Sometimes skips four times of five a test that takes long, because it waits for guests that compute, say: all of them together take longer than there is time for.
func Sometimes(t testing.TB) {
	t.Helper()
	if !all() && rand.IntN(5) > 0 {
		t.Skip("a long one, which a run does one time of five, by chance: make torture does all (BAGAGLIO_ALL=1)")
	}
}

// Times is how often something is done: a few times, or as many as it takes to be sure.
func Times(few, many int) int {
	if all() {
		return many
	}
	return few
}

// Stride returns where to begin to count, and how far to go each time: every so many-th, or each one.
func Stride(t testing.TB, every int) (first, by int) {
	t.Helper()
	if all() {
		return 0, 1
	}
	first = rand.IntN(every)
	t.Logf("every %d-th, from %d on", every, first)
	return first, every
}
