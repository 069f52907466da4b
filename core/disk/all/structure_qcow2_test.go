package all

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"io"
	"testing"

	"bagaglio/core/disk"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

// qcow2ByTheDescription reads an image by "QCOW2 image format" alone, with the standard library's decoder. It checks that
// the refcount of every cluster of the file is the number of its uses.
type qcow2ByTheDescription struct {
	*testing.T
	b       []byte
	cluster uint64
	zstd    bool
	used    []int
}

func (q *qcow2ByTheDescription) take(from, to uint64) {
	for c := from / q.cluster; c*q.cluster < to; c++ {
		require.Less(q, c, uint64(len(q.used)), "it is said to lie behind the end of the file")
		q.used[c]++
	}
}

func (q *qcow2ByTheDescription) structure(off, n uint64) []byte {
	require.Zero(q, off%q.cluster)
	q.take(off, off+n)
	return q.b[off : off+n]
}

// read puts the content over what guest holds.
func (q *qcow2ByTheDescription) read(guest []byte) {
	be := binary.BigEndian
	require.Zero(q, len(q.b)%int(q.cluster))
	q.used = make([]int, len(q.b)/int(q.cluster))
	q.structure(0, q.cluster)
	entries := uint64(be.Uint32(q.b[36:]))
	l1 := q.structure(be.Uint64(q.b[40:]), max(up(8*entries, q.cluster), q.cluster))
	for i := range entries {
		entry := be.Uint64(l1[8*i:])
		if entry == 0 {
			continue
		}
		require.NotZero(q, entry>>63, "the entry is copied")
		l2 := q.structure(entry&^(1<<63), q.cluster)
		for j := range q.cluster / 8 {
			if entry := be.Uint64(l2[8*j:]); entry != 0 {
				off := (i*q.cluster/8 + j) * q.cluster
				copy(guest[off:], q.content(entry))
			}
		}
	}
	q.refcounts(be.Uint64(q.b[48:]), uint64(be.Uint32(q.b[56:])))
}

func (q *qcow2ByTheDescription) content(entry uint64) []byte {
	if entry == 1 {
		require.EqualValues(q, 3, binary.BigEndian.Uint32(q.b[4:]), "version 2 has no zero clusters")
		return make([]byte, q.cluster)
	}
	if entry>>62 != 1 {
		require.EqualValues(q, 2, entry>>62, "copied, not compressed")
		require.Zero(q, entry&0x1ff)
		return q.structure(entry&^(1<<63), q.cluster)
	}
	x := uint(0)
	for c := q.cluster; c > 256; c /= 2 {
		x++
	}
	x = 62 - x
	start := entry & (1<<x - 1)
	sectors := entry & (1<<62 - 1) >> x
	end := start/512*512 + (sectors+1)*512
	q.take(start, end)
	in := bytes.NewReader(q.b[start:min(end, uint64(len(q.b)))])
	out := make([]byte, q.cluster)
	if q.zstd {
		d, err := zstd.NewReader(in)
		require.NoError(q, err)
		defer d.Close()
		_, err = io.ReadFull(d, out)
		require.NoError(q, err)
		return out
	}
	_, err := io.ReadFull(flate.NewReader(in), out)
	require.NoError(q, err)
	return out
}

func (q *qcow2ByTheDescription) refcounts(table, clusters uint64) {
	be := binary.BigEndian
	entries := q.structure(table, clusters*q.cluster)
	counted := map[uint64]uint16{}
	for i := range uint64(len(entries)) / 8 {
		at := be.Uint64(entries[8*i:])
		if at == 0 {
			continue
		}
		block := q.structure(at, q.cluster)
		for j := range q.cluster / 2 {
			if n := be.Uint16(block[2*j:]); n != 0 {
				counted[i*q.cluster/2+j] = n
			}
		}
	}
	unused := uint64(0)
	for number, n := range q.used {
		require.EqualValues(q, n, counted[uint64(number)], "refcount of cluster %d", number)
		if n == 0 {
			unused++
		}
		delete(counted, uint64(number))
	}
	require.Less(q, unused*q.cluster, max(uint64(1<<20), q.cluster), "room that is left for tables")
	require.Empty(q, counted, "refcounts behind the end of the file")
}

func TestQcow2ByTheDescription(t *testing.T) {
	eachLayout(t, func(t *testing.T, l layout) {
		if l.format.Name != "qcow2" {
			t.Skip("another format")
		}
		for _, c := range []content{scattered(), runs()} {
			folder := create(t, l, c)
			b := whole(t, folder, l.fileName())
			be := binary.BigEndian
			require.Equal(t, "QFI\xfb", string(b[:4]))
			version := 3
			if l.options.Version > 0 {
				version = l.options.Version
			}
			require.EqualValues(t, version, be.Uint32(b[4:]))
			require.EqualValues(t, c.size, be.Uint64(b[24:]))
			require.Zero(t, be.Uint32(b[32:]), "not encrypted")
			q := &qcow2ByTheDescription{T: t, b: b, cluster: 1 << be.Uint32(b[20:]), zstd: l.options.Compression == "zstd"}
			if l.options.BlockSize > 0 {
				require.EqualValues(t, l.options.BlockSize, q.cluster)
			}
			if version == 3 {
				features := uint64(0)
				if q.zstd {
					features = 1 << 3
					require.EqualValues(t, 1, b[104])
				}
				require.Equal(t, features, be.Uint64(b[72:]))
				require.Zero(t, be.Uint64(b[80:])|be.Uint64(b[88:]))
				require.EqualValues(t, 4, be.Uint32(b[96:]))
			}
			guest := make([]byte, up(uint64(c.size), q.cluster))
			if l.Stands {
				require.Equal(t, "base.qcow2", string(b[be.Uint64(b[8:]):][:be.Uint32(b[16:])]))
				base, err := disk.Open(t.Context(), folder, "base.qcow2", "")
				require.NoError(t, err)
				defer base.Close()
				_, err = base.ReadAt(guest[:c.size], 0)
				require.NoError(t, err)
			} else {
				require.Zero(t, be.Uint64(b[8:]))
			}
			q.read(guest)
			require.True(t, bytes.Equal(c.want(), guest[:c.size]))
		}
	})
}
