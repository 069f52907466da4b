//go:build linux && !elsewhere

package local

import (
	"fmt"
	"io/fs"
	"os"
	"sync"
	"time"

	"bagaglio/core/storage"
)

// restAfter is for how long nothing is done with a folder until it is let go of.
const restAfter = time.Second

// root is the folder itself. It is open while something is done with it and shortly after, so that a drive can be unmounted, which an open
// folder forbids. What its methods do is what those of os.Root do.
type root struct {
	dir  string
	kept *Kept // nil where nothing is

	mu     sync.Mutex
	open   *os.Root
	users  int
	rest   *time.Timer
	closed bool
}

// openRoot opens a folder, which must exist.
func openRoot(dir string, kept *Kept) (*root, error) {
	r := &root{dir: dir, kept: kept}
	r.rest = time.AfterFunc(restAfter, r.letGo)
	_, err := r.take()
	if err != nil {
		return nil, fmt.Errorf("opening folder %s: %w", dir, err)
	}
	r.give()
	return r, nil
}

// take opens the folder if need be. It stays open until it is given back as often.
func (r *root) take() (*os.Root, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return nil, fs.ErrClosed
	}
	if r.open != nil && r.users == 0 && !r.isStill() {
		_ = r.open.Close() // nothing was written through it itself
		r.open = nil
	}
	if r.open == nil {
		if err := r.kept.Apart(r.dir); err != nil { // something else may have been mounted there
			return nil, err
		}
		open, err := os.OpenRoot(r.dir)
		if err != nil {
			return nil, err
		}
		r.open = open
	}
	r.users++
	return r.open, nil
}

// isStill tells whether what is open is what lies at the path now: something else may have been mounted there.
func (r *root) isStill() bool {
	now, err := os.Stat(r.dir)
	if err != nil {
		return false
	}
	open, err := r.open.Stat(".")
	return err == nil && os.SameFile(now, open)
}

func (r *root) give() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.users--
	if r.users == 0 {
		r.rest.Reset(restAfter)
	}
}

// letGo closes the folder when nobody uses it.
func (r *root) letGo() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.users == 0 && r.open != nil {
		_ = r.open.Close() // likewise
		r.open = nil
	}
}

// leads fails for names that lead to what is kept.
func (r *root) leads(names ...string) error {
	for _, name := range names {
		if err := r.onName(name, func(*os.Root, string) error { return nil }); err != nil {
			return err
		}
	}
	return nil
}

// Close lets go of the folder for good. Open files stay open.
func (r *root) Close() error {
	r.mu.Lock()
	r.closed = true
	r.mu.Unlock()
	r.rest.Stop()
	r.letGo()
	return nil
}

// with does something with the open folder.
func with[T any](r *root, do func(*os.Root) (T, error)) (T, error) {
	open, err := r.take()
	if err != nil {
		var none T
		return none, err
	}
	defer r.give()
	return do(open)
}

// at does something with a name that leads nowhere where it may not.
func at[T any](r *root, name string, do func(open *os.Root, raw string) (T, error)) (T, error) {
	raw := storage.RawName(name)
	return with(r, func(open *os.Root) (T, error) {
		if err := r.kept.leads(open, raw); err != nil {
			var none T
			return none, err
		}
		return do(open, raw)
	})
}

// onName does likewise, with nothing to return.
func (r *root) onName(name string, do func(open *os.Root, raw string) error) error {
	_, err := at(r, name, func(open *os.Root, raw string) (struct{}, error) { return struct{}{}, do(open, raw) })
	return err
}

func (r *root) Name() string { return r.dir }

func (r *root) OpenFile(name string, flag int, perm os.FileMode) (*os.File, error) {
	return at(r, name, func(open *os.Root, raw string) (*os.File, error) {
		return r.kept.opened(open.OpenFile(raw, flag, perm))
	})
}

func (r *root) Open(name string) (*os.File, error) {
	return at(r, name, func(open *os.Root, raw string) (*os.File, error) { return r.kept.opened(open.Open(raw)) })
}

func (r *root) Stat(name string) (os.FileInfo, error) {
	return at(r, name, func(open *os.Root, raw string) (os.FileInfo, error) { return open.Stat(raw) })
}

func (r *root) Lstat(name string) (os.FileInfo, error) {
	return at(r, name, func(open *os.Root, raw string) (os.FileInfo, error) { return open.Lstat(raw) })
}

func (r *root) MkdirAll(name string, perm os.FileMode) error {
	return r.onName(name, func(open *os.Root, raw string) error { return open.MkdirAll(raw, perm) })
}

func (r *root) Rename(from, to string) error {
	return r.onName(from, func(open *os.Root, raw string) error { return open.Rename(raw, storage.RawName(to)) })
}

func (r *root) Remove(name string) error {
	return r.onName(name, func(open *os.Root, raw string) error { return open.Remove(raw) })
}

func (r *root) Chown(name string, uid, gid int) error {
	return r.onName(name, func(open *os.Root, raw string) error { return open.Chown(raw, uid, gid) })
}

func (r *root) Chmod(name string, mode os.FileMode) error {
	return r.onName(name, func(open *os.Root, raw string) error { return open.Chmod(raw, mode) })
}
