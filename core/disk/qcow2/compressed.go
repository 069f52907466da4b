package qcow2

import (
	"bufio"
	"fmt"
	"io"
	"sync"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
)

// readCompressed fills p with the bytes of a compressed cluster from skip on. The entry tells where it starts and how
// many sectors it touches ("Compressed Clusters Descriptor"); the last of them may lie behind the end of the file, and
// may hold the start of the next cluster.
func (r *reader) readCompressed(p []byte, entry uint64, skip int64) error {
	split := 62 - (r.clusterBits - 8)
	start := int64(entry & (1<<split - 1))
	end := start/512*512 + (int64(entry>>split)+1)*512
	if start >= r.fileSize {
		return disk.Damaged("a compressed cluster is said to lie at offset %d, but the file ends at %d", start, r.fileSize)
	}
	// A cluster is never stored in more than its own length and the sectors at its ends.
	end = min(end, r.fileSize, start+int64(r.cluster())+2*512)
	in := bufio.NewReader(io.NewSectionReader(r.file, start, end-start))

	var out io.Reader
	if r.compression == compressionZstd {
		d := decoders.Get().(*zstd.Decoder)
		defer decoders.Put(d)
		if err := d.Reset(in); err != nil {
			return disk.Damaged("the compressed cluster at offset %d: %v", start, err)
		}
		out = d
	} else {
		out = flate.NewReader(in)
	}
	whole := make([]byte, r.cluster())
	if n, err := io.ReadFull(out, whole); err != nil {
		return disk.Damaged("the compressed cluster at offset %d gives %d of %d bytes: %v", start, n, len(whole), err)
	}
	copy(p, whole[skip:])
	return nil
}

// decoders are kept, since making one costs more than a cluster.
var decoders = sync.Pool{New: func() any {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(8<<20))
	if err != nil {
		panic(fmt.Sprintf("making a decoder: %v", err)) // only for options that make no sense
	}
	return d
}}
