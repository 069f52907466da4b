package standin

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"

	"bagaglio/core/disk"
)

// Facts of the format (qcow2.txt, "Header", "Refcounts", "L1 table").
const (
	atClusterBits = 20
	atL1          = 40
	atRefcounts   = 48
	atOrder       = 96
	order16       = 4 // counts of 16 bits
	entry         = 8 // length of one in a table
	placeMask     = 0x00fffffffffffe00
	alone         = 1 << 63 // nothing else uses the cluster
	otherwise     = 1<<62 | 1
)

var errForm = errors.New("this form of qcow2 is not written to")

// overlay is a qcow2 image that a guest writes to. A cluster that is not the image's own yet is copied to its end first.
type overlay struct {
	file    *os.File
	open    func() (disk.Reader, error) // what the guest sees
	cluster int64
	l1      int64
	counts  int64
}

func openOverlay(name string, open func() (disk.Reader, error)) (*overlay, error) {
	file, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	var head [104]byte
	if _, err := file.ReadAt(head[:], 0); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	be := binary.BigEndian
	if be.Uint32(head[4:]) != 3 || be.Uint32(head[atOrder:]) != order16 || be.Uint64(head[72:]) != 0 {
		return nil, errors.Join(fmt.Errorf("%s: %w", name, errForm), file.Close())
	}
	return &overlay{
		file: file, open: open, cluster: 1 << be.Uint32(head[atClusterBits:]),
		l1: int64(be.Uint64(head[atL1:])), counts: int64(be.Uint64(head[atRefcounts:])),
	}, nil
}

// Close closes the file.
func (o *overlay) Close() error { return o.file.Close() }

// WriteAt writes what a guest does.
func (o *overlay) WriteAt(b []byte, off int64) (n int, err error) {
	for len(b) > 0 {
		part := b[:min(int64(len(b)), o.cluster-off%o.cluster)]
		at, err := o.place(off)
		if err == nil {
			_, err = o.file.WriteAt(part, at)
		}
		if err != nil {
			return n, err
		}
		n, off, b = n+len(part), off+int64(len(part)), b[len(part):]
	}
	return n, nil
}

// place is where in the file the guest's bytes from off on lie, which the image has then.
func (o *overlay) place(off int64) (int64, error) {
	covers := o.cluster * o.cluster / entry
	l1 := o.l1 + off/covers*entry
	e, err := o.get(l1)
	if err != nil {
		return 0, err
	}
	table := int64(e & placeMask)
	if table == 0 {
		if table, err = o.take(make([]byte, o.cluster)); err != nil {
			return 0, err
		}
		if err := o.put(l1, uint64(table)|alone); err != nil {
			return 0, err
		}
	}
	l2 := table + off%covers/o.cluster*entry
	if e, err = o.get(l2); err != nil {
		return 0, err
	}
	if e&alone != 0 && e&otherwise == 0 {
		return int64(e&placeMask) + off%o.cluster, nil
	}
	content, err := o.seen(off - off%o.cluster)
	if err != nil {
		return 0, err
	}
	at, err := o.take(content)
	if err != nil {
		return 0, err
	}
	return at + off%o.cluster, o.put(l2, uint64(at)|alone)
}

// seen is what the guest sees of a cluster.
func (o *overlay) seen(off int64) ([]byte, error) {
	r, err := o.open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b := make([]byte, o.cluster)
	return b, disk.ReadFull(r, b[:min(o.cluster, r.Size()-off)], off)
}

// take puts a cluster at the end of the file, and counts it.
func (o *overlay) take(b []byte) (int64, error) {
	end, err := o.file.Seek(0, io.SeekEnd)
	if err != nil {
		return 0, err
	}
	at := (end + o.cluster - 1) / o.cluster * o.cluster
	if _, err := o.file.WriteAt(b, at); err != nil {
		return 0, err
	}
	return at, o.count(at / o.cluster)
}

// count notes that a cluster of the file is used once.
func (o *overlay) count(cluster int64) error {
	perBlock := o.cluster / 2
	slot := o.counts + cluster/perBlock*entry
	block, err := o.get(slot)
	if err == nil && block == 0 { // the table ends long behind what an overlay needs
		at, takeErr := o.take(make([]byte, o.cluster))
		if takeErr != nil {
			return takeErr
		}
		block, err = uint64(at), o.put(slot, uint64(at))
	}
	if err != nil {
		return err
	}
	_, err = o.file.WriteAt([]byte{0, 1}, int64(block)+cluster%perBlock*2)
	return err
}

func (o *overlay) get(at int64) (uint64, error) {
	var b [entry]byte
	_, err := o.file.ReadAt(b[:], at)
	return binary.BigEndian.Uint64(b[:]), err
}

func (o *overlay) put(at int64, e uint64) error {
	_, err := o.file.WriteAt(binary.BigEndian.AppendUint64(nil, e), at)
	return err
}
