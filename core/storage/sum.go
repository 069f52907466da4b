package storage

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
)

// SHA256 takes the SHA-256 of a whole file: where it lies, if its storage can do that, and here otherwise. passed, unless it is nil, is
// told how many bytes were read here since the last time.
func SHA256(ctx context.Context, f Folder, name string, passed func(n int64)) (sum [sha256.Size]byte, err error) {
	if s, ok := As[Summer](f); ok && s.Sums() {
		return s.SHA256(ctx, name)
	}
	file, err := f.Open(name)
	if err != nil {
		return sum, err
	}
	defer file.Close()
	size, err := file.Size()
	if err != nil {
		return sum, err
	}
	hash := sha256.New()
	p := make([]byte, 1<<20)
	for off := int64(0); off < size; off += int64(len(p)) {
		if err := ctx.Err(); err != nil {
			return sum, err
		}
		p = p[:min(int64(len(p)), size-off)]
		if n, err := file.ReadAt(p, off); n < len(p) {
			return sum, errors.Join(io.ErrUnexpectedEOF, err)
		}
		_, _ = hash.Write(p) // never fails (hash.Hash)
		if passed != nil {
			passed(int64(len(p)))
		}
	}
	return [sha256.Size]byte(hash.Sum(nil)), nil
}
