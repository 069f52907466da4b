package all

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"fmt"
	"io"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
	"bagaglio/core/transfer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func row(t *testing.T, format, name string, o disk.Options) layout {
	t.Helper()
	f, err := disk.Lookup(format)
	require.NoError(t, err)
	l, err := f.Layout(name)
	require.NoError(t, err)
	return layout{format: f, Layout: l, options: o}
}

// TestStreamByTheNote walks a stream from front to back, as a reader of a pipe would.
func TestStreamByTheNote(t *testing.T) {
	c := scattered()
	b := written(t, "vmdk", "stream", c)
	le := binary.LittleEndian
	require.Equal(t, "KDMV", string(b[:4]))
	require.EqualValues(t, 3, le.Uint32(b[4:]))
	require.EqualValues(t, 0x30001, le.Uint32(b[8:]), "line ends, compressed, markers")
	require.EqualValues(t, c.size/512, le.Uint64(b[12:]))
	require.Equal(t, ^uint64(0), le.Uint64(b[56:]), "the directory is at the end")
	require.EqualValues(t, 1, le.Uint16(b[77:]))
	grain := le.Uint64(b[20:]) * 512
	guest := make([]byte, up(uint64(c.size), grain))
	grains, tables := map[uint64]uint64{}, map[uint64]uint64{} // sector in the file by number
	var directory, footer uint64
	next, ended := int64(-1), false
	for at := le.Uint64(b[64:]) * 512; at < uint64(len(b)); {
		require.False(t, ended, "nothing comes behind the end")
		value, size := le.Uint64(b[at:]), uint64(le.Uint32(b[at+8:]))
		if size > 0 {
			require.Greater(t, int64(value), next, "grains come in guest order")
			next = int64(value)
			z, err := zlib.NewReader(bytes.NewReader(b[at+12 : at+12+size]))
			require.NoError(t, err)
			p, err := io.ReadAll(z)
			require.NoError(t, err)
			require.Len(t, p, int(grain))
			copy(guest[value*512:], p)
			grains[value*512/grain] = at / 512
			at = up(at+12+size, 512)
			continue
		}
		switch kind := le.Uint32(b[at+12:]); kind {
		case 1:
			require.EqualValues(t, 4, value)
			for i := range uint64(512) {
				if entry := uint64(le.Uint32(b[at+512+4*i:])); entry != 0 {
					number := uint64(next) * 512 / grain / 512 * 512
					require.Equal(t, grains[number+i], entry)
					tables[number/512] = at/512 + 1
				}
			}
		case 2:
			directory = at/512 + 1
			for number, sector := range tables {
				require.EqualValues(t, sector, le.Uint32(b[at+512+4*number:]))
			}
		case 3:
			footer = at + 512
		case 0:
			ended = true
		default:
			require.Fail(t, "a marker of a kind that does not exist", kind)
		}
		at += 512 + value*512
	}
	require.True(t, ended)
	require.EqualValues(t, len(b)-1024, footer, "the last sector but one")
	require.Equal(t, directory, le.Uint64(b[footer+56:]))
	require.Equal(t, b[:56], b[footer:footer+56])
	require.True(t, bytes.Equal(c.want(), guest[:c.size]))
}

// forward is a folder whose files can only be written from front to back, as a pipe is.
type forward struct{ storage.Folder }

func (f forward) Create(name string) (storage.File, error) {
	file, err := f.Folder.Create(name)
	return &forwardFile{File: file}, err
}

type forwardFile struct {
	storage.File
	end int64
}

func (f *forwardFile) WriteAt(p []byte, off int64) (int, error) {
	if off != f.end {
		return 0, fmt.Errorf("a write at %d, and the end is at %d", off, f.end)
	}
	f.end += int64(len(p))
	return f.File.WriteAt(p, off)
}

func (f *forwardFile) ReadAt([]byte, int64) (int, error) {
	return 0, fmt.Errorf("a pipe is not read back")
}

func TestStreamIsWrittenForward(t *testing.T) {
	l, c := row(t, "vmdk", "stream", disk.Options{}), scattered()
	folder := fresh(t)
	to := target(t, l, folder, c.size)
	to.Folder = forward{folder}
	w, err := l.format.Create(to)
	require.NoError(t, err)
	src := reopen(t, rows()[0], create(t, rows()[0], c))
	var meter transfer.Meter
	_, err = transfer.Transfer{Source: src, Destination: w, Meter: &meter}.Run(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	assert.Equal(t, fingerprintOf(t, src), fingerprintOf(t, reopen(t, l, folder)))
}

func TestDescriptorsOfSplitDisks(t *testing.T) {
	c := content{name: "split", size: 11 << 20, pieces: []piece{{3 << 20, noise(1, 4<<20)}}}
	for _, x := range []struct{ name, lines string }{
		{"flat", "RW 22528 FLAT \"disk-flat.vmdk\" 0\n"},
		{"split-flat", "RW 10240 FLAT \"disk-f001.vmdk\" 0\nRW 10240 FLAT \"disk-f002.vmdk\" 0\nRW 2048 FLAT \"disk-f003.vmdk\" 0\n"},
		{"split-sparse", "RW 10240 SPARSE \"disk-s001.vmdk\"\nRW 10240 SPARSE \"disk-s002.vmdk\"\nRW 2048 SPARSE \"disk-s003.vmdk\"\n"},
	} {
		o := disk.Options{Adapter: "scsi"}
		if x.name != "flat" {
			o.PieceSize = 5 << 20
		}
		l := row(t, "vmdk", x.name, o)
		folder := create(t, l, c)
		text := string(whole(t, folder, "disk.vmdk"))
		assert.Contains(t, text, "\n# Extent description\n"+x.lines+"\n")
		assert.Contains(t, text, "ddb.adapterType = \"lsilogic\"\n")
		assert.Contains(t, text, "ddb.geometry.heads = \"255\"\n")
		if x.name == "split-sparse" {
			continue
		}
		var guest []byte
		for _, name := range l.FileNames("disk.vmdk", c.size, o) {
			if name != "disk.vmdk" {
				guest = append(guest, whole(t, folder, name)...)
			}
		}
		assert.True(t, bytes.Equal(c.want(), guest), "the extents one behind the other are the disk")
	}
}

func TestDeltaByTheNote(t *testing.T) {
	l := row(t, "vmdk", "delta", disk.Options{})
	folder := create(t, l, scattered())
	b := whole(t, folder, "disk.vmdk")
	le := binary.LittleEndian
	require.EqualValues(t, 2, le.Uint32(b[4:]), "an entry can say zeros")
	require.EqualValues(t, 7, le.Uint32(b[8:]))
	base := whole(t, folder, "base.vmdk")[512:]
	cid := base[bytes.Index(base, []byte("CID="))+4:][:8]
	assert.Contains(
		t,
		string(b[512:21*512]),
		fmt.Sprintf("parentCID=%s\ncreateType=\"monolithicSparse\"\nparentFileNameHint=\"base.vmdk\"\n", cid),
	)
}
