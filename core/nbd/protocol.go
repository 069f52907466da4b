// Package nbd has both ends of the open block protocol (NBD, github.com/NetworkBlockDevice/nbd, doc/proto.md): a disk is served for reading over a connection, and
// read from one. The handshake is the fixed newstyle one; structured replies and the status of blocks are there for who asks for them.
package nbd

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Numbers of the protocol ("Values", "Handshake phase", "Transmission phase").
const (
	magicHello      = 0x4e42444d41474943 // "NBDMAGIC"
	magicOption     = 0x49484156454f5054 // "IHAVEOPT"
	magicAnswer     = 0x0003e889045565a9
	magicRequest    = 0x25609513
	magicSimple     = 0x67446698
	magicStructured = 0x668e33ef

	// Handshake flags, of servers and of clients.
	fixedNewstyle = 1 << 0
	noZeroes      = 1 << 1

	// Transmission flags.
	hasFlags     = 1 << 0
	readOnly     = 1 << 1
	sendsFlush   = 1 << 2
	sendsWhole   = 1 << 7 // NBD_FLAG_SEND_DF
	severalConns = 1 << 8 // NBD_FLAG_CAN_MULTI_CONN

	// Options.
	optExportName = 1
	optAbort      = 2
	optList       = 3
	optStartTLS   = 5
	optInfo       = 6
	optGo         = 7
	optStructured = 8
	optListMeta   = 9
	optSetMeta    = 10

	// Answers to options.
	repAck         = 1
	repServer      = 2
	repInfo        = 3
	repMeta        = 4
	repError       = 1 << 31
	repUnsupported = repError + 1
	repInvalid     = repError + 3
	repNeedsTLS    = repError + 5
	repUnknown     = repError + 6
	repTooBig      = repError + 9

	// Information about an export.
	infoExport    = 0
	infoBlockSize = 3

	// Commands.
	cmdRead        = 0
	cmdWrite       = 1
	cmdDisconnect  = 2
	cmdFlush       = 3
	cmdBlockStatus = 7

	// Flags of commands.
	flagWhole   = 1 << 2 // NBD_CMD_FLAG_DF: not in pieces
	flagOneOnly = 1 << 3 // NBD_CMD_FLAG_REQ_ONE

	// Chunks of structured replies.
	chunkDone        = 1 << 0 // a flag
	chunkNone        = 0
	chunkData        = 1
	chunkHole        = 2
	chunkStatus      = 5
	chunkError       = 1<<15 + 1
	chunkErrorOffset = 1<<15 + 2

	// States of blocks in the context base:allocation.
	stateHole = 1 << 0
	stateZero = 1 << 1

	// Errors.
	errPermission  = 1
	errIO          = 5
	errInvalid     = 22
	errTooLong     = 75 // EOVERFLOW
	errUnsupported = 95
	errShutdown    = 108
)

// allocation is the one context of the status of blocks that is served.
const allocation = "base:allocation"

// Bounds: of the data of an option and of one request, in bytes; of names.
const (
	maxOption  = 64 << 10
	maxRequest = 32 << 20
	maxName    = 4096
)

// ErrProtocol is the error for an other end that does not keep to the protocol.
var ErrProtocol = errors.New("the other end does not keep to the block protocol")

func wrong(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrProtocol, fmt.Sprintf(format, args...))
}

// request is what a client asks for, once it has an export.
type request struct {
	flags, kind uint16
	cookie      uint64
	off         uint64
	len         uint32
}

const requestLen = 28

func readRequest(r io.Reader) (q request, err error) {
	var b [requestLen]byte
	if _, err := io.ReadFull(r, b[:]); err != nil {
		return q, err
	}
	if m := binary.BigEndian.Uint32(b[:]); m != magicRequest {
		return q, wrong("a request begins with %#x", m)
	}
	return request{
		flags: binary.BigEndian.Uint16(b[4:]), kind: binary.BigEndian.Uint16(b[6:]), cookie: binary.BigEndian.Uint64(b[8:]),
		off: binary.BigEndian.Uint64(b[16:]), len: binary.BigEndian.Uint32(b[24:]),
	}, nil
}

func (q request) bytes() []byte {
	b := binary.BigEndian.AppendUint32(make([]byte, 0, requestLen), magicRequest)
	b = binary.BigEndian.AppendUint16(b, q.flags)
	b = binary.BigEndian.AppendUint16(b, q.kind)
	b = binary.BigEndian.AppendUint64(b, q.cookie)
	b = binary.BigEndian.AppendUint64(b, q.off)
	return binary.BigEndian.AppendUint32(b, q.len)
}

// chunk is the head of a piece of a structured reply.
type chunk struct {
	flags, kind uint16
	cookie      uint64
	len         uint32
}

func (c chunk) bytes() []byte {
	b := binary.BigEndian.AppendUint32(make([]byte, 0, 32), magicStructured)
	b = binary.BigEndian.AppendUint16(b, c.flags)
	b = binary.BigEndian.AppendUint16(b, c.kind)
	b = binary.BigEndian.AppendUint64(b, c.cookie)
	return binary.BigEndian.AppendUint32(b, c.len)
}

// option is one of a client during the handshake.
type option struct {
	kind uint32
	data []byte
}

// names takes the data of an option apart that begins with a name: what is behind it.
func (o option) name() (name string, rest []byte, ok bool) {
	if len(o.data) < 4 {
		return "", nil, false
	}
	n := binary.BigEndian.Uint32(o.data)
	if n > maxName || int(n) > len(o.data)-4 {
		return "", nil, false
	}
	return string(o.data[4 : 4+n]), o.data[4+n:], true
}
