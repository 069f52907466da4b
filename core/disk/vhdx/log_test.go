package vhdx

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// change is a descriptor of an entry: a page of one byte's value, or zeros.
type change struct {
	off   int64
	fill  byte
	zeros int64 // length, when it is zeros
}

// entryBytes makes an entry of the log as a hypervisor would.
func entryBytes(id uuid.UUID, sequence uint64, tail int64, size int64, changes ...change) []byte {
	le := binary.LittleEndian
	b := make([]byte, up(entryHeader+descriptorSize*int64(len(changes)), logAlign))
	for i, c := range changes {
		d := b[entryHeader+descriptorSize*i:]
		le.PutUint64(d[16:], uint64(c.off))
		le.PutUint64(d[24:], sequence)
		if c.zeros > 0 {
			copy(d, zeroMark)
			le.PutUint64(d[8:], uint64(c.zeros))
			continue
		}
		copy(d, dataMark)
		page := bytes.Repeat([]byte{c.fill}, logAlign)
		copy(d[4:8], page)
		copy(d[8:16], page)
		copy(page, sectorMark)
		le.PutUint32(page[4:], uint32(sequence>>32))
		le.PutUint32(page[logAlign-4:], uint32(sequence))
		b = append(b, page...)
	}
	le.PutUint32(b[8:], uint32(len(b)))
	le.PutUint32(b[12:], uint32(tail))
	le.PutUint64(b[16:], sequence)
	le.PutUint32(b[24:], uint32(len(changes)))
	putGUID(b[32:], id)
	le.PutUint64(b[48:], uint64(size))
	le.PutUint64(b[56:], uint64(size))
	return seal(b, entryMark)
}

// cutOff makes an image of 2 MiB of 0x11, and lays a log into it whose entries begin at the given places.
func cutOff(t *testing.T, id uuid.UUID, entries map[int64][]byte) (string, int64) {
	t.Helper()
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	w, err := create(disk.Target{Folder: folder, Name: "disk.vhdx", Size: 2 * mib, Layout: dynamic, Identifier: uuid.New()})
	require.NoError(t, err)
	_, err = w.WriteAt(bytes.Repeat([]byte{0x11}, 2*mib), 0)
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	path := filepath.Join(dir, "disk.vhdx")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	for at, entry := range entries {
		for i, c := range entry { // round the end of the log
			b[ourLog+(at+int64(i))%mib] = c
		}
	}
	h, ok := decodeHeader(b[headerAt2:][:headerSize])
	require.True(t, ok)
	h.log, h.sequence = id, h.sequence+1
	copy(b[headerAt1:], h.encode())
	require.NoError(t, os.WriteFile(path, b, 0o600))
	return path, int64(len(b))
}

const firstData = ourTable + mib // where the first block of such a small image lies

func TestTheLogIsReplayed(t *testing.T) {
	id, old := uuid.New(), uuid.New()
	const size = firstData + 2*mib
	one := entryBytes(id, 7, 0, size, change{off: firstData, fill: 0x22})
	two := entryBytes(id, 8, 0, size, change{off: firstData + 8192, fill: 0x33}, change{off: firstData, fill: 0x44})
	three := entryBytes(id, 9, 0, size, change{off: firstData, zeros: 4096}, change{off: firstData + 4096, fill: 0x55})
	torn := append([]byte{}, three...)
	torn[len(torn)-100] ^= 1
	end := int64(mib - 4096) // an entry that begins here goes on at the start of the log
	for _, c := range []struct {
		name    string
		entries map[int64][]byte
		want    [3]byte // the first bytes of three pages
		fails   string
	}{
		{"one entry", map[int64][]byte{0: one}, [3]byte{0x22, 0x11, 0x11}, ""},
		{"later entries count", map[int64][]byte{0: one, int64(len(one)): two}, [3]byte{0x44, 0x11, 0x33}, ""},
		{"three, zeros over data", map[int64][]byte{0: one, int64(len(one)): two, int64(len(one) + len(two)): three}, [3]byte{0, 0x55, 0x33}, ""},
		{"a torn entry ends the sequence", map[int64][]byte{0: one, int64(len(one)): two, int64(len(one) + len(two)): torn}, [3]byte{0x44, 0x11, 0x33}, ""},
		{"entries of an earlier log", map[int64][]byte{0: one, int64(len(one)): entryBytes(old, 90, 0, size, change{off: firstData, fill: 0x66})}, [3]byte{0x22, 0x11, 0x11}, ""},
		{"round the end", map[int64][]byte{end: entryBytes(id, 7, end, size, change{off: firstData, fill: 0x77})}, [3]byte{0x77, 0x11, 0x11}, ""},
		{"an older sequence before", map[int64][]byte{65536: entryBytes(id, 3, 65536, size, change{off: firstData, fill: 0x66}), 0: one}, [3]byte{0x22, 0x11, 0x11}, ""},
		{"no whole entry", map[int64][]byte{0: torn}, [3]byte{}, "has no whole entry"},
		{"the file is shorter than it was", map[int64][]byte{0: entryBytes(id, 7, 0, size+mib, change{off: firstData, fill: 0x22})}, [3]byte{}, "it is truncated"},
		{"zeros beyond the end", map[int64][]byte{0: entryBytes(id, 7, 0, size, change{off: firstData, zeros: 1 << 50})}, [3]byte{}, "the log has"},
		{"a change to an odd place", map[int64][]byte{0: entryBytes(id, 7, 0, size, change{off: firstData + 1, fill: 1})}, [3]byte{}, "makes no sense"},
	} {
		t.Run(c.name, func(t *testing.T) {
			path, length := cutOff(t, id, c.entries)
			require.EqualValues(t, size, length)
			before, err := os.ReadFile(path)
			require.NoError(t, err)
			folder, err := local.Open(filepath.Dir(path))
			require.NoError(t, err)
			defer folder.Close()
			r, err := open(t.Context(), disk.Origin{Folder: folder, Name: "disk.vhdx"})
			if c.fails != "" {
				require.ErrorIs(t, err, disk.ErrDamaged)
				require.ErrorContains(t, err, c.fails)
				return
			}
			require.NoError(t, err)
			defer r.Close()
			assert.True(t, r.Describe().Dirty)
			page := make([]byte, 3*4096)
			_, err = r.ReadAt(page, 0)
			require.NoError(t, err)
			for i, want := range c.want {
				assert.Equal(t, bytes.Repeat([]byte{want}, 4096), page[4096*i:][:4096], "page %d", i)
			}
			after, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(before, after), "the file is not changed")
		})
	}
}
