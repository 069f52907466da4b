package all

import (
	"encoding/binary"
	"hash/crc32"
	"io"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/storage/local"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// These tests read what was written by the specifications alone, with none of the readers' code.

// written returns the file of an image with scattered content.
func written(t *testing.T, format, name string, c content) []byte {
	t.Helper()
	f, err := disk.Lookup(format)
	require.NoError(t, err)
	l, err := f.Layout(name)
	require.NoError(t, err)
	row := layout{format: f, Layout: l}
	return whole(t, create(t, row, c), row.fileName())
}

// whole reads a file.
func whole(t *testing.T, folder *local.Folder, name string) []byte {
	t.Helper()
	file, err := folder.Open(name)
	require.NoError(t, err)
	defer file.Close()
	size, err := file.Size()
	require.NoError(t, err)
	b := make([]byte, size)
	_, err = io.ReadFull(io.NewSectionReader(file, 0, size), b)
	require.NoError(t, err)
	return b
}

// want is the content as plain bytes.
func (c content) want() []byte {
	b := make([]byte, c.size)
	for _, p := range c.pieces {
		copy(b[p.off:], p.data)
	}
	return b
}

// scattered and runs are those contents.
func scattered() content { return contents()[2] }
func runs() content      { return contents()[4] }

func onesComplement(b []byte, field int) uint32 {
	var sum uint32
	for i, c := range b {
		if i < field || i >= field+4 {
			sum += uint32(c)
		}
	}
	return ^sum
}

func TestVHDByTheSpecification(t *testing.T) {
	for _, name := range []string{"dynamic", "fixed"} {
		c := scattered()
		b := written(t, "vhd", name, c)
		be := binary.BigEndian
		footer := b[len(b)-512:]
		require.Equal(t, "conectix", string(footer[:8]))
		require.Equal(t, onesComplement(footer, 64), be.Uint32(footer[64:]))
		require.EqualValues(t, 2, be.Uint32(footer[8:]), "features")
		require.EqualValues(t, 0x10000, be.Uint32(footer[12:]))
		require.EqualValues(t, c.size, be.Uint64(footer[40:]))
		require.EqualValues(t, c.size, be.Uint64(footer[48:]))
		require.Equal(t, []byte{1, 2, 3}, footer[68:71], "the identifier that was given")
		if name == "fixed" {
			require.EqualValues(t, 2, be.Uint32(footer[60:]))
			require.Equal(t, ^uint64(0), be.Uint64(footer[16:]))
			require.Len(t, b, int(c.size)+512)
			require.Equal(t, c.want(), b[:c.size])
			continue
		}
		require.EqualValues(t, 3, be.Uint32(footer[60:]))
		require.Equal(t, footer, b[:512], "the copy at the start")
		h := b[be.Uint64(footer[16:]):][:1024]
		require.Equal(t, "cxsparse", string(h[:8]))
		require.Equal(t, onesComplement(h, 36), be.Uint32(h[36:]))
		require.Equal(t, ^uint64(0), be.Uint64(h[8:]))
		table, count, block := be.Uint64(h[16:]), be.Uint32(h[28:]), uint64(be.Uint32(h[32:]))
		got := make([]byte, uint64(count)*block)
		last := uint64(0)
		for i := range uint64(count) {
			s := be.Uint32(b[table+4*i:])
			if s == 0xffffffff {
				continue
			}
			at := uint64(s) * 512
			for _, bits := range b[at : at+block/512/8] {
				require.EqualValues(t, 0xff, bits, "a bitmap is all ones")
			}
			require.Zero(t, (at+512)%4096, "data lies on 4 KiB")
			copy(got[i*block:], b[at+512:at+512+block])
			last = max(last, at+512+block)
		}
		require.Equal(t, c.want(), got[:c.size])
		require.EqualValues(t, len(b)-512, last, "the footer is right behind the last block, which is stored whole")
	}
}

// TestVHDSizesAreTheSameForAllReaders: those that go by the geometry and those that go by the current size.
func TestVHDSizesAreTheSameForAllReaders(t *testing.T) {
	for _, size := range []int64{512, 10_486_272, 10_514_432, 8 << 20, 256 << 20, 1<<30 + 512, 127 << 30, 136_899_993_600, 2040 << 30} {
		b := written(t, "vhd", "dynamic", content{size: size})
		footer := b[len(b)-512:]
		cylinders, heads, sectors := int64(binary.BigEndian.Uint16(footer[56:])), int64(footer[58]), int64(footer[59])
		byGeometry := cylinders * heads * sectors * 512
		if cylinders == 65535 && heads == 16 && sectors == 255 {
			byGeometry = size // the greatest geometry means: by the current size
		}
		assert.Equal(t, size, byGeometry, "%d/%d/%d", cylinders, heads, sectors)
	}
}

func TestVHDXByTheSpecification(t *testing.T) {
	castagnoli := crc32.MakeTable(crc32.Castagnoli)
	sealed := func(b []byte) bool {
		copied := append([]byte{}, b...)
		clear(copied[4:8])
		return crc32.Checksum(copied, castagnoli) == binary.LittleEndian.Uint32(b[4:])
	}
	for _, name := range []string{"dynamic", "fixed"} {
		c := scattered()
		b := written(t, "vhdx", name, c)
		le := binary.LittleEndian
		require.Equal(t, "vhdxfile", string(b[:8]))
		first, second := b[64<<10:][:4096], b[128<<10:][:4096]
		for _, h := range [][]byte{first, second} {
			require.Equal(t, "head", string(h[:4]))
			require.True(t, sealed(h))
			require.EqualValues(t, 1, le.Uint16(h[66:]))
			require.Equal(t, make([]byte, 16), h[48:64], "no log to replay")
			require.NotZero(t, le.Uint32(h[68:]))
		}
		require.NotEqual(t, le.Uint64(first[8:]), le.Uint64(second[8:]), "one is the current one")
		regions := b[192<<10:][:64<<10]
		require.True(t, sealed(regions))
		require.Equal(t, regions, b[256<<10:][:64<<10])
		require.EqualValues(t, 2, le.Uint32(regions[8:]))
		var meta, bat uint64
		for i := range 2 {
			e := regions[16+32*i:]
			if off := le.Uint64(e[16:]); le.Uint32(e) == 0x8b7ca206 {
				meta = off
			} else {
				require.EqualValues(t, 0x2dc27766, le.Uint32(e))
				bat = off
			}
			require.EqualValues(t, 1, le.Uint32(e[28:]), "required")
		}
		require.Equal(t, "metadata", string(b[meta:meta+8]))
		values := map[uint32][]byte{}
		for i := range int(le.Uint16(b[meta+10:])) {
			e := b[int(meta)+32+32*i:]
			require.GreaterOrEqual(t, le.Uint32(e[16:]), uint32(64<<10))
			values[le.Uint32(e)] = b[meta+uint64(le.Uint32(e[16:])):][:le.Uint32(e[20:])]
		}
		block := uint64(le.Uint32(values[0xcaa16737]))
		require.EqualValues(t, map[string]uint32{"dynamic": 0, "fixed": 1}[name], le.Uint32(values[0xcaa16737][4:]))
		require.EqualValues(t, c.size, le.Uint64(values[0x2fa54224]))
		require.EqualValues(t, 512, le.Uint32(values[0x8141bf1d]))
		require.EqualValues(t, 4096, le.Uint32(values[0xcda348c7]))
		ratio := (1 << 23) * 512 / block
		got := make([]byte, up(uint64(c.size), block))
		for i := range up(uint64(c.size), block) / block {
			entry := le.Uint64(b[bat+8*(i+i/ratio):])
			if entry&7 == 0 {
				require.Equal(t, "dynamic", name)
				continue
			}
			require.EqualValues(t, 6, entry&7)
			require.Zero(t, entry&0xffff8, "blocks lie on whole MiB")
			copy(got[i*block:], b[entry&^7:][:block])
		}
		require.Equal(t, c.want(), got[:c.size])
	}
}

func up(n, unit uint64) uint64 { return (n + unit - 1) / unit * unit }

func TestVDIByItsHeader(t *testing.T) {
	for _, name := range []string{"dynamic", "fixed"} {
		c := scattered()
		b := written(t, "vdi", name, c)
		le := binary.LittleEndian
		require.EqualValues(t, 0xbeda107f, le.Uint32(b[64:]))
		require.EqualValues(t, 0x00010001, le.Uint32(b[68:]))
		require.EqualValues(t, map[string]int{"dynamic": 1, "fixed": 2}[name], le.Uint32(b[76:]))
		table, data, block := le.Uint32(b[340:]), le.Uint32(b[344:]), le.Uint32(b[376:])
		require.EqualValues(t, c.size, le.Uint64(b[368:]))
		require.EqualValues(t, up(uint64(c.size), uint64(block))/uint64(block), le.Uint32(b[384:]))
		got := make([]byte, int(le.Uint32(b[384:]))*int(block))
		stored := uint32(0)
		for i := range le.Uint32(b[384:]) {
			if entry := le.Uint32(b[table+4*i:]); entry != 0xffffffff {
				stored++
				copy(got[int(i)*int(block):], b[int(data)+int(entry)*int(block):][:block])
			}
		}
		require.Equal(t, stored, le.Uint32(b[388:]))
		require.Equal(t, c.want(), got[:c.size])
	}
}

func TestVMDKByTheNote(t *testing.T) {
	c := scattered()
	b := written(t, "vmdk", "sparse", c)
	le := binary.LittleEndian
	require.Equal(t, "KDMV", string(b[:4]))
	require.EqualValues(t, 1, le.Uint32(b[4:]))
	require.EqualValues(t, 3, le.Uint32(b[8:]), "line ends, second directory")
	require.EqualValues(t, c.size/512, le.Uint64(b[12:]))
	require.Equal(t, "\n \r\n", string(b[73:77]))
	grain, entries := le.Uint64(b[20:])*512, uint64(le.Uint32(b[44:]))
	var disks [2][]byte
	for i, field := range []int{48, 56} {
		directory := le.Uint64(b[field:]) * 512
		disks[i] = make([]byte, up(uint64(c.size), grain))
		for g := range up(uint64(c.size), grain) / grain {
			table := uint64(le.Uint32(b[directory+4*(g/entries):])) * 512
			require.NotZero(t, table, "every table is there")
			if entry := uint64(le.Uint32(b[table+4*(g%entries):])); entry != 0 {
				require.GreaterOrEqual(t, entry, le.Uint64(b[64:]), "grains lie behind the overhead")
				copy(disks[i][g*grain:], b[entry*512:][:grain])
			}
		}
	}
	require.Equal(t, c.want(), disks[0][:c.size])
	require.Equal(t, disks[0], disks[1])
	text := string(b[le.Uint64(b[28:])*512:][:le.Uint64(b[36:])*512])
	text = strings.TrimRight(text, "\x00")
	assert.True(t, strings.HasPrefix(text, "# Disk DescriptorFile\nversion=1\nCID="))
	extent := regexp.MustCompile(`(?m)^RW (\d+) SPARSE "disk.vmdk"$`).FindStringSubmatch(text)
	require.NotNil(t, extent, text)
	assert.Equal(t, strconv.FormatInt(c.size/512, 10), extent[1])
	assert.Contains(t, text, "parentCID=ffffffff\ncreateType=\"monolithicSparse\"")
}
