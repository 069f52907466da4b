package archive

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"sync"
	"syscall"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"

	"github.com/google/uuid"
)

// Unpacked holds the content of files that are compressed inside of packages (DSP0243, 7.1: gzip, RFC 1952), which can only be read from their beginning on, in a
// folder of this computer: each once, for as long as somebody uses it, and a while longer where its storage tells whether it is still the same file. Nothing is left there when
// the process ends.
type Unpacked struct {
	dir string

	mu    sync.Mutex
	files map[string]*unpacked
}

// unpacked is one such file.
type unpacked struct {
	ready chan struct{} // closed when it is unpacked, or that has failed
	file  storage.File  // without a name
	size  int64
	err   error
	users int
	sure  bool // another file would have another key
}

const (
	// keptFor is how long one is kept that nobody uses.
	keptFor = 10 * time.Minute
	// leftFree is how many bytes of the folder's storage are not used.
	leftFree = 1 << 30
	// unpackedBy is how many bytes are unpacked at once.
	unpackedBy = 1 << 20
)

// NewUnpacked returns one that uses a folder, which is made where it is missing.
func NewUnpacked(dir string) *Unpacked { return &Unpacked{dir: dir, files: map[string]*unpacked{}} }

// In is a folder, of the pool of that name, in which files that are compressed read as what they hold: at most so many bytes, or they are refused. It is only read.
func (u *Unpacked) In(pool string, below storage.Folder, most int64) storage.Folder {
	return &plain{below: below, all: u, pool: pool, most: most}
}

// plain is such a folder.
type plain struct {
	readOnly

	below storage.Folder
	all   *Unpacked
	pool  string
	most  int64
}

// isPacked tells whether a file begins as compressed ones do (RFC 1952, section 2.3.1: the two identifying bytes, and the method deflate).
func isPacked(below storage.Folder, name string) (bool, error) {
	file, err := below.Open(name)
	if err != nil {
		return false, err
	}
	var head [3]byte
	_, err = file.ReadAt(head[:], 0)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return bytes.Equal(head[:], []byte{0x1f, 0x8b, 8}), errors.Join(err, file.Close())
}

// Open opens a file: of one that is compressed, what it holds.
func (p *plain) Open(name string) (storage.File, error) {
	packed, err := isPacked(p.below, name)
	if err != nil {
		return nil, err
	}
	if !packed {
		return p.below.Open(name)
	}
	f, done, err := p.of(name)
	if err != nil {
		return nil, err
	}
	return &open{file: f.file, done: done}, nil
}

// Stat tells of a file: of one that is compressed, how much it holds.
func (p *plain) Stat(name string) (storage.Info, error) {
	info, err := p.below.Stat(name)
	if err != nil || !info.Regular {
		return info, err
	}
	packed, err := isPacked(p.below, name)
	if err != nil || !packed {
		return info, err
	}
	f, done, err := p.of(name)
	if err != nil {
		return info, err
	}
	defer done()
	info.Size = f.size
	if info.ID != "" {
		info.ID += "~gzip"
	}
	return info, nil
}

// List lists what lies directly in a folder. How much compressed files hold is not looked at.
func (p *plain) List(dir string) ([]storage.Info, error) { return p.below.List(dir) }

// InUse tells whether another program uses a file.
func (p *plain) InUse(name string) (string, error) {
	if u, ok := storage.As[storage.Usage](p.below); ok {
		return u.InUse(name)
	}
	return "", nil
}

// Space is that of the storage below, which is not written to.
func (p *plain) Space() (storage.Space, error) {
	s, err := p.below.Space()
	s.ReadOnly = true
	return s, err
}

// of is what a file holds, unpacked. The caller is done with it.
func (p *plain) of(name string) (f *unpacked, done func(), err error) {
	info, err := p.below.Stat(name)
	if err != nil {
		return nil, nil, err
	}
	key := fmt.Sprintf(
		"%s\x00%s\x00%s\x00%d\x00%d\x00%d",
		p.pool,
		path.Clean(name),
		info.ID,
		info.Size,
		info.Modified.UnixNano(),
		info.Changed.UnixNano(),
	)
	p.all.mu.Lock()
	f, known := p.all.files[key]
	if !known {
		f = &unpacked{ready: make(chan struct{}), sure: info.ID != "" && !info.Changed.IsZero()}
		p.all.files[key] = f
	}
	f.users++
	p.all.mu.Unlock()
	if !known {
		f.file, f.size, f.err = p.unpack(name)
		close(f.ready)
	}
	<-f.ready
	var once sync.Once
	done = func() { once.Do(func() { p.all.leave(key, f) }) }
	if f.err != nil {
		done()
		return nil, nil, fmt.Errorf("unpacking %s: %w", name, f.err)
	}
	return f, done, nil
}

// leave notes that one user less is there. The last one has it dropped a while later; what failed is tried anew.
func (u *Unpacked) leave(key string, f *unpacked) {
	drop := func() {
		u.mu.Lock()
		defer u.mu.Unlock()
		if f.users > 0 || u.files[key] != f {
			return
		}
		delete(u.files, key)
		if f.file != nil {
			_ = f.file.Close() // it has no name
		}
	}
	u.mu.Lock()
	f.users--
	last := f.users == 0
	u.mu.Unlock()
	switch {
	case last && (f.err != nil || !f.sure):
		drop()
	case last:
		time.AfterFunc(keptFor, drop)
	}
}

// unpack unpacks a file into one without a name, with holes for zeros.
func (p *plain) unpack(name string) (to storage.File, size int64, err error) {
	from, err := p.below.Open(name)
	if err != nil {
		return nil, 0, err
	}
	defer from.Close()
	length, err := from.Size()
	if err != nil {
		return nil, 0, err
	}
	if err := os.MkdirAll(p.all.dir, 0o700); err != nil {
		return nil, 0, err
	}
	into, err := local.Open(p.all.dir)
	if err != nil {
		return nil, 0, err
	}
	defer into.Close()
	own := "unpacked-" + uuid.NewString()
	if to, err = into.Create(own); err != nil {
		return nil, 0, err
	}
	if err = into.Remove(own); err == nil {
		size, err = p.copy(into, to, io.NewSectionReader(from, 0, length))
	}
	if err == nil {
		err = to.Truncate(size)
	}
	if err != nil {
		return nil, 0, errors.Join(err, to.Close())
	}
	return to, size, nil
}

// copy unpacks as long as there is room. The check of the whole content is at its end (RFC 1952, section 2.3.1).
func (p *plain) copy(into storage.Folder, to io.WriterAt, from io.Reader) (size int64, err error) {
	z, err := gzip.NewReader(from)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	for buf := make([]byte, unpackedBy); ; {
		n, err := io.ReadFull(z, buf)
		if size+int64(n) > p.most {
			return size, fmt.Errorf("%w: it holds more than the %d bytes that its envelope lets it have", ErrDamaged, p.most)
		}
		if !fingerprint.IsZero(buf[:n]) {
			if err := room(into, n); err != nil {
				return size, err
			}
			if _, err := to.WriteAt(buf[:n], size); err != nil {
				return size, err
			}
		}
		size += int64(n)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) && n > 0 {
			_, err = z.Read(buf[:1]) // a reader that is cut off says so again
		}
		if errors.Is(err, io.EOF) {
			return size, nil
		}
		if err != nil {
			return size, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
	}
}

// room fails where so many bytes more would leave too little.
func room(in storage.Folder, n int) error {
	s, err := in.Space()
	if err == nil && s.Free != storage.Unknown && s.Free < leftFree+int64(n) {
		err = fmt.Errorf(
			"there is too little room in the service's own folder for what it holds: unpack it first (gunzip), or make room there: %w",
			syscall.ENOSPC,
		)
	}
	return err
}

// open is an open file that was unpacked.
type open struct {
	notWritten

	file storage.File
	done func()
}

func (o *open) ReadAt(p []byte, off int64) (int, error) { return o.file.ReadAt(p, off) }
func (o *open) Size() (int64, error)                    { return o.file.Size() }
func (o *open) Close() error                            { o.done(); return nil }

// Range tells holes, which zeros have become.
func (o *open) Range(off int64) (end int64, data bool, err error) {
	if f, ok := o.file.(storage.RangeFinder); ok {
		return f.Range(off)
	}
	end, err = o.Size()
	return end, true, err
}
