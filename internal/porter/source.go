package porter

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"sync"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/errand"
)

// source is a folder on the computer of another porter. Its files are read straight from there; everything else the service does there, which knows whether the job is this porter's still.
type source struct {
	storage.Folder        // that reads
	at             string // where it lies there
	work           *work
	of             errand.Deed // which folder it is
	larder         *larder     // nil where nothing lies here
	body           plan.Disk
}

// Open opens a file there, of which what lies here already is not sent.
func (s *source) Open(name string) (storage.File, error) {
	f, err := s.Folder.Open(name)
	if err != nil || s.larder == nil || s.body.After == nil {
		return f, err
	}
	dir := path.Dir(s.body.After.Place.Path)
	var old storage.File
	for _, c := range s.body.Copied {
		if c.From == path.Clean(name) {
			if old, err = s.larder.folder.Open(path.Join(dir, c.To)); err != nil {
				old = nil // there is none
			}
		}
	}
	return s.larder.leanFile(s.work.ctx, f, old, dir), nil
}

// NameOf is of a path on that computer.
func (s *source) NameOf(at string) (string, bool) { return storage.Under(s.at, at) }

// do asks the service to do something there, also for a job that was told to stop: what it did is taken back.
func (s *source) do(d errand.Deed) (f errand.Found, err error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(s.work.ctx), errand.LeaseFor)
	defer cancel()
	d.Subject, d.Pool, d.Number = s.of.Subject, s.of.Pool, errand.Number{Turn: s.work.turn, N: s.work.deeds.Add(1)}
	err = ask(ctx, s.work, errand.Files, d, &f)
	return f, err
}

func (s *source) Stat(name string) (storage.Info, error) {
	f, err := s.do(errand.Deed{Do: errand.DoStat, Name: name})
	if err != nil {
		return storage.Info{}, err
	}
	if len(f.Infos) != 1 {
		return storage.Info{}, fmt.Errorf("the service says nothing of %s", name)
	}
	return f.Infos[0], nil
}

func (s *source) List(dir string) ([]storage.Info, error) {
	f, err := s.do(errand.Deed{Do: errand.DoList, Name: dir})
	return f.Infos, err
}

func (s *source) Rename(from, to string) error {
	_, err := s.do(errand.Deed{Do: errand.DoRename, Name: from, To: to})
	return err
}

func (s *source) Remove(name string) error {
	_, err := s.do(errand.Deed{Do: errand.DoRemove, Name: name})
	return err
}

func (s *source) Sync(dir string) error {
	_, err := s.do(errand.Deed{Do: errand.DoSync, Name: dir})
	return err
}

func (s *source) Space() (storage.Space, error) {
	f, err := s.do(errand.Deed{Do: errand.DoSpace})
	if err != nil {
		return storage.Space{}, err
	}
	if f.Space == nil {
		return storage.Space{}, errors.New("the service says nothing of the room there")
	}
	return *f.Space, nil
}

// Create makes a small file, which is there when it was synced or closed.
func (s *source) Create(name string) (storage.File, error) {
	if _, err := s.Stat(name); err == nil {
		return nil, errand.Exists(path.Clean(name))
	}
	return &note{folder: s, name: name}, nil
}

// left is the folder that the disks of a machine lie in from which it goes away while it runs. What is made beside them is the host's.
type left struct{ *source }

func (l left) Own(name, owner, mode string) error {
	_, err := l.do(errand.Deed{Do: errand.DoOwn, Name: name, Owner: owner, Mode: mode})
	return err
}

// Gives says what is so as far as is known here.
func (l left) Gives(string) bool { return true }

// note is a small file as it is made.
type note struct {
	folder *source
	name   string

	mu      sync.Mutex
	content []byte
	made    bool // it is there
	changed bool // since then
}

func (n *note) WriteAt(p []byte, off int64) (int, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	end := off + int64(len(p))
	if off < 0 || end > errand.MaxContent {
		return 0, n.tooLarge()
	}
	n.changed = true
	if grow := end - int64(len(n.content)); grow > 0 {
		n.content = append(n.content, make([]byte, grow)...)
	}
	return copy(n.content[off:], p), nil
}

func (n *note) ReadAt(p []byte, off int64) (int, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if off >= int64(len(n.content)) {
		return 0, io.EOF
	}
	k := copy(p, n.content[off:])
	if k < len(p) {
		return k, io.EOF
	}
	return k, nil
}

func (n *note) Size() (int64, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return int64(len(n.content)), nil
}

func (n *note) Truncate(size int64) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if size < 0 || size > errand.MaxContent {
		return n.tooLarge()
	}
	n.changed = true
	n.content = append(n.content[:min(size, int64(len(n.content)))], make([]byte, max(0, size-int64(len(n.content))))...)
	return nil
}

func (n *note) tooLarge() error {
	return fmt.Errorf("%s on the other porter's computer is too large to be made from here: %w", n.name, errors.ErrUnsupported)
}

func (n *note) Sync() error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.made && !n.changed {
		return nil
	}
	if n.made { // it is made anew
		if err := n.folder.Remove(n.name); err != nil {
			return err
		}
	}
	_, err := n.folder.do(errand.Deed{Do: errand.DoCreate, Name: n.name, Content: errand.ContentOf(n.content)})
	n.made, n.changed = err == nil, false
	return err
}

func (n *note) Close() error { return n.Sync() }
