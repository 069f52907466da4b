package nbd

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	cryptorand "crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"io"
	"math/big"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"bagaglio/core/disk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sparse is a disk with some data, and nothing stored elsewhere.
type sparse struct {
	content []byte
	data    []disk.Extent
	broken  int64 // that cannot be read, negative for none
}

func newSparse(size int) *sparse {
	random := rand.New(rand.NewPCG(19, 1))
	s := &sparse{content: make([]byte, size), broken: -1}
	for off := 0; off < size; {
		n := min(1+random.IntN(size/8), size-off)
		kind := disk.Kind(random.IntN(3))
		s.data = append(s.data, disk.Extent{Off: int64(off), Len: int64(n), Kind: kind})
		if kind == disk.Data {
			for i := range n {
				s.content[off+i] = byte(random.Uint32())
			}
		}
		off += n
	}
	return s
}

func (s *sparse) ReadAt(p []byte, off int64) (int, error) {
	if s.broken >= off && s.broken < off+int64(len(p)) {
		return 0, errors.New("a bad sector")
	}
	return bytes.NewReader(s.content).ReadAt(p, off)
}
func (s *sparse) Size() int64                { return int64(len(s.content)) }
func (s *sparse) Close() error               { return nil }
func (s *sparse) Describe() disk.Description { return disk.Description{} }
func (s *sparse) Extent(off int64) (disk.Extent, error) {
	for _, e := range s.data {
		if e.Off <= off && off < e.End() {
			return disk.Extent{Off: off, Len: e.End() - off, Kind: e.Kind}, nil
		}
	}
	return disk.Extent{}, io.EOF
}

// serving serves a disk, and returns how to connect.
func serving(t testing.TB, s *Server) (dial func() net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-ended)
		assert.Empty(t, s.Now(), "nobody is connected any more")
	})
	return func() net.Conn {
		conn, err := (&net.Dialer{}).DialContext(t.Context(), "tcp", l.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		return conn
	}
}

// TestBothEnds: what is served is read, by many at once, from anywhere and at any length, with what is stored of it.
func TestBothEnds(t *testing.T) {
	s := newSparse(5 << 20)
	server := &Server{Disk: s, Name: "disk"}
	dial := serving(t, server)
	var group sync.WaitGroup
	for n := range 8 {
		d, err := Connect(t.Context(), dial(), []string{"disk", ""}[n%2], nil)
		require.NoError(t, err)
		assert.Equal(t, s.Size(), d.Size())
		group.Go(func() {
			defer d.Close()
			random := rand.New(rand.NewPCG(19, uint64(n)))
			for range 50 {
				off := random.Int64N(s.Size() + 10)
				p := make([]byte, random.IntN(3<<20))
				got, err := d.ReadAt(p, off)
				want := s.content[min(off, s.Size()):min(off+int64(len(p)), s.Size())]
				assert.True(t, bytes.Equal(want, p[:got]))
				assert.Equal(t, got < len(p), errors.Is(err, io.EOF))
			}
			at := int64(0)
			assert.NoError(t, disk.Extents(t.Context(), d, func(e disk.Extent) error {
				assert.Equal(t, at, e.Off)
				is, err := s.Extent(at)
				assert.Equal(t, is.Kind == disk.Data, e.Kind == disk.Data)
				at = e.End()
				return err
			}))
			assert.Equal(t, s.Size(), at)
		})
	}
	group.Wait()
	_, err := Connect(t.Context(), dial(), "other", nil)
	require.ErrorContains(t, err, "no export of that name")
}

// TestAHiddenExport is not listed, and opened by nobody who does not know its name.
func TestAHiddenExport(t *testing.T) {
	s := newSparse(1 << 20)
	dial := serving(t, &Server{Disk: s, Name: "0b5e7c1e", Hidden: true})
	for _, name := range []string{"", "disk"} {
		_, err := Connect(t.Context(), dial(), name, nil)
		require.ErrorContains(t, err, "no export of that name")
	}
	conn := dial()
	_, err := io.ReadFull(conn, make([]byte, 18))
	require.NoError(t, err)
	list := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint64([]byte{0, 0, 0, fixedNewstyle | noZeroes}, magicOption), optList)
	_, err = conn.Write(binary.BigEndian.AppendUint32(list, 0))
	require.NoError(t, err)
	head := make([]byte, 20)
	_, err = io.ReadFull(conn, head)
	require.NoError(t, err)
	assert.EqualValues(t, repAck, binary.BigEndian.Uint32(head[12:]), "there is none")
	d, err := Connect(t.Context(), dial(), "0b5e7c1e", nil)
	require.NoError(t, err)
	require.NoError(t, d.Close())
}

// TestWhatCannotBeRead is an error of that read alone.
func TestWhatCannotBeRead(t *testing.T) {
	s := newSparse(1 << 20)
	s.data = []disk.Extent{{Len: 1 << 20}}
	s.broken = 700_000
	d, err := Connect(t.Context(), serving(t, &Server{Disk: s, Name: "disk"})(), "disk", nil)
	require.NoError(t, err)
	defer d.Close()
	_, err = d.ReadAt(make([]byte, 1000), 699_500)
	require.ErrorContains(t, err, "a part of the disk cannot be read")
	n, err := d.ReadAt(make([]byte, 1000), 0)
	require.NoError(t, err)
	assert.Equal(t, 1000, n)
}

// TestNothingIsWritten, whatever a client asks for; and what makes no sense is refused, in the old and in the new way.
func TestNothingIsWritten(t *testing.T) {
	s := newSparse(1 << 20)
	before := bytes.Clone(s.content)
	for _, structured := range []bool{false, true} {
		conn := serving(t, &Server{Disk: s, Name: "disk"})()
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		opened(t, conn, structured)
		for _, c := range []struct {
			request
			data int
			want uint32
		}{
			{request{kind: cmdWrite, len: 512}, 512, errPermission}, {request{kind: 4, len: 512}, 0, errPermission},
			{request{kind: 6, len: 512}, 0, errPermission}, {request{kind: cmdRead, off: 1 << 20, len: 1}, 0, errInvalid},
			{request{kind: cmdRead, off: 1<<64 - 1, len: 2}, 0, errInvalid}, {request{kind: cmdRead}, 0, errInvalid},
			{request{kind: cmdRead, len: 1<<32 - 1}, 0, errInvalid}, {request{kind: cmdBlockStatus, len: 1}, 0, errInvalid},
			{request{kind: 99}, 0, errUnsupported}, {request{kind: cmdFlush}, 0, 0},
		} {
			c.cookie = 7
			_, err := conn.Write(append(c.bytes(), make([]byte, c.data)...))
			require.NoError(t, err)
			assert.Equal(t, c.want, answered(t, conn, structured), "%+v", c.request)
		}
	}
	assert.Equal(t, before, s.content)
}

// opened shakes hands by hand.
func opened(t *testing.T, conn net.Conn, structured bool) {
	t.Helper()
	_, err := io.ReadFull(conn, make([]byte, 18))
	require.NoError(t, err)
	say := func(kind uint32, data []byte) {
		b := binary.BigEndian.AppendUint64(nil, magicOption)
		b = binary.BigEndian.AppendUint32(b, kind)
		_, err := conn.Write(append(binary.BigEndian.AppendUint32(b, uint32(len(data))), data...))
		require.NoError(t, err)
	}
	_, err = conn.Write([]byte{0, 0, 0, fixedNewstyle | noZeroes})
	require.NoError(t, err)
	if structured {
		say(optStructured, nil)
		_, err = io.ReadFull(conn, make([]byte, 20))
		require.NoError(t, err)
	}
	say(optExportName, []byte("disk"))
	_, err = io.ReadFull(conn, make([]byte, 10))
	require.NoError(t, err)
}

// answered is the error of an answer without data.
func answered(t *testing.T, conn net.Conn, structured bool) uint32 {
	t.Helper()
	head := make([]byte, map[bool]int{false: 16, true: 20}[structured])
	_, err := io.ReadFull(conn, head)
	require.NoError(t, err)
	if !structured {
		assert.EqualValues(t, magicSimple, binary.BigEndian.Uint32(head))
		return binary.BigEndian.Uint32(head[4:])
	}
	assert.EqualValues(t, magicStructured, binary.BigEndian.Uint32(head))
	rest := make([]byte, binary.BigEndian.Uint32(head[16:]))
	_, err = io.ReadFull(conn, rest)
	require.NoError(t, err)
	if len(rest) == 0 {
		return 0
	}
	return binary.BigEndian.Uint32(rest)
}

// TestClientsBeyondTheBound are sent away, and those that go make room.
func TestClientsBeyondTheBound(t *testing.T) {
	server := &Server{Disk: newSparse(1 << 20), Name: "disk", Clients: 2}
	dial := serving(t, server)
	var all []*Disk
	for range 2 {
		d, err := Connect(t.Context(), dial(), "disk", nil)
		require.NoError(t, err)
		all = append(all, d)
	}
	_, err := Connect(t.Context(), dial(), "disk", nil)
	require.Error(t, err)
	assert.Len(t, server.Now(), 2)
	for _, d := range all {
		require.NoError(t, d.Close())
	}
	require.Eventually(t, func() bool { return len(server.Now()) == 0 }, 10*time.Second, 5*time.Millisecond)
	d, err := Connect(t.Context(), dial(), "disk", nil)
	require.NoError(t, err)
	require.NoError(t, d.Close())
}

// TestEncrypted: nothing is told of the disk before a connection is encrypted, and the certificate is checked.
func TestEncrypted(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), cryptorand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		DNSNames:              []string{"quay"},
		NotAfter:              time.Now().Add(time.Hour),
		IsCA:                  true,
		BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(cryptorand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(cert)
	s := newSparse(1 << 20)
	dial := serving(
		t,
		&Server{Disk: s, Name: "disk", TLS: &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}},
	)
	_, err = Connect(t.Context(), dial(), "disk", nil)
	require.ErrorContains(t, err, "encrypt the connection first")
	_, err = Connect(t.Context(), dial(), "disk", &tls.Config{RootCAs: pool, ServerName: "other"})
	require.ErrorContains(t, err, "certificate")
	d, err := Connect(t.Context(), dial(), "disk", &tls.Config{RootCAs: pool, ServerName: "quay"})
	require.NoError(t, err)
	p := make([]byte, s.Size())
	_, err = d.ReadAt(p, 0)
	require.NoError(t, err)
	assert.Equal(t, s.content, p)
	require.NoError(t, d.Close())
	plain := serving(t, &Server{Disk: s, Name: "disk"})
	_, err = Connect(t.Context(), plain(), "disk", &tls.Config{RootCAs: pool, ServerName: "quay"})
	require.ErrorContains(t, err, "does not encrypt")
}

// TestLies: a server that answers what nobody asked, with too much, twice, or not at all, is found out, and nothing that it said is taken for the disk's.
func TestLies(t *testing.T) {
	data := func(off uint64, n int) []byte {
		return append(binary.BigEndian.AppendUint64(nil, off), make([]byte, n)...)
	}
	hole := func(off uint64, n uint32) []byte {
		return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint64(nil, off), n)
	}
	for name, say := range map[string]func(q request) []byte{
		"another answer": func(q request) []byte { return chunk{chunkDone, chunkNone, q.cookie + 1, 0}.bytes() },
		"nothing of it":  func(q request) []byte { return chunk{chunkDone, chunkNone, q.cookie, 0}.bytes() },
		"too much": func(q request) []byte {
			return append(chunk{chunkDone, chunkData, q.cookie, 1 << 31}.bytes(), data(q.off, 4096)...)
		},
		"elsewhere": func(q request) []byte {
			return append(chunk{chunkDone, chunkData, q.cookie, 4104}.bytes(), data(q.off+4096, 4096)...)
		},
		"a hole beyond": func(q request) []byte {
			return append(chunk{chunkDone, chunkHole, q.cookie, 12}.bytes(), hole(q.off, 1<<31)...)
		},
		"a part": func(q request) []byte {
			return append(chunk{chunkDone, chunkData, q.cookie, 108}.bytes(), data(q.off, 100)...)
		},
		"nonsense":     func(request) []byte { return []byte("HTTP/1.1 200 OK\r\n\r\n") },
		"the old way":  func(q request) []byte { return append(simple(q, 0), make([]byte, 4096)...) },
		"another kind": func(q request) []byte { return chunk{chunkDone, 77, q.cookie, 4}.bytes() },
		"an error of none": func(q request) []byte {
			return append(chunk{chunkDone, chunkError, q.cookie, 6}.bytes(), make([]byte, 6)...)
		},
		"twice the same": func(q request) []byte {
			half := append(chunk{0, chunkData, q.cookie, 2056}.bytes(), data(q.off, 2048)...)
			return append(append(half, half...), chunk{chunkDone, chunkNone, q.cookie, 0}.bytes()...)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ours, theirs := net.Pipe()
			go func() { // a handshake as it should be, and then a lie
				h := &handshake{server: &Server{Disk: newSparse(1 << 20), Name: "disk"}, conn: theirs}
				if h.run() == nil {
					if q, err := readRequest(theirs); err == nil {
						_, _ = theirs.Write(say(q)) // it may be gone
						_, _ = readRequest(theirs)
					}
				}
				_ = theirs.Close()
			}()
			d, err := Connect(t.Context(), ours, "disk", nil)
			require.NoError(t, err)
			_, err = d.ReadAt(make([]byte, 4096), 8192)
			require.Error(t, err)
			require.NoError(t, d.Close())
			_, err = d.ReadAt(make([]byte, 4096), 8192)
			require.Error(t, err, "there is nothing any more")
		})
	}
}

// FuzzServer is asked anything.
func FuzzServer(f *testing.F) {
	hello := []byte{0, 0, 0, fixedNewstyle | noZeroes}
	opt := func(kind uint32, data ...byte) []byte {
		b := binary.BigEndian.AppendUint64(nil, magicOption)
		b = binary.BigEndian.AppendUint32(b, kind)
		return append(binary.BigEndian.AppendUint32(b, uint32(len(data))), data...)
	}
	meta := binary.BigEndian.AppendUint32(withLength("disk"), 1)
	f.Add(bytes.Join([][]byte{
		hello,
		opt(optStructured),
		opt(optSetMeta, append(meta, withLength(allocation)...)...),
		opt(optList),
		opt(optExportName, []byte("disk")...),
		request{kind: cmdRead, len: 4096}.bytes(),
		request{kind: cmdBlockStatus, len: 4096}.bytes(),
		request{kind: cmdDisconnect}.bytes(),
	}, nil))
	f.Add(append(hello, opt(optGo, append(withLength(""), 0, 1, 0, 3)...)...))
	s := newSparse(64 << 10)
	before := bytes.Clone(s.content)
	f.Fuzz(func(t *testing.T, said []byte) {
		ours, theirs := net.Pipe()
		server := &Server{Disk: s, Name: "disk"}
		c, ok := server.add(theirs)
		require.True(t, ok)
		done := make(chan struct{})
		go func() {
			defer close(done)
			_ = server.serve(c) // what it makes of it does not matter, only that it ends
			server.remove(c)
		}()
		go func() { _, _ = io.Copy(io.Discard, ours) }()
		_ = ours.SetDeadline(time.Now().Add(5 * time.Second))
		_, _ = ours.Write(said) // it may have had enough
		_ = ours.Close()
		<-done
		assert.Equal(t, before, s.content)
	})
}

// FuzzClient is answered anything.
func FuzzClient(f *testing.F) {
	f.Add([]byte{})
	f.Add(chunk{chunkDone, chunkError, 1, 6}.bytes())
	f.Fuzz(func(t *testing.T, said []byte) {
		ours, theirs := net.Pipe()
		go func() {
			h := &handshake{server: &Server{Disk: newSparse(64 << 10), Name: "disk"}, conn: theirs}
			if h.run() == nil {
				_, _ = readRequest(theirs)
				_, _ = theirs.Write(said) // it may have had enough
			}
			_ = theirs.Close()
		}()
		d, err := Connect(t.Context(), ours, "disk", nil)
		require.NoError(t, err)
		_, _ = d.ReadAt(make([]byte, 4096), 0) // what it makes of it does not matter, only that it ends
		require.NoError(t, d.Close())
	})
}
