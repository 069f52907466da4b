package disk

import (
	"bytes"
	"fmt"
	"io"

	lru "github.com/hashicorp/golang-lru/v2"
)

const (
	pageSize  = 64 << 10
	pageCount = 64 // at most 4 MiB of tables in memory for each open image
)

// Pages reads the tables of an image through a bounded cache, since they may be larger than memory should be. It is an
// io.ReaderAt, safe for concurrent use, for images that do not change.
type Pages struct {
	file  io.ReaderAt
	size  int64
	cache *lru.Cache[int64, []byte]
}

// NewPages returns a cache in front of file, which is size bytes long.
func NewPages(file io.ReaderAt, size int64) *Pages {
	cache, err := lru.New[int64, []byte](pageCount)
	if err != nil {
		panic(err) // only for a count that is not positive
	}
	return &Pages{file: file, size: size, cache: cache}
}

// ReadAt fills p, or fails with ErrDamaged when that reaches behind the end of the file.
func (c *Pages) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > c.size-int64(len(p)) {
		return 0, Damaged("a table at offset %d lies behind the end of the file at %d", off, c.size)
	}
	for done := 0; done < len(p); {
		at := off + int64(done)
		page, err := c.page(at / pageSize)
		if err != nil {
			return done, fmt.Errorf("reading a table at offset %d: %w", at, err)
		}
		done += copy(p[done:], page[at%pageSize:])
	}
	return len(p), nil
}

// Run returns how many bytes from off on are b, as far as the page of the cache goes; 0 when that cannot be told.
func (c *Pages) Run(off int64, b byte) int64 {
	if off < 0 || off >= c.size {
		return 0
	}
	page, err := c.page(off / pageSize)
	if err != nil {
		return 0 // whoever reads there is told
	}
	rest := page[off%pageSize:]
	same := &samePages[0]
	if b != 0 {
		same = &samePages[1]
	}
	if same[0] == b && bytes.Equal(rest, same[:len(rest)]) {
		return int64(len(rest))
	}
	n := 0
	for n < len(rest) && rest[n] == b {
		n++
	}
	return int64(n)
}

// samePages are a page of zeros and one of ones, the two that tables without entries consist of.
var samePages = func() (p [2][pageSize]byte) {
	for i := range p[1] {
		p[1][i] = 0xff
	}
	return p
}()

func (c *Pages) page(number int64) ([]byte, error) {
	if page, ok := c.cache.Get(number); ok {
		return page, nil
	}
	page := make([]byte, min(pageSize, c.size-number*pageSize))
	if err := ReadFull(c.file, page, number*pageSize); err != nil {
		return nil, err
	}
	c.cache.Add(number, page)
	return page, nil
}
