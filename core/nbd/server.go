package nbd

import (
	"cmp"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/core/disk"
)

const (
	// Clients is how many connections a server has at once, where nothing else is said.
	Clients = 64
	// atOnce is how many requests of one connection are worked on, and piece how much of the disk each has in memory, in bytes.
	atOnce = 4
	piece  = 256 << 10
	// shakeIn is for how long a handshake may last, and takeIn for how long a client may take to take a piece of an answer.
	shakeIn = 15 * time.Second
	takeIn  = 30 * time.Second
	// mostStates bounds how many runs the answer about the status of blocks has.
	mostStates = 4096
)

// ExportName is what the disk of a server is called, unless it is said otherwise.
const ExportName = "disk"

// Server serves a disk for reading to whoever connects. What it is set to is not changed once it serves.
type Server struct {
	Disk disk.Reader // read by all connections at once
	Name string      // of the export
	// Hidden has the export not be listed, and opened by its name only, which nobody else knows then.
	Hidden bool
	// TLS has connections be encrypted before anything is told of the disk; nil for none.
	TLS *tls.Config
	// Clients is how many connections there are at once; 0 for the usual number. Who comes beyond that is sent away.
	Clients int

	mu      sync.Mutex
	clients map[*client]bool
	group   sync.WaitGroup
}

// Client is who reads. Bytes are those that it was sent of the disk.
type Client struct {
	Address  string
	Since    time.Time
	Requests int64
	Bytes    int64
}

type client struct {
	Client

	conn            net.Conn
	requests, bytes atomic.Int64
}

// Serve serves until ctx ends, when it returns nil, or the listener fails. It closes the listener, and no connection is open when it returns.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	stop := context.AfterFunc(ctx, func() { _ = l.Close(); s.closeAll() }) // it ends
	defer s.group.Wait()
	defer stop()
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			if err == nil {
				_ = conn.Close()
			}
			return nil
		}
		if err != nil {
			_ = l.Close()
			s.closeAll()
			return fmt.Errorf("waiting for clients: %w", err)
		}
		c, ok := s.add(conn)
		if !ok {
			_ = conn.Close()
			continue
		}
		s.group.Go(func() {
			defer s.remove(c)
			_ = s.serve(c) // it hears of nothing any more
		})
	}
}

func (s *Server) add(conn net.Conn) (*client, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.clients) >= cmp.Or(s.Clients, Clients) {
		return nil, false
	}
	if s.clients == nil {
		s.clients = map[*client]bool{}
	}
	c := &client{Client: Client{Address: conn.RemoteAddr().String(), Since: time.Now()}, conn: conn}
	s.clients[c] = true
	return c, true
}

func (s *Server) remove(c *client) {
	_ = c.conn.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.clients, c)
}

func (s *Server) closeAll() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.clients {
		_ = c.conn.Close()
	}
}

// Now is who is connected at present, the first one first.
func (s *Server) Now() (all []Client) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.clients {
		now := c.Client
		now.Requests, now.Bytes = c.requests.Load(), c.bytes.Load()
		all = append(all, now)
	}
	slices.SortFunc(all, func(a, b Client) int { return a.Since.Compare(b.Since) })
	return all
}

// serve shakes hands with a client, and answers what it asks for.
func (s *Server) serve(c *client) error {
	if err := c.conn.SetDeadline(time.Now().Add(shakeIn)); err != nil {
		return err
	}
	h := &handshake{server: s, conn: c.conn}
	if err := h.run(); err != nil {
		return err
	}
	if err := h.conn.SetDeadline(time.Time{}); err != nil {
		return err
	}
	t := &transmission{server: s, client: c, conn: h.conn, structured: h.structured, status: h.status}
	return t.run()
}

// flags are those of the export.
func (s *Server) flags(structured bool) uint16 {
	f := uint16(hasFlags | readOnly | sendsFlush | severalConns)
	if structured {
		f |= sendsWhole
	}
	return f
}

// transmission is a connection behind its handshake.
type transmission struct {
	server             *Server
	client             *client
	conn               net.Conn
	structured, status bool

	writing sync.Mutex
}

// run answers requests, several at once, until the client goes.
func (t *transmission) run() error {
	var group sync.WaitGroup
	defer group.Wait()
	defer t.conn.Close() // whoever waits to write is let go
	free := make(chan struct{}, atOnce)
	for {
		q, err := readRequest(t.conn)
		if err != nil {
			return err
		}
		t.client.requests.Add(1)
		if q.kind == cmdWrite { // what comes with it is not wanted
			if q.len > maxRequest {
				return wrong("a write of %d bytes", q.len)
			}
			if _, err := io.CopyN(io.Discard, t.conn, int64(q.len)); err != nil {
				return err
			}
		}
		if q.kind == cmdDisconnect {
			return nil
		}
		free <- struct{}{}
		group.Go(func() {
			defer func() { <-free }()
			if err := t.answer(q); err != nil {
				_ = t.conn.Close() // the next request is not read any more
			}
		})
	}
}

// answer answers one request. An error is of the connection.
func (t *transmission) answer(q request) error {
	size := uint64(t.server.Disk.Size())
	inside := q.off <= size && uint64(q.len) <= size-q.off
	switch {
	case q.kind == cmdFlush:
		return t.done(q)
	case q.kind == cmdRead && (q.len == 0 || q.len > maxRequest || !inside):
		return t.fail(q, errInvalid, "a read outside of the disk, or of too much")
	case q.kind == cmdRead && t.structured:
		return t.readStructured(q)
	case q.kind == cmdRead:
		return t.readSimple(q)
	case q.kind == cmdBlockStatus && (!t.status || q.len == 0 || !inside):
		return t.fail(q, errInvalid, "the status of blocks outside of the disk, or without a context")
	case q.kind == cmdBlockStatus:
		return t.blockStatus(q)
	case q.kind == cmdWrite || q.kind == 4 || q.kind == 6: // to write, to trim, to write zeros
		return t.fail(q, errPermission, "the disk is served for reading")
	}
	return t.fail(q, errUnsupported, "there is no such command")
}

// write sends pieces one behind the other, and nothing of another answer between them.
func (t *transmission) write(pieces ...[]byte) error {
	if err := t.conn.SetWriteDeadline(time.Now().Add(takeIn)); err != nil {
		return err
	}
	buffers := net.Buffers(pieces)
	_, err := buffers.WriteTo(t.conn)
	return err
}

func (t *transmission) send(pieces ...[]byte) error {
	t.writing.Lock()
	defer t.writing.Unlock()
	return t.write(pieces...)
}

func simple(q request, code uint32) []byte {
	b := binary.BigEndian.AppendUint32(make([]byte, 0, 16), magicSimple)
	b = binary.BigEndian.AppendUint32(b, code)
	return binary.BigEndian.AppendUint64(b, q.cookie)
}

func (t *transmission) done(q request) error {
	if t.structured {
		return t.send(chunk{chunkDone, chunkNone, q.cookie, 0}.bytes())
	}
	return t.send(simple(q, 0))
}

func (t *transmission) fail(q request, code uint32, why string) error {
	if !t.structured {
		return t.send(simple(q, code))
	}
	b := binary.BigEndian.AppendUint32(nil, code)
	b = binary.BigEndian.AppendUint16(b, uint16(len(why)))
	b = append(b, why...)
	return t.send(chunk{chunkDone, chunkError, q.cookie, uint32(len(b))}.bytes(), b)
}

var buffers = sync.Pool{New: func() any { b := make([]byte, piece); return &b }}

// readSimple sends a range in one piece. Where it cannot be read to its end the connection ends, since nothing else can be said any more.
func (t *transmission) readSimple(q request) error {
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	first := (*buffer)[:min(piece, int(q.len))]
	if err := disk.ReadFull(t.server.Disk, first, int64(q.off)); err != nil {
		return t.send(simple(q, errIO))
	}
	t.writing.Lock()
	defer t.writing.Unlock()
	if err := t.write(simple(q, 0), first); err != nil {
		return err
	}
	t.client.bytes.Add(int64(len(first)))
	for done := len(first); done < int(q.len); {
		b := (*buffer)[:min(piece, int(q.len)-done)]
		if err := disk.ReadFull(t.server.Disk, b, int64(q.off)+int64(done)); err != nil {
			return err
		}
		if err := t.write(b); err != nil {
			return err
		}
		done += len(b)
		t.client.bytes.Add(int64(len(b)))
	}
	return nil
}

// readStructured sends a range in pieces, what is not stored without its zeros; or in one piece where that is asked for.
func (t *transmission) readStructured(q request) error {
	if q.flags&flagWhole != 0 && q.len > piece {
		return t.fail(q, errTooLong, "too much for one piece")
	}
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	for off, end := int64(q.off), int64(q.off)+int64(q.len); off < end; {
		n, hole := min(end-off, piece), false
		e, err := t.server.Disk.Extent(off)
		if err != nil {
			return t.fail(q, errIO, "where data lies cannot be read")
		}
		if q.flags&flagWhole == 0 {
			if n, hole = min(e.End(), end)-off, e.Kind != disk.Data; !hole {
				n = min(n, piece)
			}
		}
		last := uint16(0)
		if off+n == end {
			last = chunkDone
		}
		at := binary.BigEndian.AppendUint64(nil, uint64(off))
		if hole {
			at = binary.BigEndian.AppendUint32(at, uint32(n))
			err = t.send(chunk{last, chunkHole, q.cookie, uint32(len(at))}.bytes(), at)
		} else {
			b := (*buffer)[:n]
			if readErr := disk.ReadFull(t.server.Disk, b, off); readErr != nil {
				return t.fail(q, errIO, "a part of the disk cannot be read")
			}
			err = t.send(chunk{last, chunkData, q.cookie, uint32(8 + n)}.bytes(), at, b)
			t.client.bytes.Add(n)
		}
		if err != nil {
			return err
		}
		off += n
	}
	return nil
}

// blockStatus tells what of a range is stored, from its beginning on, as far as one answer tells.
func (t *transmission) blockStatus(q request) error {
	out := binary.BigEndian.AppendUint32(nil, contextID)
	states := 0
	for off, end := int64(q.off), int64(q.off)+int64(q.len); off < end && states < mostStates; states++ {
		e, err := t.server.Disk.Extent(off)
		if err != nil {
			return t.fail(q, errIO, "where data lies cannot be read")
		}
		state := map[disk.Kind]uint32{disk.Zero: stateZero, disk.Hole: stateHole | stateZero}[e.Kind]
		n := min(e.End(), end) - off
		out = binary.BigEndian.AppendUint32(out, uint32(n))
		out = binary.BigEndian.AppendUint32(out, state)
		if off += n; q.flags&flagOneOnly != 0 {
			break
		}
	}
	return t.send(chunk{chunkDone, chunkStatus, q.cookie, uint32(len(out))}.bytes(), out)
}

// contextID is the number by which the one context is known to a client.
const contextID = 1

// errAborted ends a handshake that the client does not go on with.
var errAborted = errors.New("the client went away during the handshake")
