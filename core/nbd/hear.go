package nbd

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"syscall"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// hear reads answers until there are none any more.
func (d *Disk) hear() {
	defer close(d.ended)
	for {
		if err := d.hearOne(); err != nil {
			d.end(err)
			d.failAll()
			return
		}
	}
}

// hearOne reads an answer, or a piece of one.
func (d *Disk) hearOne() error {
	var magic [4]byte
	if _, err := io.ReadFull(d.conn, magic[:]); err != nil {
		return err
	}
	switch m := binary.BigEndian.Uint32(magic[:]); m {
	case magicSimple:
		return d.hearSimple()
	case magicStructured:
		return d.hearChunk()
	default:
		return wrong("an answer begins with %#x", m)
	}
}

// of is the request of an answer. It stays until it is taken away.
func (d *Disk) of(cookie uint64) (*asked, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, ok := d.waiting[cookie]
	if !ok {
		return nil, wrong("it answers what nobody asked")
	}
	return a, nil
}

// finish lets go whoever waits for an answer.
func (d *Disk) finish(a *asked) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.waiting[a.cookie] == a {
		delete(d.waiting, a.cookie)
		close(a.done)
	}
}

func failed(a *asked, code uint32, text string) error {
	return fmt.Errorf("%w: the server says %d at %d%s", syscall.EIO, code, a.off, text)
}

func (d *Disk) hearSimple() error {
	var head [12]byte
	if _, err := io.ReadFull(d.conn, head[:]); err != nil {
		return err
	}
	a, err := d.of(binary.BigEndian.Uint64(head[4:]))
	if err != nil {
		return err
	}
	if d.structured && a.kind == cmdRead {
		return wrong("it answers a read in the old way")
	}
	if code := binary.BigEndian.Uint32(head[:]); code != 0 {
		a.err = failed(a, code, "")
	} else if _, err := io.ReadFull(d.conn, a.into); err != nil {
		return err
	}
	d.finish(a)
	return nil
}

// hearChunk reads a piece of a structured reply.
func (d *Disk) hearChunk() error {
	var head [16]byte
	if _, err := io.ReadFull(d.conn, head[:]); err != nil {
		return err
	}
	c := chunk{
		flags: binary.BigEndian.Uint16(head[:]), kind: binary.BigEndian.Uint16(head[2:]), cookie: binary.BigEndian.Uint64(head[4:]),
		len: binary.BigEndian.Uint32(head[12:]),
	}
	a, err := d.of(c.cookie)
	if err != nil {
		return err
	}
	if !d.structured {
		return wrong("it answers in a way that nobody asked for")
	}
	switch c.kind {
	case chunkNone:
		if c.len != 0 || c.flags&chunkDone == 0 {
			return wrong("an empty piece has %d bytes", c.len)
		}
	case chunkData, chunkHole:
		err = d.hearRange(a, c)
	case chunkStatus:
		err = d.hearStatus(a, c)
	default:
		err = d.hearError(a, c)
	}
	if err != nil || c.flags&chunkDone == 0 {
		return err
	}
	if a.kind == cmdRead && a.err == nil && !a.isWhole() {
		return wrong("it does not answer all of %d bytes once", len(a.into))
	}
	if a.kind == cmdBlockStatus && a.err == nil && len(a.runs) == 0 {
		return wrong("it tells nothing of the status of blocks")
	}
	d.finish(a)
	return nil
}

// isWhole tells whether all parts of a read came, each once.
func (a *asked) isWhole() bool {
	slices.SortFunc(a.parts, func(x, y disk.Extent) int { return cmp.Compare(x.Off, y.Off) })
	next := int64(a.off)
	for _, p := range a.parts {
		if p.Off != next {
			return false
		}
		next = p.End()
	}
	return next == int64(a.off)+int64(len(a.into))
}

// hearRange reads a part of a read, or that it is zeros. They come in any order.
func (d *Disk) hearRange(a *asked, c chunk) error {
	least := uint32(9)
	if c.kind == chunkHole {
		least = 12
	}
	if a.kind != cmdRead || c.len < least || c.kind == chunkHole && c.len != least {
		return wrong("a piece of %d bytes of the kind %d", c.len, c.kind)
	}
	var at [8]byte
	if _, err := io.ReadFull(d.conn, at[:]); err != nil {
		return err
	}
	n := c.len - 8
	if c.kind == chunkHole {
		var length [4]byte
		if _, err := io.ReadFull(d.conn, length[:]); err != nil {
			return err
		}
		n = binary.BigEndian.Uint32(length[:])
	}
	off := binary.BigEndian.Uint64(at[:])
	if end := a.off + uint64(len(a.into)); off < a.off || off >= end || n == 0 || uint64(n) > end-off || len(a.parts) == mostRuns {
		return wrong("%d bytes at %d are no part of what was asked for", n, off)
	}
	part := a.into[off-a.off : off-a.off+uint64(n)]
	a.parts = append(a.parts, disk.Extent{Off: int64(off), Len: int64(n)})
	if c.kind == chunkHole {
		clear(part)
		return nil
	}
	_, err := io.ReadFull(d.conn, part)
	return err
}

func (d *Disk) hearStatus(a *asked, c chunk) error {
	if a.kind != cmdBlockStatus || c.len < 12 || (c.len-4)%8 != 0 || (c.len-4)/8 > mostRuns || len(a.runs) > 0 {
		return wrong("the status of blocks has %d bytes", c.len)
	}
	b := make([]byte, c.len)
	if _, err := io.ReadFull(d.conn, b); err != nil {
		return err
	}
	off := int64(a.off)
	for b = b[4:]; len(b) > 0; b = b[8:] {
		n := int64(binary.BigEndian.Uint32(b))
		kind := disk.Data
		switch state := binary.BigEndian.Uint32(b[4:]); {
		case state&stateZero != 0 && state&stateHole != 0:
			kind = disk.Hole
		case state&stateZero != 0:
			kind = disk.Zero
		}
		n = min(n, d.size-off) // the last run may go beyond what was asked for, and is cut where the disk ends
		if n <= 0 {
			return wrong("a run of blocks has no length")
		}
		a.runs = append(a.runs, disk.Extent{Off: off, Len: n, Kind: kind})
		if off += n; off == d.size && len(b) > 8 {
			return wrong("runs of blocks behind the end of the disk")
		}
	}
	return nil
}

func (d *Disk) hearError(a *asked, c chunk) error {
	if c.kind != chunkError && c.kind != chunkErrorOffset || c.len < 6 || c.len > mostText {
		return wrong("a piece of the kind %#x with %d bytes", c.kind, c.len)
	}
	b := make([]byte, c.len)
	if _, err := io.ReadFull(d.conn, b); err != nil {
		return err
	}
	code, n := binary.BigEndian.Uint32(b), int(binary.BigEndian.Uint16(b[4:]))
	if code == 0 || n > len(b)-6 {
		return wrong("an error without a number, or with a text of %d bytes", n)
	}
	text := ""
	if n > 0 {
		text = ": " + storage.Printable(string(b[6:6+n]))
	}
	a.err = errors.Join(a.err, failed(a, code, text))
	return nil
}
