package sftp

import (
	"bufio"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/core/storage"

	"github.com/klauspost/compress/zstd"
)

// packing is a disk of the host whose content comes as it is, or packed by the host's own tools: whichever is faster, which is tried out from time to time.
type packing struct {
	storage.File
	client *client
	path   string
	size   int64
	run    string        // what stands before dd: sudo, where the login needs it
	next   atomic.Uint32 // which wire has its turn
	pace   pace
}

// asItComes returns a disk that may be packed on its way.
func (c *client) asItComes(f storage.File, path string, size int64, run string) *packing {
	return &packing{File: f, client: c, path: path, size: size, run: run, pace: pace{now: time.Now}}
}

// ReadAt reads. What cannot be packed comes as it is.
func (d *packing) ReadAt(p []byte, off int64) (int, error) {
	if len(p) < smallPart || off < 0 || off > d.size-int64(len(p)) {
		return d.File.ReadAt(p, off)
	}
	if d.pace.packs() {
		err := d.unpack(p, off)
		if err == nil {
			d.pace.came(len(p))
			return len(p), nil
		}
		if errors.Is(err, storage.ErrLost) {
			return 0, err
		}
		d.pace.never() // the host has no program for that, or cannot read: the other way says more
	}
	n, err := d.File.ReadAt(p, off)
	d.pace.came(n)
	return n, err
}

// packs has the host read a part of a disk and pack it, by zstd(1) where it has that.
const packs = `PATH=$PATH:/usr/sbin:/sbin; %s dd if=%s bs=1M iflag=skip_bytes,count_bytes skip=%d count=%d status=none |
if command -v zstd >/dev/null 2>&1; then exec zstd -q -1 -c; else exec gzip -1 -c; fi`

// unpack reads a part that is packed on its way.
func (d *packing) unpack(p []byte, off int64) error {
	wires := d.client.wires
	session, err := newSession(wires[int(d.next.Add(1))%len(wires)])
	if err != nil {
		return err
	}
	defer session.Close()
	out, err := session.StdoutPipe()
	if err != nil {
		return err
	}
	if err := session.Start(fmt.Sprintf(packs, d.run, quote(d.path), off, len(p))); err != nil {
		return plain(err)
	}
	if err := unpacked(bufio.NewReaderSize(out, 64<<10), p); err != nil {
		return err // and whoever packs is not waited for, who may still have something to say
	}
	return plain(session.Wait())
}

// unpacked fills p with what is packed in r, which holds no more and no less.
func unpacked(r *bufio.Reader, p []byte) error {
	magic, err := r.Peek(2)
	if err != nil {
		return fmt.Errorf("nothing came packed: %w", err)
	}
	var z io.Reader
	if magic[0] == 0x1f && magic[1] == 0x8b {
		z, err = gzip.NewReader(r)
	} else {
		var d *zstd.Decoder
		if d, err = zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20)); err == nil {
			defer d.Close()
			z = d
		}
	}
	if err == nil {
		_, err = io.ReadFull(z, p)
	}
	if err != nil {
		return fmt.Errorf("unpacking what came: %w", err)
	}
	if n, err := z.Read(make([]byte, 1)); n > 0 || !errors.Is(err, io.EOF) {
		return errors.New("more came than was asked for")
	}
	return nil
}

// How much comes in one way before the other one is tried, and before both are tried again, in bytes.
const (
	tried = 16 << 20
	kept  = 1 << 30
)

// pace tells which of two ways is faster.
type pace struct {
	now func() time.Time

	mu     sync.Mutex
	packed bool // the way that is gone
	only   bool // there is no other way
	chosen bool // both were tried
	began  time.Time
	bytes  int64
	plain  float64 // bytes a second, of the way that is not packed
}

// packs tells which way the next part comes.
func (p *pace) packs() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.began.IsZero() {
		p.began = p.now()
	}
	return p.packed
}

// never has nothing packed any more.
func (p *pace) never() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.only, p.packed = true, false
}

// came counts what came, and changes the way when it is time.
func (p *pace) came(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.bytes += int64(n)
	switch {
	case p.only:
		return
	case p.bytes < tried, p.chosen && p.bytes < kept:
		return
	}
	rate := float64(p.bytes) / max(p.now().Sub(p.began).Seconds(), 1e-9)
	switch {
	case p.chosen: // both are tried again
		p.chosen, p.packed = false, false
	case !p.packed:
		p.plain, p.packed = rate, true
	default:
		p.chosen, p.packed = true, rate > p.plain
	}
	p.bytes, p.began = 0, p.now()
}
