package http

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/storage"
)

// file is a file of a server. Each read is a request of its own, so that several are under way at once and none outlives a cut line.
type file struct {
	folder *Folder
	name   string
	size   int64
	leaves bool              // the server tells them
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
	if f.folder.login.Pack {
		header[packHeader] = zstdName
	}
	answer, err := f.folder.ask(ctx, http.MethodGet, f.name, header, nil, http.StatusPartialContent)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	got, want := answer.Header.Get("Content-Range"), fmt.Sprintf("bytes %d-%d/%d", off, last, f.size)
	if at := strings.LastIndex(want, "/") + 1; f.folder.login.Used && len(got) >= at { // it may have grown
		got, want = got[:at], want[:at]
	}
	if got != want {
		return 0, fmt.Errorf(
			"the server was asked for %q of %s and sends %q: the file has changed, or the server is not to be trusted",
			want,
			f.name,
			storage.Printable(got),
		)
	}
	within := time.AfterFunc(patience+time.Duration(len(p)/slowest)*time.Second, cancel)
	defer within.Stop()
	body, end, err := unpacked(answer)
	if err != nil {
		return 0, err
	}
	defer end()
	n, err := readAll(&patient{body, time.AfterFunc(patience, cancel)}, p)
	if err != nil {
		return n, fmt.Errorf("%w: reading %s from the server: %w", storage.ErrLost, f.name, err)
	}
	return n, short
}

// sparse is a file of which the server tells what holds data.
type sparse struct {
	*file
	once sync.Once
	runs [][2]int64
	err  error
}

// Range asks the server for all runs, the first time. What is no list of runs in their order is an error.
func (s *sparse) Range(off int64) (end int64, data bool, err error) {
	s.once.Do(func() { s.runs, s.err = s.ask() })
	if s.err != nil {
		return 0, false, s.err
	}
	i, in := slices.BinarySearchFunc(s.runs, off, func(run [2]int64, off int64) int {
		switch {
		case run[1] <= off:
			return -1
		case run[0] > off:
			return 1
		}
		return 0
	})
	switch {
	case in:
		return s.runs[i][1], true, nil
	case i < len(s.runs):
		return s.runs[i][0], false, nil
	}
	return s.size, false, nil
}

func (s *sparse) ask() (runs [][2]int64, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), listFor)
	defer cancel()
	header := map[string]string{"Accept": runsType}
	maps.Copy(header, s.same)
	answer, err := s.folder.ask(ctx, http.MethodGet, s.name, header, nil, http.StatusOK, http.StatusNotAcceptable)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusNotAcceptable {
		return [][2]int64{{0, s.size}}, nil
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, maxList)).Decode(&runs); err != nil {
		return nil, fmt.Errorf("reading what of %s holds data: %w", s.name, err)
	}
	last := int64(0)
	for _, r := range runs {
		if r[0] < last || r[1] <= r[0] || r[1] > s.size {
			return nil, fmt.Errorf("what the server says of %s is no list of runs", s.name)
		}
		last = r[1]
	}
	return runs, nil
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
