package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
)

// Files returns what lies directly in a folder of a pool, one page of it.
func (s *Service) Files(ctx context.Context, pool, folder, cursor string) (api.FileList, error) {
	limit := 1000
	return decode[api.FileList](s.calls.ListFiles(ctx, pool, &api.ListFilesParams{Folder: &folder, Cursor: &cursor, Limit: &limit}))
}

// MakeFolder makes a folder in a pool.
func (s *Service) MakeFolder(ctx context.Context, pool, name string) error {
	_, err := decode[struct{}](s.calls.MakeFolder(ctx, pool, api.NewFolder{Path: name}))
	return err
}

// RenameFile gives a file or a folder of a pool another name.
func (s *Service) RenameFile(ctx context.Context, pool, from, to string) error {
	_, err := decode[struct{}](s.calls.RenameFile(ctx, pool, api.Rename{Path: from, To: to}))
	return err
}

// RemoveFile takes a file or a folder away; its files are held.
func (s *Service) RemoveFile(ctx context.Context, pool, name string) error {
	_, err := decode[struct{}](s.calls.RemoveFile(ctx, pool, &api.RemoveFileParams{Path: name}))
	return err
}

// SumFile has the service read a file whole, and returns its SHA-256.
func (s *Service) SumFile(ctx context.Context, pool, name string) (api.ContentSum, error) {
	return decode[api.ContentSum](s.calls.SumFile(ctx, pool, &api.SumFileParams{Path: name}))
}

// Folder is a pool of the service, to read the files in it.
func (s *Service) Folder(ctx context.Context, pool string) storage.Folder {
	return &folder{s, ctx, pool}
}

// folder reads a pool through the service. Nothing can be written there.
type folder struct {
	service *Service
	ctx     context.Context
	pool    string
}

// errReadOnly is that of all that would change something.
var errReadOnly = fmt.Errorf("a pool that is read through the service cannot be written to: %w", errors.ErrUnsupported)

func (f *folder) Create(string) (storage.File, error) { return nil, errReadOnly }
func (f *folder) Reopen(string) (storage.File, error) { return nil, errReadOnly }
func (f *folder) Rename(string, string) error         { return errReadOnly }
func (f *folder) Exchange(string, string) error       { return errReadOnly }
func (f *folder) Remove(string) error                 { return errReadOnly }
func (f *folder) Sync(string) error                   { return nil }
func (f *folder) Close() error                        { return nil }

// Space tells how much room the pool has, and which filesystem it is, by the pool.
func (f *folder) Space() (storage.Space, error) {
	p, err := f.service.Pool(f.ctx, f.pool)
	space := storage.Space{ID: "pool " + f.pool, Total: storage.Unknown, Free: storage.Unknown, Served: true, Holes: true}
	if p.Free != nil && p.Total != nil {
		space.Free, space.Total = *p.Free, *p.Total
	}
	return space, err
}

// answer is one that has content, or the error of what is not there.
func (f *folder) answer(name string, resp *http.Response, err error, good int) (*http.Response, error) {
	if err != nil {
		return nil, fmt.Errorf("%w: %w", storage.ErrLost, unreachable(err))
	}
	if resp.StatusCode == good {
		return resp, nil
	}
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusNotFound:
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	case resp.StatusCode == http.StatusPreconditionFailed:
		return nil, fmt.Errorf("%s was changed while it was read: start again", name)
	case resp.StatusCode >= http.StatusInternalServerError:
		return nil, fmt.Errorf("%w: the service answers %s", storage.ErrLost, resp.Status)
	case resp.Request.Method == http.MethodHead:
		return nil, fmt.Errorf("the service answers %s for %s", resp.Status, name)
	}
	return nil, decodeProblem(resp)
}

func (f *folder) Open(name string) (storage.File, error) {
	resp, err := f.service.calls.StatFile(f.ctx, f.pool, name)
	resp, err = f.answer(name, resp, err, http.StatusOK)
	if err != nil {
		return nil, err
	}
	return &file{f, name, resp.ContentLength, resp.Header.Get("ETag")}, resp.Body.Close()
}

func (f *folder) Stat(name string) (storage.Info, error) {
	if name == "." {
		return storage.Info{Name: name, IsDir: true, Room: storage.Unknown}, nil
	}
	all, err := f.List(path.Dir(name))
	for _, i := range all {
		if i.Name == path.Clean(name) {
			return i, nil
		}
	}
	if err == nil {
		err = &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	return storage.Info{}, err
}

func (f *folder) List(dir string) (all []storage.Info, err error) {
	if slices.Contains(strings.Split(dir, "/"), disks.OwnFolder) { // the service shows nothing of it
		return nil, &fs.PathError{Op: "list", Path: dir, Err: fs.ErrNotExist}
	}
	for cursor := ""; ; {
		page, err := f.service.Files(f.ctx, f.pool, dir, cursor)
		var problem *Error
		if errors.As(err, &problem) && problem.Status == http.StatusNotFound {
			return nil, &fs.PathError{Op: "list", Path: dir, Err: fs.ErrNotExist}
		}
		if err != nil {
			return nil, err
		}
		for _, e := range page.Items {
			i := storage.Info{Name: e.Path, Size: e.Size, Room: storage.Unknown, Modified: e.Modified, IsDir: e.Folder, Regular: !e.Folder}
			if e.Room != nil {
				i.Room = *e.Room
			}
			all = append(all, i)
		}
		if page.Next == nil {
			return all, nil
		}
		cursor = *page.Next
	}
}

// file is read in ranges, each by a request of its own. It fails when the file is not any more what it was.
type file struct {
	folder *folder
	name   string
	size   int64
	tag    string
}

func (f *file) WriteAt([]byte, int64) (int, error) { return 0, errReadOnly }
func (f *file) Truncate(int64) error               { return errReadOnly }
func (f *file) Sync() error                        { return nil }
func (f *file) Close() error                       { return nil }
func (f *file) Size() (int64, error)               { return f.size, nil }

// tries is how often a range is asked for, with a pause before each further time that is longer than the last one.
const tries = 6

func (f *file) ReadAt(p []byte, off int64) (n int, err error) {
	if off >= f.size || len(p) == 0 {
		return 0, io.EOF
	}
	var short error
	if int64(len(p)) > f.size-off {
		p, short = p[:f.size-off], io.EOF
	}
	for try := range tries {
		if n, err = f.read(p, off); err == nil {
			return n, short
		}
		if !storage.Lost(err) || try == tries-1 {
			break
		}
		select {
		case <-f.folder.ctx.Done():
			return 0, f.folder.ctx.Err()
		case <-time.After(time.Second << try):
		}
	}
	return 0, err
}

func (f *file) read(p []byte, off int64) (int, error) {
	resp, err := f.folder.service.calls.ReadFile(f.folder.ctx, f.folder.pool, f.name, func(_ context.Context, r *http.Request) error {
		r.Header.Set("Range", "bytes="+strconv.FormatInt(off, 10)+"-"+strconv.FormatInt(off+int64(len(p))-1, 10))
		r.Header.Set("If-Match", f.tag)
		return nil
	})
	resp, err = f.folder.answer(f.name, resp, err, http.StatusPartialContent)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	n, err := io.ReadFull(resp.Body, p)
	if err != nil {
		err = fmt.Errorf("%w: reading %s: %w", storage.ErrLost, f.name, err)
	}
	return n, err
}
