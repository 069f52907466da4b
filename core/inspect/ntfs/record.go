package ntfs

import (
	"unicode/utf16"

	"bagaglio/core/disk"
)

// Facts of records of the table ("File Record").
const (
	recordMark               = "FILE"
	atFixups, atFixupCount   = 4, 6
	atFirstAttribute, atFlag = 20, 22
	atBaseRecord             = 32
	inUse, isFolder          = 0x1, 0x2
	numberMask               = 1<<48 - 1 // of a reference, above which is how often the record was used
)

// Kinds of attributes.
const (
	ofStandard = 0x10
	ofList     = 0x20
	ofName     = 0x30
	ofLabel    = 0x60
	ofVolume   = 0x70
	ofData     = 0x80
	ofRoot     = 0x90
	ofIndex    = 0xa0
	ofReparse  = 0xc0
	ofEnd      = 0xffffffff
)

// Flags of attributes.
const (
	isCompressed = 0x0001
	isEncrypted  = 0x4000
)

// Bounds of what is followed: attributes of a file, records that a list of them names, and runs of a stream.
const (
	maxAttributes = 16 << 10
	maxList       = 4 << 20
	maxRuns       = 8 << 20
)

// run are clusters of a stream: at is the first one, below zero for one that is not stored.
type run struct{ count, at int64 }

// attribute is one, or a part of one whose runs are in several records.
type attribute struct {
	kind  uint32
	flags uint16
	name  string
	// value is that of one that lies in the record, nil for any other.
	value []byte
	// Of any other: the first cluster that its runs are of, and sizes in bytes.
	first             int64
	size, initialised int64
	runs              []run
}

// fixed puts back the two bytes at the end of each sector that a record or block of an index has elsewhere while it is stored.
func fixed(b []byte) error {
	const sector = 512
	at, n := int(le.Uint16(b[atFixups:])), int(le.Uint16(b[atFixupCount:]))
	if n < 2 || n-1 > len(b)/sector || at+2*n > len(b) {
		return disk.Damaged("a record with %d fixups", n)
	}
	for i := 1; i < n; i++ {
		end := i*sector - 2
		if b[end] != b[at] || b[end+1] != b[at+1] {
			return disk.Damaged("a record that was written in part")
		}
		b[end], b[end+1] = b[at+2*i], b[at+2*i+1]
	}
	return nil
}

// raw reads a record.
func (v *volume) raw(number uint64) ([]byte, error) {
	if number >= uint64(v.records) {
		return nil, disk.Damaged("record %d of %d", number, v.records)
	}
	b := make([]byte, v.record)
	if err := v.readRuns(b, v.table, int64(number)*v.record); err != nil {
		return nil, err
	}
	if string(b[:4]) != recordMark {
		return nil, disk.Damaged("record %d has no mark", number)
	}
	return b, fixed(b)
}

// attributes returns all of a file, also those in other records.
func (v *volume) attributes(number uint64) ([]attribute, error) {
	b, err := v.raw(number)
	if err != nil {
		return nil, err
	}
	if le.Uint16(b[atFlag:])&inUse == 0 {
		return nil, disk.Damaged("record %d is not in use", number)
	}
	all, err := v.parse(b, nil)
	if err != nil {
		return nil, err
	}
	for _, a := range all {
		if a.kind == ofList {
			return v.listed(number, all, a)
		}
	}
	return all, nil
}

// listed adds the attributes of the records that a list names.
func (v *volume) listed(number uint64, all []attribute, list attribute) ([]attribute, error) {
	b := list.value
	if b == nil {
		if list.size > maxList {
			return nil, disk.Damaged("a list of attributes of %d bytes", list.size)
		}
		b = make([]byte, list.size)
		if err := v.readRuns(b, list.runs, 0); err != nil {
			return nil, err
		}
	}
	seen := map[uint64]bool{number: true}
	for len(b) >= 26 {
		length := int(le.Uint16(b[4:]))
		other := le.Uint64(b[16:]) & numberMask
		if length < 26 || length > len(b) {
			return nil, disk.Damaged("a list of attributes with an entry of %d bytes", length)
		}
		b = b[length:]
		if seen[other] {
			continue
		}
		seen[other] = true
		more, err := v.raw(other)
		if err == nil && le.Uint64(more[atBaseRecord:])&numberMask != number {
			err = disk.Damaged("record %d is not one of %d", other, number)
		}
		if err == nil {
			all, err = v.parse(more, all)
		}
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// parse adds the attributes of a record.
func (v *volume) parse(b []byte, all []attribute) ([]attribute, error) {
	for at := int(le.Uint16(b[atFirstAttribute:])); at+16 <= len(b); {
		a := b[at:]
		kind, length := le.Uint32(a), int(le.Uint32(a[4:]))
		if kind == ofEnd {
			return all, nil
		}
		if length < 24 || length > len(a) || len(all) >= maxAttributes {
			return nil, disk.Damaged("an attribute of %d bytes", length)
		}
		parsed, err := v.attribute(a[:length])
		if err != nil {
			return nil, err
		}
		all = append(all, parsed)
		at += length
	}
	return all, nil
}

// attribute reads one ("Attribute Header").
func (v *volume) attribute(a []byte) (out attribute, err error) {
	out = attribute{kind: le.Uint32(a), flags: le.Uint16(a[12:])}
	nameLen, nameAt := int(a[9]), int(le.Uint16(a[10:]))
	if nameLen > 0 {
		if nameAt+2*nameLen > len(a) {
			return out, disk.Damaged("the name of an attribute")
		}
		out.name = text16(a[nameAt : nameAt+2*nameLen])
	}
	if a[8] == 0 { // in the record
		n, at := int(le.Uint32(a[16:])), int(le.Uint16(a[20:]))
		if n < 0 || at > len(a) || n > len(a)-at {
			return out, disk.Damaged("the value of an attribute")
		}
		out.value, out.size, out.initialised = a[at:at+n:at+n], int64(n), int64(n)
		return out, nil
	}
	if len(a) < 64 {
		return out, disk.Damaged("an attribute of %d bytes", len(a))
	}
	out.first, out.size, out.initialised = int64(le.Uint64(a[16:])), int64(le.Uint64(a[48:])), int64(le.Uint64(a[56:]))
	at := int(le.Uint16(a[32:]))
	if at > len(a) || out.size < 0 || out.first < 0 {
		return out, disk.Damaged("the runs of an attribute")
	}
	out.runs, err = v.runs(a[at:])
	return out, err
}

// runs reads a list of them ("Data Runs"): for each, how long its two numbers are, its length, and how far it lies from the one before.
func (v *volume) runs(b []byte) (all []run, err error) {
	var at, total int64
	for len(b) > 0 && b[0] != 0 {
		lengthBytes, offsetBytes := int(b[0]&15), int(b[0]>>4)
		if lengthBytes == 0 || lengthBytes > 8 || offsetBytes > 8 || 1+lengthBytes+offsetBytes > len(b) {
			return nil, disk.Damaged("a run of %d and %d bytes", lengthBytes, offsetBytes)
		}
		count := signed(b[1 : 1+lengthBytes])
		r := run{count, -1}
		if offsetBytes > 0 {
			at += signed(b[1+lengthBytes : 1+lengthBytes+offsetBytes])
			r.at = at
		}
		total += count
		if count <= 0 || total > 1<<48 || r.at >= 0 && r.at > v.clusters-count || offsetBytes > 0 && at < 0 || len(all) >= maxRuns {
			return nil, disk.Damaged("a run of %d clusters at %d of %d", count, at, v.clusters)
		}
		all = append(all, r)
		b = b[1+lengthBytes+offsetBytes:]
	}
	return all, nil
}

// signed reads a number of up to eight bytes.
func signed(b []byte) (n int64) {
	for i := len(b) - 1; i >= 0; i-- {
		n = n<<8 | int64(b[i])
	}
	shift := 64 - 8*len(b)
	return n << shift >> shift
}

// text16 is text in UTF-16.
func text16(b []byte) string {
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = le.Uint16(b[2*i:])
	}
	return string(utf16.Decode(units))
}

// stream joins the parts of an attribute of a kind and name. It fails with disk.ErrDamaged where there is none.
func (v *volume) stream(all []attribute, kind uint32, name string) (out attribute, err error) {
	found, next := false, int64(0)
	for {
		more := false
		for _, a := range all {
			if a.kind != kind || a.name != name {
				continue
			}
			if a.value != nil {
				return a, nil
			}
			if a.first != next || found && len(a.runs) == 0 {
				continue
			}
			if !found {
				out, found = a, true
				out.runs = nil
			}
			out.runs = append(out.runs, a.runs...)
			for _, r := range a.runs {
				next += r.count
			}
			more = len(a.runs) > 0
		}
		if !more {
			break
		}
	}
	switch {
	case !found:
		return out, disk.Damaged("it has no attribute %#x", kind)
	case next*v.cluster < out.size:
		return out, disk.Damaged("an attribute has %d clusters for %d bytes", next, out.size)
	}
	return out, nil
}

// readStream reads a part of a stream.
func (v *volume) readStream(b []byte, a attribute, off int64) error {
	if a.value == nil {
		return v.readRuns(b, a.runs, off)
	}
	if off < 0 || off > int64(len(a.value)-len(b)) {
		return disk.Damaged("a stream of %d bytes", len(a.value))
	}
	copy(b, a.value[off:])
	return nil
}

// readRuns reads what lies in runs. What is in none is zeros.
func (v *volume) readRuns(b []byte, runs []run, off int64) error {
	var start int64
	for _, r := range runs {
		end := start + r.count*v.cluster
		for len(b) > 0 && off < end {
			n := min(int64(len(b)), end-off)
			if r.at < 0 {
				clear(b[:n])
			} else if _, err := v.r.ReadAt(b[:n], r.at*v.cluster+off-start); err != nil {
				return err
			}
			b, off = b[n:], off+n
		}
		if start = end; len(b) == 0 {
			return nil
		}
	}
	return disk.Damaged("something lies behind the end of a stream")
}
