package http

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strconv"
	"strings"

	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"

	"github.com/klauspost/compress/zstd"
)

const (
	// leavesType is the type of what stands for a range: the leaf (BLAKE3) of each MiB of it, one behind the other. It is our own, and offered by the header leavesHeader.
	leavesType   = "application/vnd.bagaglio.leaves"
	leavesHeader = "Bagaglio-Leaves"
	// packHeader asks for a range that is packed on its way, and says that it is: by zstd (RFC 8878). It is our own, since ranges are of what is not packed.
	packHeader = "Bagaglio-Pack"
	zstdName   = "zstd"
)

// Leafy is a file of a server that tells the leaves of ranges, which are read there, and not sent.
type Leafy interface {
	// Leaves returns those of a range that begins at one, or fails with errors.ErrUnsupported.
	Leaves(off, n int64) ([]fingerprint.Digest, error)
}

// sendLeaves sends those of a range.
func sendLeaves(w http.ResponseWriter, r *http.Request, file io.ReaderAt, size int64) error {
	var first, last int64
	if _, err := fmt.Sscanf(
		r.Header.Get("Range"),
		"bytes=%d-%d",
		&first,
		&last,
	); err != nil || first%fingerprint.LeafSize != 0 || last >= size ||
		first > last {
		return fault{errors.New("leaves are of a range that begins at one"), http.StatusRequestedRangeNotSatisfiable}
	}
	w.Header().Set("Content-Type", leavesType)
	content := make([]byte, fingerprint.LeafSize)
	for off := first; off <= last; off += fingerprint.LeafSize {
		p := content[:min(fingerprint.LeafSize, last+1-off)]
		if _, err := file.ReadAt(p, off); err != nil && !errors.Is(err, io.EOF) {
			panic(http.ErrAbortHandler) // who asked sees that it is cut off
		}
		leaf := fingerprint.Leaf(p)
		if _, err := w.Write(leaf[:]); err != nil {
			return nil //nolint:nilerr // whoever asked has gone
		}
	}
	return nil
}

// Leaves asks the server for the leaves of a range.
func (f *file) Leaves(off, n int64) ([]fingerprint.Digest, error) {
	if !f.leaves || off%fingerprint.LeafSize != 0 || n <= 0 || off+n > f.size {
		return nil, errors.ErrUnsupported
	}
	header := map[string]string{"Accept": leavesType, "Range": fmt.Sprintf("bytes=%d-%d", off, off+n-1)}
	maps.Copy(header, f.same)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	answer, err := f.folder.ask(ctx, http.MethodGet, f.name, header, nil, http.StatusOK)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	all := make([]fingerprint.Digest, (n+fingerprint.LeafSize-1)/fingerprint.LeafSize)
	for i := range all {
		if _, err := io.ReadFull(answer.Body, all[i][:]); err != nil {
			return nil, fmt.Errorf("%w: reading the leaves of %s: %w", storage.ErrLost, f.name, err)
		}
	}
	return all, nil
}

// packed is what sends a range packed.
type packed struct {
	http.ResponseWriter
	zstd *zstd.Encoder
}

// WriteHeader says that it is packed, where a range is sent.
func (p *packed) WriteHeader(status int) {
	if status == http.StatusPartialContent {
		n, err := strconv.Atoi(p.Header().Get("Content-Length"))
		if out, zErr := zstd.NewWriter(
			p.ResponseWriter,
			zstd.WithEncoderLevel(zstd.SpeedFastest),
			zstd.WithEncoderConcurrency(1),
		); err == nil && zErr == nil &&
			n > 0 {
			p.zstd = out
			p.Header().Set(packHeader, zstdName)
			p.Header().Del("Content-Length")
		}
	}
	p.ResponseWriter.WriteHeader(status)
}

func (p *packed) Write(b []byte) (int, error) {
	if p.zstd == nil {
		return p.ResponseWriter.Write(b)
	}
	return p.zstd.Write(b)
}

// end sends what is left.
func (p *packed) end() {
	if p.zstd != nil {
		_ = p.zstd.Close() // who asked sees that it is cut off
	}
}

// unpacked is the body of an answer as it was before it was packed.
func unpacked(answer *http.Response) (io.Reader, func(), error) {
	if !strings.EqualFold(answer.Header.Get(packHeader), zstdName) {
		return answer.Body, func() {}, nil
	}
	in, err := zstd.NewReader(answer.Body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return nil, nil, err
	}
	return in, in.Close, nil
}
