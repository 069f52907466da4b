package disk

import "math/bits"

// run is how many blocks have their places kept together, so that a disk with little data takes little memory.
const run = 1 << 12

// places tells for blocks which of the stored ones they are, from 0, and which are known to be zeros. As long as the blocks
// of a run come in guest order, one bit for each is enough: 2 TiB in blocks of 64 KiB take 4 MiB.
type places map[int64]*runOfPlaces

type runOfPlaces struct {
	first  int64 // which of the stored blocks the first one with a place is
	count  int64 // of those with a place
	bits   [run / 64]uint64
	each   *[run]uint32 // from 1, when they did not come in order
	zeroed *[run / 64]uint64
}

func (p places) find(number int64) (index int64, ok bool) {
	r := p[number/run]
	if r == nil {
		return 0, false
	}
	i := number % run
	if r.each != nil {
		return int64(r.each[i]) - 1, r.each[i] != 0
	}
	if r.bits[i/64]>>(i%64)&1 == 0 {
		return 0, false
	}
	return r.first + r.before(i), true
}

// before counts the blocks with a place in front of the one at i.
func (r *runOfPlaces) before(i int64) int64 {
	n := bits.OnesCount64(r.bits[i/64] & (1<<(i%64) - 1))
	for _, word := range r.bits[:i/64] {
		n += bits.OnesCount64(word)
	}
	return int64(n)
}

func (p places) run(number int64) *runOfPlaces {
	r := p[number/run]
	if r == nil {
		r = &runOfPlaces{}
		p[number/run] = r
	}
	return r
}

func (p places) add(number, index int64) {
	r, i := p.run(number), number%run
	if r.count == 0 {
		r.first = index
	}
	if r.each == nil && (index != r.first+r.count || r.before(i) != r.count) {
		r.spread()
	}
	r.count++
	if r.each != nil {
		r.each[i] = uint32(index + 1)
		return
	}
	r.bits[i/64] |= 1 << (i % 64)
}

// spread gives every block a number of its own.
func (r *runOfPlaces) spread() {
	r.each = new([run]uint32)
	next := r.first
	for i := range int64(run) {
		if r.bits[i/64]>>(i%64)&1 != 0 {
			next++
			r.each[i] = uint32(next)
		}
	}
}

func (p places) zeroed(number int64) bool {
	r, i := p[number/run], number%run
	return r != nil && r.zeroed != nil && r.zeroed[i/64]>>(i%64)&1 != 0
}

func (p places) setZeroed(number int64) {
	r, i := p.run(number), number%run
	if r.zeroed == nil {
		r.zeroed = new([run / 64]uint64)
	}
	r.zeroed[i/64] |= 1 << (i % 64)
}
