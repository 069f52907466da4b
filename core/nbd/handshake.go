package nbd

import (
	"crypto/tls"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strings"
)

// handshake is what comes before an export is read.
type handshake struct {
	server             *Server
	conn               net.Conn
	encrypted          bool
	noZeroes           bool
	structured, status bool
}

// run shakes hands until the client has chosen the export.
func (h *handshake) run() error {
	hello := binary.BigEndian.AppendUint64(nil, magicHello)
	hello = binary.BigEndian.AppendUint64(hello, magicOption)
	hello = binary.BigEndian.AppendUint16(hello, fixedNewstyle|noZeroes)
	if _, err := h.conn.Write(hello); err != nil {
		return err
	}
	var flags [4]byte
	if _, err := io.ReadFull(h.conn, flags[:]); err != nil {
		return err
	}
	f := binary.BigEndian.Uint32(flags[:])
	if f&^(fixedNewstyle|noZeroes) != 0 || f&fixedNewstyle == 0 {
		return wrong("the client has the flags %#x", f)
	}
	h.noZeroes = f&noZeroes != 0
	for {
		o, err := h.option()
		if err != nil {
			return err
		}
		if chosen, err := h.handle(o); chosen || err != nil {
			return err
		}
	}
}

// option reads the next one. What is too long is skipped and has no data.
func (h *handshake) option() (o option, err error) {
	var head [16]byte
	if _, err := io.ReadFull(h.conn, head[:]); err != nil {
		return o, err
	}
	if m := binary.BigEndian.Uint64(head[:]); m != magicOption {
		return o, wrong("an option begins with %#x", m)
	}
	o.kind = binary.BigEndian.Uint32(head[8:])
	n := binary.BigEndian.Uint32(head[12:])
	if n > maxOption {
		return o, wrong("an option of %d bytes", n)
	}
	o.data = make([]byte, n)
	_, err = io.ReadFull(h.conn, o.data)
	return o, err
}

// reply answers an option.
func (h *handshake) reply(o option, kind uint32, data []byte) error {
	b := binary.BigEndian.AppendUint64(nil, magicAnswer)
	b = binary.BigEndian.AppendUint32(b, o.kind)
	b = binary.BigEndian.AppendUint32(b, kind)
	b = binary.BigEndian.AppendUint32(b, uint32(len(data)))
	_, err := h.conn.Write(append(b, data...))
	return err
}

// handle answers an option, and tells whether the client has chosen the export with it.
func (h *handshake) handle(o option) (chosen bool, err error) {
	if h.server.TLS != nil && !h.encrypted && o.kind != optStartTLS && o.kind != optAbort {
		if o.kind == optExportName { // which cannot be answered with an error
			return false, errAborted
		}
		return false, h.reply(o, repNeedsTLS, []byte("encrypt the connection first"))
	}
	switch o.kind {
	case optAbort:
		_ = h.reply(o, repAck, nil) // it may be gone
		return false, errAborted
	case optExportName:
		return true, h.exportName(string(o.data))
	case optList:
		if h.server.Hidden {
			return false, h.reply(o, repAck, nil)
		}
		entry := binary.BigEndian.AppendUint32(nil, uint32(len(h.server.Name)))
		if err := h.reply(o, repServer, append(entry, h.server.Name...)); err != nil {
			return false, err
		}
		return false, h.reply(o, repAck, nil)
	case optStartTLS:
		return false, h.startTLS(o)
	case optInfo, optGo:
		ok, err := h.info(o)
		return ok && o.kind == optGo, err
	case optStructured:
		if len(o.data) > 0 {
			return false, h.reply(o, repInvalid, nil)
		}
		h.structured = true
		return false, h.reply(o, repAck, nil)
	case optListMeta, optSetMeta:
		return false, h.meta(o)
	}
	return false, h.reply(o, repUnsupported, nil)
}

func (h *handshake) isIt(name string) bool {
	return name == h.server.Name || name == "" && !h.server.Hidden
}

// exportName is the old way to choose, which has no errors.
func (h *handshake) exportName(name string) error {
	if !h.isIt(name) {
		return errAborted
	}
	b := binary.BigEndian.AppendUint64(nil, uint64(h.server.Disk.Size()))
	b = binary.BigEndian.AppendUint16(b, h.server.flags(h.structured))
	if !h.noZeroes {
		b = append(b, make([]byte, 124)...)
	}
	_, err := h.conn.Write(b)
	return err
}

func (h *handshake) startTLS(o option) error {
	switch {
	case h.server.TLS == nil || h.encrypted:
		return h.reply(o, repUnsupported, nil)
	case len(o.data) > 0:
		return h.reply(o, repInvalid, nil)
	}
	if err := h.reply(o, repAck, nil); err != nil {
		return err
	}
	conn := tls.Server(h.conn, h.server.TLS)
	if err := conn.Handshake(); err != nil {
		return err
	}
	h.conn, h.encrypted, h.structured, h.status = conn, true, false, false
	return nil
}

// info tells of the export.
func (h *handshake) info(o option) (ok bool, err error) {
	name, rest, ok := o.name()
	if !ok || len(rest) < 2 || len(rest) != 2+2*int(binary.BigEndian.Uint16(rest)) {
		return false, h.reply(o, repInvalid, nil)
	}
	if !h.isIt(name) {
		return false, h.reply(o, repUnknown, []byte("there is no export of that name"))
	}
	b := binary.BigEndian.AppendUint16(nil, infoExport)
	b = binary.BigEndian.AppendUint64(b, uint64(h.server.Disk.Size()))
	b = binary.BigEndian.AppendUint16(b, h.server.flags(h.structured))
	if err := h.reply(o, repInfo, b); err != nil {
		return false, err
	}
	for ; len(rest) >= 4; rest = rest[2:] {
		if binary.BigEndian.Uint16(rest[2:]) != infoBlockSize {
			continue
		}
		b := binary.BigEndian.AppendUint16(nil, infoBlockSize)
		b = binary.BigEndian.AppendUint32(b, 1)
		b = binary.BigEndian.AppendUint32(b, 4096)
		b = binary.BigEndian.AppendUint32(b, maxRequest)
		if err := h.reply(o, repInfo, b); err != nil {
			return false, err
		}
	}
	return true, h.reply(o, repAck, nil)
}

// meta tells of contexts, or has the client choose them: there is one.
func (h *handshake) meta(o option) error {
	name, rest, ok := o.name()
	if !ok || len(rest) < 4 || o.kind == optSetMeta && !h.structured {
		return h.reply(o, repInvalid, nil)
	}
	if !h.isIt(name) {
		return h.reply(o, repUnknown, nil)
	}
	var queries []string
	count := binary.BigEndian.Uint32(rest)
	for rest = rest[4:]; count > 0; count-- {
		query, behind, ok := option{data: rest}.name()
		if !ok {
			return h.reply(o, repInvalid, nil)
		}
		queries, rest = append(queries, query), behind
	}
	if len(rest) > 0 {
		return h.reply(o, repInvalid, nil)
	}
	all := o.kind == optListMeta && len(queries) == 0
	wanted := all || slices.ContainsFunc(queries, func(q string) bool {
		return q == allocation || o.kind == optListMeta && q == strings.TrimSuffix(allocation, "allocation")
	})
	if o.kind == optSetMeta {
		h.status = wanted
	}
	if wanted {
		b := binary.BigEndian.AppendUint32(nil, contextID)
		if err := h.reply(o, repMeta, append(b, allocation...)); err != nil {
			return err
		}
	}
	return h.reply(o, repAck, nil)
}
