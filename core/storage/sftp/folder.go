package sftp

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"

	"bagaglio/core/storage"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"
)

// Folder is a folder of another computer. Make one with [Open]. A link in it is never followed, wherever it leads: whether that is out of
// the folder, only the host could tell. The host connection is made again when it was cut.
type Folder struct {
	*host
	dir   string
	fresh bool
}

// host is what a folder and its fresh twin share.
type host struct {
	login Login

	mu     sync.Mutex
	conn   *client
	tools  tools
	closed bool
}

// Open logs in to a host and opens the folder at dir there, which must exist.
func Open(ctx context.Context, login Login, dir string) (*Folder, error) {
	if !path.IsAbs(dir) {
		return nil, fmt.Errorf("the folder %q has to be an absolute path on the host", dir)
	}
	f := &Folder{host: &host{login: login}, dir: path.Clean(dir)}
	c, err := f.client(ctx)
	if err != nil {
		return nil, err
	}
	var info os.FileInfo
	err = c.ask(func() (err error) {
		info, err = c.sftp.Stat(f.dir)
		return err
	})
	if err == nil && !info.IsDir() {
		err = errors.New("it is not a folder")
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("opening the folder %s on the host: %w", f.dir, err), f.Close())
	}
	f.tools = f.findTools(c)
	return f, nil
}

// NameOf is the name of a path of the host.
func (f *Folder) NameOf(at string) (string, bool) { return storage.Under(f.dir, at) }

// client returns the connection, made again if need be.
func (h *host) client(ctx context.Context) (*client, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return nil, fs.ErrClosed
	}
	if h.conn != nil && h.conn.alive() {
		return h.conn, nil
	}
	c, err := h.login.dial(ctx)
	if err != nil {
		return nil, err
	}
	h.conn = c
	return c, nil
}

// Close ends the connection, and with it all open files.
func (h *host) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	if h.conn == nil {
		return nil
	}
	return h.conn.close()
}

// Fresh returns the same folder, of which the host lets go in its memory before files are read, where it has the tool for that.
func (f *Folder) Fresh() storage.Folder { return &Folder{host: f.host, dir: f.dir, fresh: true} }

// spot is a name in a folder, as the host has it.
type spot struct {
	full string
	info os.FileInfo // what it is, not followed
	err  error       // why that is not known
}

// at does something with a name in the folder, which is first looked at for links.
func (f *Folder) at(name string, do func(c *client, at spot) error) error {
	name, err := storage.Clean(name)
	if err != nil {
		return err
	}
	c, err := f.client(context.Background())
	if err != nil {
		return err
	}
	at, err := f.look(c, name)
	if err != nil {
		return err
	}
	return c.ask(func() error { return do(c, at) })
}

// look looks at a name, and fails when a part of it is a link. All parts are asked for at once.
func (f *Folder) look(c *client, name string) (found spot, err error) {
	var group errgroup.Group
	for at := name; ; at = path.Dir(at) {
		group.Go(func() error {
			return c.ask(func() error {
				full := path.Join(f.dir, storage.RawName(at))
				info, err := c.sftp.Lstat(full)
				if at == name {
					found = spot{full, info, err}
				}
				if err == nil && info.Mode()&fs.ModeSymlink != 0 && at != "." { // the folder itself may be one: its keeper said so
					return fmt.Errorf("%s is a link, and links on another computer are not followed: %w", at, storage.ErrOutside)
				}
				if errors.Is(err, fs.ErrNotExist) {
					return nil // what is done with it will say so
				}
				return err
			})
		})
		if path.Dir(at) == "." {
			return found, group.Wait()
		}
	}
}

// Open opens a regular file for reading.
func (f *Folder) Open(name string) (storage.File, error) {
	opened, err := f.open(name, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	if f.tools.tellHoles() {
		return opened.forReading(), nil
	}
	return opened, nil
}

// Create makes a new file, and the folders above it where they are missing.
func (f *Folder) Create(name string) (file storage.File, err error) {
	err = f.inDir(name, func() error {
		opened, err := f.open(name, os.O_RDWR|os.O_CREATE|os.O_EXCL)
		if err == nil {
			file = opened
		}
		return err
	})
	return file, err
}

// Reopen opens a file that Create made, to go on writing to it.
func (f *Folder) Reopen(name string) (storage.File, error) {
	opened, err := f.open(name, os.O_RDWR)
	if err != nil {
		return nil, err
	}
	return opened, nil
}

func (f *Folder) open(name string, flags int) (*file, error) {
	var out *file
	err := f.at(name, func(c *client, at spot) error {
		switch {
		case flags&os.O_CREATE != 0 && at.err == nil:
			return &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
		case flags&os.O_CREATE == 0 && at.err != nil:
			return at.err
		case at.err == nil && !at.info.Mode().IsRegular():
			return fmt.Errorf("%s is a %s, not a file: name the file of an image", name, storage.KindOf(at.info.Mode()))
		}
		if f.fresh {
			c.letGo(f.tools, at.full)
		}
		opened, err := c.sftp.OpenFile(at.full, flags)
		if err != nil {
			return err
		}
		out = &file{client: c, file: opened, name: name, flags: flags &^ (os.O_CREATE | os.O_EXCL), lanes: make([]lane, len(c.lanes))}
		out.dirty.Store(flags != os.O_RDONLY) // it is new, or somebody else wrote to it
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// inDir does something with a name whose folders are made where they are missing.
func (f *Folder) inDir(name string, do func() error) error {
	const tries = 100 // somebody who tidies up may remove a folder in between, as long as it is empty
	for i := 1; ; i++ {
		err := do()
		if !errors.Is(err, fs.ErrNotExist) || i == tries {
			return err
		}
		if err := f.makeAbove(name); err != nil {
			return err
		}
	}
}

func (f *Folder) makeAbove(name string) error {
	above := path.Dir(path.Clean(name))
	return f.at(above, func(c *client, _ spot) error {
		for i := range above + "/" {
			if i < len(above) && above[i] != '/' {
				continue
			}
			full := path.Join(f.dir, above[:i])
			if err := c.sftp.Mkdir(full); err != nil {
				info, there := c.sftp.Lstat(full)
				if errors.Is(there, fs.ErrNotExist) {
					return nil // somebody removed it in between: it is tried again
				}
				if there != nil || !info.IsDir() {
					return fmt.Errorf("making the folder %s: %w", above[:i], err)
				}
			}
		}
		return nil
	})
}

// Rename moves a file inside the folder. Some servers replace what exists, so it is looked at first.
func (f *Folder) Rename(from, to string) error { return f.rename(f, from, to) }

// rename renames a file of a folder of the same host.
func (f *Folder) rename(src *Folder, from, to string) error {
	if _, err := storage.Clean(from); err != nil {
		return err
	}
	return f.inDir(to, func() error {
		return src.at(from, func(_ *client, old spot) error {
			if old.err != nil {
				return fmt.Errorf("%s cannot be renamed: it is not there", from) // what fs.ErrNotExist stands for here is a missing folder above to
			}
			return f.at(to, func(c *client, now spot) error {
				if now.err == nil {
					return &os.LinkError{Op: "rename", Old: from, New: to, Err: fs.ErrExist}
				}
				if _, err := c.sftp.Lstat(path.Dir(now.full)); err != nil {
					return err
				}
				return c.sftp.Rename(old.full, now.full)
			})
		})
	})
}

// MoveIn takes over a file of another folder of the same host, which knows by itself whether that is on one filesystem.
func (f *Folder) MoveIn(from storage.Folder, name, to string) error {
	src, ok := f.beside(from)
	if !ok {
		return errors.ErrUnsupported
	}
	return f.rename(src, name, to)
}

// Moves tells whether the other folder is of the same host.
func (f *Folder) Moves(from storage.Folder, _, _ string) bool {
	_, ok := f.beside(from)
	return ok
}

func (f *Folder) beside(other storage.Folder) (*Folder, bool) {
	o, ok := storage.As[*Folder](other)
	return o, ok && o.login.Address == f.login.Address && o.login.User == f.login.User
}

// Exchange is not a part of the protocol.
func (f *Folder) Exchange(a, b string) error {
	for _, name := range []string{a, b} {
		if _, err := storage.Clean(name); err != nil {
			return err
		}
	}
	return fmt.Errorf("swapping two files over SFTP: %w", errors.ErrUnsupported)
}

// Remove removes a file, a link or an empty folder.
func (f *Folder) Remove(name string) error {
	name, err := storage.Clean(name)
	if err != nil {
		return err
	}
	return f.at(path.Dir(name), func(c *client, dir spot) error {
		full := path.Join(dir.full, storage.RawName(path.Base(name)))
		info, err := c.sftp.Lstat(full)
		if err != nil {
			return err
		}
		if info.IsDir() {
			return c.sftp.RemoveDirectory(full)
		}
		return c.sftp.Remove(full)
	})
}

// Stat tells what name is.
func (f *Folder) Stat(name string) (info storage.Info, err error) {
	err = f.at(name, func(_ *client, at spot) error {
		if at.err == nil {
			info = toInfo(path.Clean(name), at.info)
		}
		return at.err
	})
	return info, err
}

func toInfo(name string, info os.FileInfo) storage.Info {
	size := max(0, info.Size()) // a host may say anything
	out := storage.Info{
		Name:     name,
		Size:     size,
		Room:     storage.Unknown,
		Modified: info.ModTime(),
		IsDir:    info.IsDir(),
		Regular:  info.Mode().IsRegular(),
	}
	if st, ok := info.Sys().(*sftp.FileStat); ok {
		out.Owner, out.Mode = fmt.Sprintf("%d:%d", st.UID, st.GID), storage.FormatMode(info.Mode())
	}
	return out
}

// List returns what lies directly in dir, sorted by name. Names that no other call would accept are left out.
func (f *Folder) List(dir string) (infos []storage.Info, err error) {
	err = f.at(dir, func(c *client, at spot) error {
		found, err := c.readDir(at.full)
		for _, i := range found {
			base := i.Name()
			if base == "." || base == ".." || strings.Contains(base, "/") {
				continue
			}
			name, err := storage.Clean(path.Join(dir, storage.ShownName(base)))
			if err != nil {
				continue
			}
			infos = append(infos, toInfo(name, i))
		}
		return err
	})
	slices.SortFunc(infos, func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) })
	return infos, err
}

// Sync returns when the names in dir are on stable storage, where the host has the tool for that. The protocol itself cannot do it.
func (f *Folder) Sync(dir string) error {
	return f.at(dir, func(c *client, at spot) error {
		if at.err != nil {
			return at.err
		}
		return c.syncFolder(f.tools, at.full)
	})
}

// largestOf are the filesystems whose files are short.
var largestOf = map[string]int64{"msdos": 4<<30 - 1, "vfat": 4<<30 - 1}

// Space asks the host, which may not tell.
func (f *Folder) Space() (s storage.Space, err error) {
	err = f.at(".", func(c *client, at spot) error {
		s = storage.Space{
			Kind:        f.tools.filesystem,
			Total:       storage.Unknown,
			Free:        storage.Unknown,
			LargestFile: largestOf[f.tools.filesystem],
			Holes:       !storage.NoHoles[f.tools.filesystem],
		}
		if s.Kind == "" {
			s.Kind = "unknown"
		}
		st, err := c.sftp.StatVFS(at.full)
		var status *sftp.StatusError
		if errors.As(err, &status) {
			return nil
		}
		if err != nil {
			return err
		}
		unit := int64(max(st.Frsize, 1))
		s.Total, s.Free = int64(st.Blocks)*unit, int64(st.Bavail)*unit
		s.ReadOnly = st.Flag&1 != 0 // SSH_FXE_STATVFS_ST_RDONLY (OpenSSH, PROTOCOL, 4.5)
		s.ID = fmt.Sprintf("%s/%x", f.login.Address, st.Fsid)
		return nil
	})
	return s, err
}
