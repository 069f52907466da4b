// Package ntfs reads NTFS (as the documentation of the free driver for it has the structures of versions 3.0 and 3.1).
package ntfs

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/inspect"
	"bagaglio/core/storage"
)

func init() { inspect.Register(open, "ntfs") }

// Facts of the boot sector.
const (
	atSector, atCluster, atSectors = 11, 13, 40
	atTable, atRecord              = 48, 64

	maxCluster = 2 << 20
)

// Numbers of records that every filesystem has.
const (
	tableRecord  = 0
	volumeRecord = 3
	rootRecord   = 5
	mapRecord    = 6
	firstUser    = 16
)

// isDirty is a bit of the flags of a volume: it was not unmounted.
const isDirty = 0x1

// volume is an open filesystem.
type volume struct {
	r               io.ReaderAt
	size            int64 // of the range that it lies in
	cluster, record int64 // bytes
	clusters        int64
	table           []run // where the table of records lies
	records         int64
}

var le = binary.LittleEndian

// open reads the boot sector, and where the table of records lies.
func open(r io.ReaderAt, size int64) (inspect.Nodes, error) {
	b := make([]byte, 512)
	if _, err := r.ReadAt(b, 0); err != nil {
		return nil, err
	}
	sector := int64(le.Uint16(b[atSector:]))
	v := &volume{r: r, size: size, cluster: sector * int64(b[atCluster])}
	if b[atCluster] > 0x80 { // a power of two, negative
		v.cluster = sector << (256 - int(b[atCluster]))
	}
	if sector < 256 || sector > 4096 || sector&(sector-1) != 0 || v.cluster < 512 || v.cluster > maxCluster || v.cluster&(v.cluster-1) != 0 {
		return nil, disk.Damaged("sectors of %d bytes, clusters of %d", sector, v.cluster)
	}
	sectors := int64(le.Uint64(b[atSectors:]))
	if sectors <= 0 || sectors > size/sector {
		return nil, disk.Damaged("it has %d sectors in %d bytes", sectors, size)
	}
	v.clusters = sectors * sector / v.cluster
	if n := int8(b[atRecord]); n > 0 {
		v.record = int64(n) * v.cluster
	} else if n >= -16 {
		v.record = 1 << -n
	}
	if v.record < 512 || v.record > 64<<10 {
		return nil, disk.Damaged("records of %d bytes", v.record)
	}
	at := int64(le.Uint64(b[atTable:]))
	if at < 0 || at >= v.clusters {
		return nil, disk.Damaged("its table of records lies at cluster %d of %d", at, v.clusters)
	}
	v.table, v.records = []run{{count: (v.record + v.cluster - 1) / v.cluster, at: at}}, 1
	attrs, err := v.attributes(tableRecord)
	if err != nil {
		return nil, fmt.Errorf("its table of records: %w", err)
	}
	data, err := v.stream(attrs, ofData, "")
	if err != nil {
		return nil, fmt.Errorf("its table of records: %w", err)
	}
	v.table, v.records = data.runs, data.size/v.record
	return v, nil
}

// About says how full it is. Its map is the truth only when it was unmounted, and no system that sleeps has it.
func (v *volume) About() inspect.About {
	a := inspect.About{Size: v.clusters * v.cluster}
	err := v.Used(context.Background(), func(r fingerprint.Range) error { a.Used += r.Length; return nil })
	dirty, dirtyErr := v.dirty()
	played, playedErr := v.played()
	asleep, asleepErr := v.asleep()
	switch err := errors.Join(err, dirtyErr, playedErr, asleepErr); {
	case err != nil:
		a.Doubt = err.Error()
	case dirty || !played:
		a.Doubt = "it was not unmounted"
	case asleep:
		a.Doubt = "the system on it is hibernated, or was shut down for a fast start"
	}
	return a
}

// Label is what people called it.
func (v *volume) Label() string {
	attrs, err := v.attributes(volumeRecord)
	if err != nil {
		return ""
	}
	for _, a := range attrs {
		if a.kind == ofLabel {
			return storage.Printable(text16(a.value))
		}
	}
	return ""
}

func (v *volume) dirty() (bool, error) {
	attrs, err := v.attributes(volumeRecord)
	if err != nil {
		return false, err
	}
	for _, a := range attrs {
		if a.kind == ofVolume && len(a.value) >= 12 {
			return le.Uint16(a.value[10:])&isDirty != 0, nil
		}
	}
	return false, disk.Damaged("nothing is said of the volume")
}

// asleep tells whether there is memory of a system to go on with.
func (v *volume) asleep() (bool, error) {
	all, err := v.List(rootRecord)
	if err != nil {
		return false, err
	}
	for _, e := range all {
		if !strings.EqualFold(e.Name, "hiberfil.sys") {
			continue
		}
		attrs, err := v.attributes(e.Node)
		if err != nil {
			return false, err
		}
		data, err := v.stream(attrs, ofData, "")
		if err != nil || data.size < 4 || len(data.runs) == 0 {
			return false, err
		}
		b := make([]byte, 4)
		if err := v.readRuns(b, data.runs, 0); err != nil {
			return false, err
		}
		return strings.EqualFold(string(b), "hibr"), nil
	}
	return false, nil
}

// Used tells what its map has, and its boot sectors, of which the copy lies behind the last cluster.
func (v *volume) Used(ctx context.Context, each func(fingerprint.Range) error) error {
	attrs, err := v.attributes(mapRecord)
	if err != nil {
		return fmt.Errorf("its map: %w", err)
	}
	bitmap, err := v.stream(attrs, ofData, "")
	if err != nil {
		return fmt.Errorf("its map: %w", err)
	}
	if bitmap.size < (v.clusters+7)/8 {
		return disk.Damaged("its map has %d bytes for %d clusters", bitmap.size, v.clusters)
	}
	runs := inspect.NewRuns(each)
	if err := runs.Add(0, v.cluster); err != nil {
		return err
	}
	buffer := make([]byte, 64<<10)
	for first := int64(0); first < v.clusters; first += int64(len(buffer)) * 8 {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		part := buffer[:min(int64(len(buffer)), (v.clusters-first+7)/8)]
		if err := v.readStream(part, bitmap, first/8); err != nil {
			return fmt.Errorf("its map: %w", err)
		}
		for i, used := range part {
			for bit := int64(0); used != 0 && bit < 8; bit++ {
				c := first + int64(i)*8 + bit
				if used&(1<<bit) == 0 || c >= v.clusters {
					continue
				}
				if err := runs.Add(c*v.cluster, v.cluster); err != nil {
					return err
				}
			}
		}
	}
	if end := v.clusters * v.cluster; end < v.size { // the copy of the boot sector, and what rounds it up
		if err := runs.Add(end, min(v.size-end, v.cluster)); err != nil {
			return err
		}
	}
	return runs.Flush()
}
