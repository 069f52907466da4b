//go:build linux && !elsewhere

package local

import (
	"bagaglio/core/device"
	"errors"
	"fmt"
	"os"
	"path"
	"sync"
	"syscall"
	"time"
)

// Kept is a folder that nothing of a [Folder] may lead to, whatever it is called there: by a link, a bind mount, another name of one of
// its files.
type Kept struct {
	dir string

	mu    sync.Mutex
	read  time.Time // when the names in it had changed last, as they are known
	files map[identity]bool
}

// identity is the same for two names of one file.
type identity struct{ device, inode uint64 }

func identityOf(info os.FileInfo) identity {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return identity{}
	}
	return identity{st.Dev, st.Ino}
}

// Keep returns the folder at dir, which must exist, as one to be kept.
func Keep(dir string) *Kept { return &Kept{dir: dir, files: map[identity]bool{}} }

// Disks are the physical disks of this computer that it lies on: who reads one of them whole reads what is kept, too.
func (k *Kept) Disks() ([]string, error) {
	if k == nil {
		return nil, nil
	}
	return device.Beneath(device.Here{}, k.dir)
}

// ErrKept is the error for what leads into a folder that is kept.
var ErrKept = errors.New("it belongs to the service itself, which keeps its records and keys there")

// Apart fails for a folder that is the kept one, lies in it, or has it inside.
func (k *Kept) Apart(dir string) error {
	if k == nil {
		return nil
	}
	kept, err := Find(k.dir)
	if err != nil {
		return err
	}
	w, err := Find(dir)
	if err != nil {
		return err
	}
	if kept.In(w) || w.In(kept) {
		return fmt.Errorf("%s: %w; choose another folder", dir, ErrKept)
	}
	return nil
}

// holds tells whether something is the kept folder, or a file in it.
func (k *Kept) holds(info os.FileInfo) bool {
	self, err := os.Stat(k.dir)
	if err != nil {
		return false // then there is nothing to be kept
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if !self.ModTime().Equal(k.read) {
		k.files = map[identity]bool{identityOf(self): true}
		entries, err := os.ReadDir(k.dir)
		for _, e := range entries {
			if i, infoErr := e.Info(); infoErr == nil {
				k.files[identityOf(i)] = true
			}
		}
		if err == nil {
			k.read = self.ModTime()
		}
	}
	return k.files[identityOf(info)]
}

// Holds fails for what is the kept folder, or a file in it.
func (k *Kept) Holds(info os.FileInfo) error {
	if k.holds(info) {
		return ErrKept
	}
	return nil
}

// leads fails for a name in an open folder that leads to what is kept, or through it.
func (k *Kept) leads(open *os.Root, name string) error {
	if k == nil {
		return nil
	}
	for at := path.Clean(name); at != "."; at = path.Dir(at) {
		for _, look := range []func(string) (os.FileInfo, error){open.Stat, open.Lstat} {
			if info, err := look(at); err == nil && k.holds(info) {
				return fmt.Errorf("%s: %w", name, ErrKept)
			}
		}
	}
	return nil
}

// opened fails, and closes it, for a file that is kept: it may have come to the name a moment ago.
func (k *Kept) opened(f *os.File, err error) (*os.File, error) {
	if err != nil || k == nil {
		return f, err
	}
	info, err := f.Stat()
	if err == nil && k.holds(info) {
		err = fmt.Errorf("%s: %w", f.Name(), ErrKept)
	}
	if err != nil {
		_ = f.Close() // nothing was written to it
		return nil, err
	}
	return f, nil
}
