package sftp

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"
	"syscall"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"golang.org/x/crypto/ssh"
)

// rooted is a disk of the host that the login may read by sudo only, by dd(1): a command for each part. Small parts come from larger ones that were read
// before.
type rooted struct {
	client *client
	path   string
	size   int64
	next   atomic.Uint32 // which wire has its turn
	pages  *disk.Pages
}

// smallPart is what is read through pages, in bytes.
const smallPart = 64 << 10

// asRoot opens a disk by sudo. It fails where that asks for a password, or does not let the login do it.
func (c *client) asRoot(path string, size int64) (*rooted, error) {
	d := &rooted{client: c, path: path, size: size}
	d.pages = disk.NewPages(rawly{d}, size)
	if _, err := d.ReadAt(make([]byte, min(512, size)), 0); err != nil {
		return nil, fmt.Errorf("reading %s by sudo: %w; let the login run dd by sudo without a password, or be in the group disk", path, err)
	}
	return d, nil
}

// rawly reads past the pages.
type rawly struct{ d *rooted }

func (r rawly) ReadAt(p []byte, off int64) (int, error) { return r.d.read(p, off) }

func (d *rooted) ReadAt(p []byte, off int64) (int, error) {
	if off >= d.size {
		return 0, io.EOF
	}
	if int64(len(p)) > d.size-off {
		n, err := d.ReadAt(p[:d.size-off], off)
		if err == nil {
			err = io.EOF
		}
		return n, err
	}
	if len(p) < smallPart {
		return d.pages.ReadAt(p, off)
	}
	return d.read(p, off)
}

// read has the host read a part.
func (d *rooted) read(p []byte, off int64) (int, error) {
	wires := d.client.wires
	session, err := newSession(wires[int(d.next.Add(1))%len(wires)])
	if err != nil {
		return 0, err
	}
	defer session.Close()
	out, said := &filling{into: p}, &bounded{left: 1000, full: func() {}}
	session.Stdout, session.Stderr = out, said
	err = session.Run(
		fmt.Sprintf(
			"PATH=$PATH:/usr/sbin:/sbin; LC_ALL=C; export LC_ALL; sudo -n dd if=%s bs=1M iflag=skip_bytes,count_bytes skip=%d count=%d status=none",
			quote(d.path),
			off,
			len(p),
		),
	)
	var exit *ssh.ExitError
	switch text := storage.Printable(strings.TrimSpace(said.String())); {
	case errors.As(err, &exit) && strings.Contains(text, "Input/output error"):
		return out.n, fmt.Errorf("%s: %w", text, syscall.EIO)
	case errors.As(err, &exit):
		return out.n, fmt.Errorf("the host says: %s", text)
	case err != nil:
		return out.n, plain(err)
	case out.n < len(p):
		return out.n, fmt.Errorf("%d bytes came of %d: %w", out.n, len(p), io.ErrUnexpectedEOF)
	}
	return out.n, nil
}

// filling takes what comes, as long as there is room.
type filling struct {
	into []byte
	n    int
}

func (f *filling) Write(b []byte) (int, error) {
	n := copy(f.into[f.n:], b)
	if f.n += n; n < len(b) {
		return n, bytes.ErrTooLarge
	}
	return n, nil
}

func (*rooted) WriteAt([]byte, int64) (int, error) { return 0, errors.ErrUnsupported }
func (*rooted) Truncate(int64) error               { return errors.ErrUnsupported }
func (*rooted) Sync() error                        { return nil }
func (*rooted) Close() error                       { return nil }
func (d *rooted) Size() (int64, error)             { return d.size, nil }
