package places

import (
	"sync/atomic"

	"bagaglio/internal/store"

	lru "github.com/hashicorp/golang-lru/v2"
)

// mostLists is how many parts of lists are kept.
const mostLists = 32

// lists are parts of lists of disks as they were asked for last, so that many who look at the same one cost little. They are forgotten when
// any pool was looked through: whose a disk is may lie in another one.
type lists struct {
	parts  *lru.Cache[listKey, listPart]
	change atomic.Int64
}

type listKey struct {
	change int64
	pool   string
	query  store.DiskQuery
}

type listPart struct {
	pool  store.Pool
	look  store.Look
	disks []Entry
	next  string
	total int
}

func newLists() *lists {
	parts, err := lru.New[listKey, listPart](mostLists)
	if err != nil {
		panic(err) // only for a size that is not positive
	}
	return &lists{parts: parts}
}

// forget has everything be read anew. What was being read meanwhile is not kept as new.
func (l *lists) forget() { l.change.Add(1) }

// get returns a part that is kept, or reads it.
func (l *lists) get(pool string, q store.DiskQuery, read func() (listPart, error)) (listPart, error) {
	key := listKey{l.change.Load(), pool, q}
	if part, ok := l.parts.Get(key); ok {
		return part, nil
	}
	part, err := read()
	if err == nil {
		l.parts.Add(key, part)
	}
	return part, err
}
