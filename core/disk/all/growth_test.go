package all

import (
	"encoding/binary"
	"testing"

	"bagaglio/core/disk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// freeFrom tells for the layouts that grow, by their specifications alone, from which offset of the file on a hypervisor takes the room
// for what the guest writes next: behind all tables, and behind all that is stored. footer is how long what may lie there is, which it
// writes anew behind.
var freeFrom = map[string]func(b []byte) (free, footer int64){
	"vhd": func(b []byte) (int64, int64) { // "Dynamic Disk Header Format", "Block Allocation Table and Data Blocks"
		be := binary.BigEndian
		table, entries, block := int64(be.Uint64(b[512+16:])), int64(be.Uint32(b[512+28:])), int64(be.Uint32(b[512+32:]))
		free := table + (4*entries+511)/512*512
		for i := range entries {
			if e := be.Uint32(b[table+4*i:]); e != 0xffffffff {
				free = max(free, int64(e)*512+(block/512/8+511)/512*512+block)
			}
		}
		return free, 512
	},
	"vdi": func(b []byte) (int64, int64) { // header, version 1.1: the next block has the number of those that are allocated
		le := binary.LittleEndian
		return int64(le.Uint32(b[0x158:])) + int64(le.Uint32(b[0x184:]))*int64(le.Uint32(b[0x178:])), 0
	},
	"vhdx": func(b []byte) (int64, int64) { // 3.5.1: a payload block lies on a whole MiB
		free := int64(4 << 20) // behind table and metadata, which lie in front of the first block
		le := binary.LittleEndian
		for at := int64(3 << 20); at < 4<<20; at += 8 {
			if e := le.Uint64(b[at:]); e&7 == 6 {
				free = max(free, int64(e>>20)<<20+1<<20)
			}
		}
		return free, 0
	},
	"vmdk": func(b []byte) (int64, int64) { // "Hosted Sparse Extents"
		le := binary.LittleEndian
		free, grain := int64(le.Uint64(b[64:]))*512, int64(le.Uint64(b[20:]))*512
		capacity, perTable := int64(le.Uint64(b[12:]))*512, int64(le.Uint32(b[44:]))
		for i := range (capacity + perTable*grain - 1) / (perTable * grain) {
			table := int64(le.Uint32(b[int64(le.Uint64(b[56:]))*512+4*i:])) * 512
			for j := range perTable {
				if e := int64(le.Uint32(b[table+4*j:])); e > 1 {
					free = max(free, e*512+grain)
				}
			}
		}
		return free, 0
	},
	"hdd": func(b []byte) (int64, int64) { // header of an expanding image, with entries that count clusters
		le := binary.LittleEndian
		free, cluster := int64(le.Uint32(b[48:]))*512, int64(le.Uint32(b[28:]))*512
		for i := range int64(le.Uint32(b[32:])) {
			if e := int64(le.Uint32(b[64+4*i:])); e != 0 {
				free = max(free, (e+1)*cluster)
			}
		}
		return free, 0
	},
	"qcow2": func(b []byte) (int64, int64) { // "Host cluster management": clusters without references
		be := binary.BigEndian
		cluster, order := int64(1)<<be.Uint32(b[20:]), uint32(4)
		if be.Uint32(b[4:]) == 3 {
			order = be.Uint32(b[96:])
		}
		table, perBlock := int64(be.Uint64(b[48:])), cluster*8>>order
		free := int64(0)
		for i := range (int64(len(b)) + cluster - 1) / cluster {
			block := int64(be.Uint64(b[table+8*(i/perBlock):]))
			if block != 0 && be.Uint16(b[block+2*(i%perBlock):]) != 0 {
				free = (i + 1) * cluster
			}
		}
		return free, 0
	},
}

// TestGrowthIsOntoNothing: where a hypervisor that makes an image grow puts the next block lies no byte that is not zero, so that the
// guest finds nothing in sectors that it never wrote.
func TestGrowthIsOntoNothing(t *testing.T) {
	for _, l := range rows() {
		where := freeFrom[l.format.Name]
		grows := !l.Thick && l.PieceSize(disk.Options{}) == 0 && l.Name != "stream" && l.Name != "flat"
		if where == nil || !grows {
			continue
		}
		for _, c := range []content{contents()[0], contents()[2], contents()[4], {name: "the last block", size: 9 << 20, pieces: []piece{{9<<20 - 512, noise(4, 512)}}}} {
			t.Run(l.String()+"/"+c.name, func(t *testing.T) {
				b := whole(t, create(t, l, c), l.fileName())
				free, footer := where(b)
				require.Positive(t, free)
				if footer > 0 {
					require.Equal(t, free+footer, int64(len(b)), "the footer begins where the first free bytes are")
					return
				}
				for _, x := range b[min(free, int64(len(b))):] {
					require.Zero(t, x, "behind offset %d of %d", free, len(b))
				}
				assert.LessOrEqual(t, int64(len(b)), free+(1<<20))
			})
		}
	}
}
