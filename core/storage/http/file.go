package http

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"bagaglio/core/storage"
)

// file is a file of a server. Each read is a request of its own, so that several are under way at once and none outlives a cut line.
type file struct {
	folder *Folder
	name   string
	size   int64
	same   map[string]string // header of a condition that holds as long as the file is what it was
}

// slowest is how many bytes a second a server has to send, on the whole: one that sends less is given up.
const slowest = 16 << 10

// ReadAt asks for a range.
func (f *file) ReadAt(p []byte, off int64) (int, error) {
	if off >= f.size || len(p) == 0 {
		return 0, io.EOF
	}
	var short error
	if int64(len(p)) > f.size-off {
		p, short = p[:f.size-off], io.EOF
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	last := off + int64(len(p)) - 1
	header := map[string]string{"Range": fmt.Sprintf("bytes=%d-%d", off, last)}
	for k, v := range f.same {
		header[k] = v
	}
	answer, err := f.folder.ask(ctx, http.MethodGet, f.name, header, nil, http.StatusPartialContent)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	if got, want := answer.Header.Get("Content-Range"), fmt.Sprintf("bytes %d-%d/%d", off, last, f.size); got != want {
		return 0, fmt.Errorf(
			"the server was asked for %q of %s and sends %q: the file has changed, or the server is not to be trusted",
			want,
			f.name,
			storage.Printable(got),
		)
	}
	within := time.AfterFunc(patience+time.Duration(len(p)/slowest)*time.Second, cancel)
	defer within.Stop()
	n, err := readAll(&patient{answer.Body, time.AfterFunc(patience, cancel)}, p)
	if err != nil {
		return n, fmt.Errorf("%w: reading %s from the server: %w", storage.ErrLost, f.name, err)
	}
	return n, short
}

// patient gives up a body of which nothing comes for too long.
type patient struct {
	io.Reader
	timer *time.Timer
}

func (r *patient) Read(p []byte) (int, error) {
	r.timer.Reset(patience)
	return r.Reader.Read(p)
}

// readAll fills p, which is all that the body has.
func readAll(r *patient, p []byte) (int, error) {
	defer r.timer.Stop()
	n, err := io.ReadFull(r, p)
	if err == nil {
		if k, _ := r.Read(make([]byte, 1)); k > 0 {
			return 0, errors.New("the server sends more than it said")
		}
	}
	return n, err
}

func (f *file) WriteAt([]byte, int64) (int, error) { return 0, readOnly(f.name) }
func (f *file) Truncate(int64) error               { return readOnly(f.name) }
func (f *file) Sync() error                        { return nil }
func (f *file) Size() (int64, error)               { return f.size, nil }
func (f *file) Close() error                       { return nil }
