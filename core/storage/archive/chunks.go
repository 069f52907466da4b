package archive

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"

	"bagaglio/core/storage"
)

// chunk is what a chunk of a file is called, behind the name of that (DSP0243, 7.1).
const chunk = "%s.%09d"

// FirstChunk is what the first chunk of a file is called.
func FirstChunk(name string) string { return fmt.Sprintf(chunk, name, 0) }

// chunked is a folder with a file that lies in chunks, as if it were one. It is only read.
type chunked struct {
	readOnly

	below  storage.Folder
	name   string
	chunks []storage.Info
	size   int64
}

// joined is the folder in which a name is a file: where only chunks of that are there, one that joins them.
func joined(below storage.Folder, name string) (storage.Folder, error) {
	name = path.Clean(name)
	if _, err := below.Stat(name); !errors.Is(err, fs.ErrNotExist) {
		return below, nil //nolint:nilerr // whoever opens it is told
	}
	f := &chunked{below: below, name: name}
	for {
		info, err := below.Stat(fmt.Sprintf(chunk, name, len(f.chunks)))
		if errors.Is(err, fs.ErrNotExist) {
			break
		}
		if err != nil {
			return nil, err
		}
		if len(f.chunks) == most {
			return nil, fmt.Errorf("%s lies in more than %d chunks: %w", name, most, errors.ErrUnsupported)
		}
		if n := len(f.chunks); n > 1 && f.chunks[n-1].Size != f.chunks[0].Size {
			return nil, fmt.Errorf(
				"%w: chunk %d of %s has %d bytes, and the first one %d",
				ErrDamaged,
				n-1,
				name,
				f.chunks[n-1].Size,
				f.chunks[0].Size,
			)
		}
		f.chunks, f.size = append(f.chunks, info), f.size+info.Size
	}
	if len(f.chunks) == 0 {
		return below, nil
	}
	if last := f.chunks[len(f.chunks)-1]; last.Size > f.chunks[0].Size {
		return nil, fmt.Errorf("%w: the last chunk of %s has %d bytes, and the first one %d", ErrDamaged, name, last.Size, f.chunks[0].Size)
	}
	return f, nil
}

// Open opens a file: of the one in chunks all of them.
func (f *chunked) Open(name string) (storage.File, error) {
	if path.Clean(name) != f.name {
		return f.below.Open(name)
	}
	all := &chunks{each: f.chunks[0].Size, size: f.size}
	for _, info := range f.chunks {
		file, err := f.below.Open(info.Name)
		if err == nil {
			all.files = append(all.files, file)
			var size int64
			if size, err = file.Size(); err == nil && size != info.Size {
				err = fmt.Errorf("the chunk %s is another one than a moment ago: %w", info.Name, storage.ErrLost)
			}
		}
		if err != nil {
			return nil, errors.Join(err, all.Close())
		}
	}
	return all, nil
}

// Stat tells of a file: of the one in chunks what all of them are.
func (f *chunked) Stat(name string) (storage.Info, error) {
	if path.Clean(name) != f.name {
		return f.below.Stat(name)
	}
	out := f.chunks[0]
	for i, was := range f.chunks {
		now, err := f.below.Stat(was.Name)
		if err != nil {
			return storage.Info{}, err
		}
		if now.Size != was.Size || now.ID != was.ID {
			return storage.Info{}, fmt.Errorf("the chunk %s is another one than a moment ago: %w", was.Name, storage.ErrLost)
		}
		if i > 0 {
			out.Room += now.Taken()
		}
		if now.Modified.After(out.Modified) {
			out.Modified = now.Modified
		}
		if now.Changed.After(out.Changed) {
			out.Changed = now.Changed
		}
	}
	out.Name, out.Size = f.name, f.size
	if out.ID != "" {
		out.ID = fmt.Sprintf("%s*%d", out.ID, len(f.chunks))
	}
	return out, nil
}

// List lists what lies directly in a folder, with the file for its chunks.
func (f *chunked) List(dir string) ([]storage.Info, error) {
	all, err := f.below.List(dir)
	if err != nil || path.Clean(dir) != path.Dir(f.name) {
		return all, err
	}
	all = slices.DeleteFunc(all, func(i storage.Info) bool {
		return slices.ContainsFunc(f.chunks, func(c storage.Info) bool { return c.Name == i.Name })
	})
	info, err := f.Stat(f.name)
	return append(all, info), err
}

// InUse tells whether another program uses the file.
func (f *chunked) InUse(name string) (string, error) {
	u, ok := storage.As[storage.Usage](f.below)
	if !ok {
		return "", nil
	}
	if path.Clean(name) != f.name {
		return u.InUse(name)
	}
	for _, c := range f.chunks {
		if why, err := u.InUse(c.Name); err != nil || why != "" {
			return why, err
		}
	}
	return "", nil
}

// Space is that of the storage below, which is not written to.
func (f *chunked) Space() (storage.Space, error) {
	s, err := f.below.Space()
	s.ReadOnly = true
	return s, err
}

// chunks are those of an open file. All but the last have one length.
type chunks struct {
	notWritten

	files      []storage.File
	each, size int64
}

func (c *chunks) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	for n < len(p) && off < c.size && err == nil {
		i := int64(0)
		if c.each > 0 {
			i = min(off/c.each, int64(len(c.files)-1))
		}
		end := c.size
		if i < int64(len(c.files)-1) {
			end = (i + 1) * c.each
		}
		want := p[n:min(int64(len(p)), int64(n)+end-off)]
		var got int
		got, err = c.files[i].ReadAt(want, off-i*c.each)
		n, off = n+got, off+int64(got)
		if got == len(want) {
			err = nil
		}
	}
	if n < len(p) && err == nil {
		err = io.EOF
	}
	return n, err
}

func (c *chunks) Size() (int64, error) { return c.size, nil }

func (c *chunks) Close() (err error) {
	for _, f := range c.files {
		err = errors.Join(err, f.Close())
	}
	return err
}
