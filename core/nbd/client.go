package nbd

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

const (
	// answerIn is for how long an answer may take, and mostAsked how much one request asks for, in bytes.
	answerIn  = time.Minute
	mostAsked = 1 << 20
	// mostStatus is of how much of the disk one request asks the status, in bytes, and mostRuns how many runs an answer has.
	mostStatus = 1 << 31
	mostRuns   = 1 << 16
	// mostText bounds an error in words, in bytes.
	mostText = 4096
)

// Disk is the disk of an export, which is read over a connection. It is safe for concurrent use.
type Disk struct {
	conn               net.Conn
	size               int64
	name               string
	structured, status bool

	writing sync.Mutex

	mu      sync.Mutex
	cookie  uint64
	waiting map[uint64]*asked
	err     error // why nothing is answered any more
	known   []disk.Extent

	ended chan struct{}
}

// asked is a request that is not answered yet.
type asked struct {
	request
	into  []byte        // of a read
	parts []disk.Extent // of it that came
	runs  []disk.Extent
	err   error
	done  chan struct{}
}

// Connect opens an export over a connection, which is the Disk's from then on. With a configuration for TLS it is encrypted before anything is asked.
func Connect(ctx context.Context, conn net.Conn, name string, encrypt *tls.Config) (*Disk, error) {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	d := &Disk{conn: conn, name: name, waiting: map[uint64]*asked{}, ended: make(chan struct{})}
	if err := conn.SetDeadline(time.Now().Add(shakeIn)); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	err := d.shake(encrypt)
	if err == nil && !stop() {
		err = context.Cause(ctx)
	}
	if err == nil {
		err = d.conn.SetDeadline(time.Time{})
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("opening the export %q: %w", name, err), conn.Close())
	}
	go d.hear()
	return d, nil
}

// shake shakes hands, and opens the export.
func (d *Disk) shake(encrypt *tls.Config) error {
	var hello [18]byte
	if _, err := io.ReadFull(d.conn, hello[:]); err != nil {
		return err
	}
	if binary.BigEndian.Uint64(hello[:]) != magicHello || binary.BigEndian.Uint64(hello[8:]) != magicOption {
		return wrong("it begins with %x", hello)
	}
	f := binary.BigEndian.Uint16(hello[16:])
	if f&fixedNewstyle == 0 {
		return wrong("it has only the old handshake")
	}
	if _, err := d.conn.Write(binary.BigEndian.AppendUint32(nil, uint32(f&(fixedNewstyle|noZeroes)))); err != nil {
		return err
	}
	if encrypt != nil {
		if kind, _, err := d.option(optStartTLS, nil, nil); err != nil || kind != repAck {
			return errors.Join(err, refusal("does not encrypt", kind))
		}
		conn := tls.Client(d.conn, encrypt)
		if err := conn.Handshake(); err != nil {
			return err
		}
		d.conn = conn
	}
	kind, _, err := d.option(optStructured, nil, nil)
	if err != nil {
		return err
	}
	d.structured = kind == repAck
	if d.structured {
		query := binary.BigEndian.AppendUint32(withLength(d.name), 1)
		kind, _, err := d.option(optSetMeta, append(query, withLength(allocation)...), func(kind uint32, data []byte) error {
			if kind == repMeta && len(data) > 4 && string(data[4:]) == allocation {
				d.status = true
			}
			return nil
		})
		if err != nil {
			return err
		}
		d.status = d.status && kind == repAck
	}
	d.size = -1
	kind, text, err := d.option(optGo, binary.BigEndian.AppendUint16(withLength(d.name), 0), func(kind uint32, data []byte) error {
		if kind != repInfo || len(data) < 2 || binary.BigEndian.Uint16(data) != infoExport {
			return nil
		}
		if len(data) != 12 {
			return wrong("what it tells of the export has %d bytes", len(data))
		}
		size := binary.BigEndian.Uint64(data[2:])
		if size > 1<<62 {
			return wrong("the export has %d bytes", size)
		}
		d.size = int64(size)
		return nil
	})
	switch {
	case err != nil:
		return err
	case kind != repAck:
		return refusal("refuses: "+storage.Printable(string(text[:min(len(text), mostText)])), kind)
	case d.size < 0:
		return wrong("it does not tell how large the export is")
	}
	return nil
}

// refusal is the error for what the server does not do.
func refusal(what string, kind uint32) error { return fmt.Errorf("the server %s (%#x)", what, kind) }

func withLength(text string) []byte {
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(text))), text...)
}

// mostAnswers bounds the answers to one option.
const mostAnswers = 1000

// option sends an option, and returns the last answer: a confirmation or an error. each gets those before it.
func (d *Disk) option(kind uint32, data []byte, each func(kind uint32, data []byte) error) (uint32, []byte, error) {
	b := binary.BigEndian.AppendUint64(nil, magicOption)
	b = binary.BigEndian.AppendUint32(b, kind)
	b = binary.BigEndian.AppendUint32(b, uint32(len(data)))
	if _, err := d.conn.Write(append(b, data...)); err != nil {
		return 0, nil, err
	}
	for range mostAnswers {
		var head [20]byte
		if _, err := io.ReadFull(d.conn, head[:]); err != nil {
			return 0, nil, err
		}
		n := binary.BigEndian.Uint32(head[16:])
		if binary.BigEndian.Uint64(head[:]) != magicAnswer || binary.BigEndian.Uint32(head[8:]) != kind || n > maxOption {
			return 0, nil, wrong("an answer to an option is %x", head)
		}
		told := make([]byte, n)
		if _, err := io.ReadFull(d.conn, told); err != nil {
			return 0, nil, err
		}
		answer := binary.BigEndian.Uint32(head[12:])
		if answer == repAck || answer&repError != 0 {
			return answer, told, nil
		}
		if each != nil {
			if err := each(answer, told); err != nil {
				return 0, nil, err
			}
		}
	}
	return 0, nil, wrong("it answers an option for ever")
}

// Size is the virtual size in bytes.
func (d *Disk) Size() int64 { return d.size }

// Describe tells what is known of the disk, which is not much.
func (d *Disk) Describe() disk.Description {
	return disk.Description{
		Format: "raw", Layout: "thin", VirtualSize: d.size, Files: []string{}, Chain: []string{}, Snapshots: []string{}, Warnings: []string{},
	}
}

// ReadAt reads a range, in several requests at once where it is long.
func (d *Disk) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 || off > d.size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), d.size-off)]
	var all []*asked
	for at := 0; at < len(want); at += mostAsked {
		part := want[at:min(len(want), at+mostAsked)]
		a, err := d.ask(request{kind: cmdRead, off: uint64(off) + uint64(at), len: uint32(len(part))}, part)
		if err != nil {
			return n, err
		}
		all = append(all, a)
	}
	for _, a := range all {
		if err := d.await(a); err != nil {
			return n, err
		}
		n += len(a.into)
	}
	if n < len(p) {
		err = io.EOF
	}
	return n, err
}

// Extent returns the run at off. Where the server does not tell what is stored, all is.
func (d *Disk) Extent(off int64) (disk.Extent, error) {
	if off < 0 || off >= d.size {
		return disk.Extent{}, fmt.Errorf("there is nothing at %d of %d bytes", off, d.size)
	}
	if !d.status {
		return disk.Extent{Off: off, Len: d.size - off, Kind: disk.Data}, nil
	}
	if e, ok := d.recall(off); ok {
		return e, nil
	}
	a, err := d.ask(request{kind: cmdBlockStatus, off: uint64(off), len: uint32(min(d.size-off, mostStatus))}, nil)
	if err == nil {
		err = d.await(a)
	}
	if err != nil {
		return disk.Extent{}, err
	}
	d.mu.Lock()
	d.known = a.runs
	d.mu.Unlock()
	e, _ := d.recall(off)
	return e, nil
}

// recall finds a run in the last answer.
func (d *Disk) recall(off int64) (disk.Extent, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range d.known {
		if e.Off <= off && off < e.End() {
			return disk.Extent{Off: off, Len: e.End() - off, Kind: e.Kind}, true
		}
	}
	return disk.Extent{}, false
}

// ask sends a request.
func (d *Disk) ask(q request, into []byte) (*asked, error) {
	a := &asked{request: q, into: into, done: make(chan struct{})}
	d.mu.Lock()
	if d.err != nil {
		defer d.mu.Unlock()
		return nil, d.err
	}
	d.cookie++
	a.cookie = d.cookie
	d.waiting[a.cookie] = a
	d.mu.Unlock()
	d.writing.Lock()
	defer d.writing.Unlock()
	err := d.conn.SetWriteDeadline(time.Now().Add(answerIn))
	if err == nil {
		_, err = d.conn.Write(a.bytes())
	}
	if err != nil {
		d.end(err)
	}
	return a, nil
}

// errStalls is the error for a server that does not answer.
var errStalls = fmt.Errorf("the server has not answered for %s: %w", answerIn, storage.ErrLost)

func (d *Disk) await(a *asked) error {
	select {
	case <-a.done:
	case <-time.After(answerIn):
		d.end(errStalls)
		<-a.done
	}
	return a.err
}

// end has all that waits fail, once nothing is heard any more, and everything that comes.
func (d *Disk) end(err error) {
	_ = d.conn.Close()
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.err == nil {
		d.err = fmt.Errorf("reading from the export %q: %w", d.name, errors.Join(err, storage.ErrLost))
	}
}

// failAll fails all that waits.
func (d *Disk) failAll() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for cookie, a := range d.waiting {
		a.err = d.err
		close(a.done)
		delete(d.waiting, cookie)
	}
}

// Close takes its leave, and closes the connection.
func (d *Disk) Close() error {
	d.writing.Lock()
	_ = d.conn.SetWriteDeadline(time.Now().Add(time.Second))
	_, _ = d.conn.Write(request{kind: cmdDisconnect}.bytes()) // it may be gone
	d.writing.Unlock()
	d.end(net.ErrClosed)
	<-d.ended
	return nil
}
