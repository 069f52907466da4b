package disk

import (
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
