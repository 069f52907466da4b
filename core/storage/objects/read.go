package objects

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"

	"bagaglio/core/storage"

	"github.com/minio/minio-go/v7"
)

// Open opens a file for reading, also one that is in parts.
func (f *Folder) Open(name string) (storage.File, error) {
	key, err := f.key(name)
	if err != nil {
		return nil, err
	}
	name = path.Clean(name)
	info, err := f.object(name, key)
	if err == nil {
		return &object{folder: f, name: name, key: key, size: info.Size, tag: info.ETag}, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	in, err := f.inParts(name, key)
	if err == nil {
		in.stored, err = f.partsOf(key)
	}
	if errors.Is(err, fs.ErrNotExist) {
		if info, err := f.Stat(name); err == nil && info.IsDir {
			return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("it is a folder")}
		}
	}
	if err != nil {
		return nil, err
	}
	return &divided{readOnly: readOnly{name}, folder: f, key: key, parts: in}, nil
}

// object is a file that is one object. Each read is a request of its own, and fails where the object is another one by now.
type object struct {
	folder    *Folder
	name, key string
	size      int64
	tag       string
}

func (o *object) ReadAt(p []byte, off int64) (int, error) {
	if off >= o.size || len(p) == 0 {
		return 0, io.EOF
	}
	var short error
	if int64(len(p)) > o.size-off {
		p, short = p[:o.size-off], io.EOF
	}
	if err := o.folder.read(o.name, o.key, o.tag, p, off); err != nil {
		return 0, err
	}
	return len(p), short
}

func (o *object) Size() (int64, error)               { return o.size, nil }
func (o *object) Close() error                       { return nil }
func (o *object) Sync() error                        { return nil }
func (o *object) WriteAt([]byte, int64) (int, error) { return readOnly{o.name}.WriteAt(nil, 0) }
func (o *object) Truncate(int64) error               { return readOnly{o.name}.Truncate(0) }

// read fills p with a range of an object that still has its tag.
func (f *Folder) read(name, key, tag string, p []byte, off int64) error {
	ctx, cancel := calling()
	defer cancel()
	var o minio.GetObjectOptions
	if err := errors.Join(o.SetRange(off, off+int64(len(p))-1), o.SetMatchETag(tag)); err != nil {
		return err
	}
	body, info, _, err := f.core.GetObject(ctx, f.bucket, key, o)
	if err != nil {
		return plain("read", name, err)
	}
	defer body.Close()
	if info.Size != int64(len(p)) {
		return fmt.Errorf("the store was asked for %d bytes of %s and sends %d: it is not to be trusted", len(p), name, info.Size)
	}
	if _, err := io.ReadFull(body, p); err != nil {
		return fmt.Errorf("%w: reading %s from the store: %w", storage.ErrLost, name, err)
	}
	return nil
}

// readOnly refuses to write.
type readOnly struct{ name string }

func (r readOnly) WriteAt([]byte, int64) (int, error) { return 0, r.Truncate(0) }
func (r readOnly) Truncate(int64) error {
	return fmt.Errorf("%s was opened for reading: %w", r.name, fs.ErrPermission)
}
func (r readOnly) Sync() error  { return nil }
func (r readOnly) Close() error { return nil }

// divided is a file that is in parts.
type divided struct {
	readOnly
	folder *Folder
	key    string
	parts
}

func (d *divided) Size() (int64, error) { return d.size, nil }

// ReadAt reads from each part that it touches: what is not stored is zeros.
func (d *divided) ReadAt(p []byte, off int64) (n int, err error) {
	for n < len(p) && off < d.size {
		i, in := int(off/d.folder.part), off%d.folder.part
		k := int(min(int64(len(p)-n), d.folder.part-in, d.size-off))
		clear(p[n : n+k])
		if has := d.stored[i]; in < has.size {
			if err := d.folder.read(d.name, partKey(d.key, i), has.tag, p[n:n+int(min(int64(k), has.size-in))], in); err != nil {
				return n, err
			}
		}
		n, off = n+k, off+int64(k)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Range tells which parts hold something.
func (d *divided) Range(off int64) (end int64, data bool, err error) {
	if off >= d.size {
		return 0, false, io.EOF
	}
	i := int(off / d.folder.part)
	_, data = d.stored[i]
	for end = off; end < d.size; i++ {
		if _, has := d.stored[i]; has != data {
			break
		}
		end = min(int64(i+1)*d.folder.part, d.size)
	}
	return end, data, nil
}
