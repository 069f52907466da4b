package objects

import (
	"bytes"
	"crypto/md5" //nolint:gosec // what the protocol checks what arrives with, and tells of what it has
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strconv"
	"sync"

	"bagaglio/core/storage"

	"github.com/minio/minio-go/v7"
	"golang.org/x/sync/errgroup"
)

// uploads is how many parts are sent at a time.
const uploads = 4

// Create makes a file. Nothing of it is seen before it is synced or closed.
func (f *Folder) Create(name string) (storage.File, error) {
	key, err := f.key(name)
	if err != nil {
		return nil, err
	}
	name = path.Clean(name)
	switch _, err := f.Stat(name); {
	case err == nil:
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	if err := f.dropParts(name, key); err != nil { // that somebody left who was killed
		return nil, err
	}
	w := f.writer(name, key)
	return w, w.whole(nil) // its name is taken from now on
}

func (f *Folder) writer(name, key string) *writer {
	return &writer{folder: f, name: name, key: key, told: -1, loaded: map[int]*loaded{}, stored: map[int]stored{}}
}

// Reopen goes on writing to a file that is not longer than a part, or still in parts.
func (f *Folder) Reopen(name string) (storage.File, error) {
	key, err := f.key(name)
	if err != nil {
		return nil, err
	}
	name = path.Clean(name)
	w := f.writer(name, key)
	info, err := f.object(name, key)
	if err == nil {
		if info.Size > f.part {
			return nil, fmt.Errorf("%s is whole in the store, where nothing can be written to it: %w", name, errors.ErrUnsupported)
		}
		p := &loaded{data: make([]byte, info.Size)}
		if info.Size > 0 {
			err = f.read(name, key, info.ETag, p.data, 0)
		}
		w.size, w.loaded[0], w.isWhole = info.Size, p, true
		return w, err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	in, err := f.inParts(name, key)
	if err == nil {
		w.stored, err = f.partsOf(key)
	}
	if err != nil {
		return nil, err
	}
	w.told, w.size = in.size, in.size
	for i, has := range w.stored { // what was sent behind the last sync is none of it
		w.size = max(w.size, int64(i)*f.part+has.size)
	}
	return w, w.Truncate(in.size)
}

// writer is a file as it is written. One that fits into a part is an object at once, with its part in memory; a longer one is in parts.
type writer struct {
	folder    *Folder
	name, key string

	mu      sync.Mutex // of what is below; a part that is sent or fetched is locked by itself
	size    int64
	told    int64 // the length that the store knows of, -1 for none
	isWhole bool
	loaded  map[int]*loaded
	stored  map[int]stored
	clock   int64

	dividing sync.Mutex
}

func (w *writer) WriteAt(b []byte, off int64) (n int, err error) {
	if off < 0 || off+int64(len(b)) > mostParts*w.folder.part {
		return 0, fmt.Errorf("%s gets longer than a store takes in parts of %d MiB", w.name, w.folder.part>>20)
	}
	for n < len(b) {
		at := off + int64(n)
		if err := w.divide(at + 1); err != nil {
			return n, err
		}
		i, in := int(at/w.folder.part), at%w.folder.part
		k := int(min(int64(len(b)-n), w.folder.part-in))
		p, err := w.load(i)
		if err != nil {
			return n, err
		}
		p.write(b[n:n+k], in, w.folder.part)
		p.Unlock()
		n += k
		w.mu.Lock()
		w.size = max(w.size, at+int64(k))
		w.mu.Unlock()
		if err := w.shed(i); err != nil {
			return n, err
		}
	}
	return n, nil
}

// divide makes a file one in parts that gets longer than a part.
func (w *writer) divide(size int64) error {
	w.dividing.Lock()
	defer w.dividing.Unlock()
	if !w.isWhole || size <= w.folder.part {
		return nil
	}
	p, err := w.load(0)
	if err != nil {
		return err
	}
	defer p.Unlock()
	if err := w.folder.drop(w.name, w.key); err != nil {
		return err
	}
	p.dirty, w.isWhole = true, false
	return nil
}

// put stores an object, which the store compares with its MD5 as it arrives, and returns its tag. It never replaces what exists where it is to be new.
func (f *Folder) put(name, key string, content []byte, fresh bool) (string, error) {
	ctx, cancel := calling()
	defer cancel()
	sum := md5.Sum(content) //nolint:gosec // as above
	o := minio.PutObjectOptions{ContentType: "application/octet-stream", DisableContentSha256: true, SendContentMd5: true}
	if fresh {
		o.SetMatchETagExcept("*")
	}
	got, err := f.core.PutObject(
		ctx,
		f.bucket,
		key,
		bytes.NewReader(content),
		int64(len(content)),
		base64.StdEncoding.EncodeToString(sum[:]),
		"",
		o,
	)
	var said minio.ErrorResponse
	if fresh && errors.As(err, &said) {
		switch {
		case said.Code == minio.PreconditionFailed:
			return "", &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
		case said.StatusCode == http.StatusNotImplemented: // conditions: that nothing is there, was looked at
			return f.put(name, key, content, false)
		}
	}
	if err != nil {
		return "", plain("write", name, err)
	}
	return got.ETag, nil
}

// whole stores a file that fits into a part. A name that is new is not taken from others.
func (w *writer) whole(content []byte) error {
	_, err := w.folder.put(w.name, w.key, content, !w.isWhole)
	if err == nil {
		w.isWhole = true
	}
	return err
}

// Sync returns when the store has all that was written.
func (w *writer) Sync() error {
	w.dividing.Lock()
	defer w.dividing.Unlock()
	w.mu.Lock()
	size := w.size
	w.mu.Unlock()
	if w.isWhole {
		return w.syncWhole(size)
	}
	w.mu.Lock()
	var all []int
	for i := range w.loaded {
		all = append(all, i)
	}
	told := w.told
	w.mu.Unlock()
	var group errgroup.Group
	group.SetLimit(uploads)
	for _, i := range all {
		group.Go(func() error { return w.send(i, false) })
	}
	if err := group.Wait(); err != nil || told == size {
		return err
	}
	_, err := w.folder.put(w.name, w.key+partsOf+"/"+sizeOf, strconv.AppendInt(nil, size, 10), false)
	w.mu.Lock()
	w.told = size
	w.mu.Unlock()
	return err
}

func (w *writer) syncWhole(size int64) error {
	p, err := w.load(0)
	if err != nil {
		return err
	}
	defer p.Unlock()
	if !p.dirty && int64(len(p.data)) == size {
		return nil
	}
	p.resize(size)
	if err := w.whole(p.data); err != nil {
		return err
	}
	p.dirty = false
	return nil
}

func (w *writer) Close() error { return w.Sync() }

func (w *writer) Size() (int64, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.size, nil
}

// Truncate gives the file another length. What it is longer by reads as zeros, and takes no room as long as it is in parts.
func (w *writer) Truncate(size int64) error {
	if size < 0 || size > mostParts*w.folder.part {
		return fmt.Errorf("%s gets longer than a store takes in parts of %d MiB", w.name, w.folder.part>>20)
	}
	if err := w.divide(size); err != nil {
		return err
	}
	w.mu.Lock()
	was := w.size
	w.size = size
	w.mu.Unlock()
	if size >= was {
		return nil
	}
	last := int(size / w.folder.part)
	w.mu.Lock()
	var behind []int
	for i := range w.stored {
		if i > last || i == last && size%w.folder.part == 0 {
			behind = append(behind, i)
			delete(w.stored, i)
		}
	}
	for i := range w.loaded {
		if i > last {
			delete(w.loaded, i)
		}
	}
	w.mu.Unlock()
	for _, i := range behind {
		if err := w.folder.drop(w.name, partKey(w.key, i)); err != nil {
			return err
		}
	}
	p, err := w.load(last)
	if err != nil {
		return err
	}
	defer p.Unlock()
	if keep := size % w.folder.part; int64(len(p.data)) > keep {
		p.data, p.dirty = p.data[:keep], true
	}
	return nil
}

// ReadAt reads what was written.
func (w *writer) ReadAt(b []byte, off int64) (n int, err error) {
	size, _ := w.Size()
	for n < len(b) && off < size {
		i, in := int(off/w.folder.part), off%w.folder.part
		k := int(min(int64(len(b)-n), w.folder.part-in, size-off))
		p, err := w.load(i)
		if err != nil {
			return n, err
		}
		clear(b[n : n+k])
		if in < int64(len(p.data)) {
			copy(b[n:n+k], p.data[in:])
		}
		p.Unlock()
		n, off = n+k, off+int64(k)
		if err := w.shed(i); err != nil {
			return n, err
		}
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// sumOfParts is the tag that a store gives an object that it put together: the MD5 of those of its parts, and how many there are.
func sumOfParts(tags []string) (string, error) {
	all := md5.New() //nolint:gosec // as above
	for _, tag := range tags {
		sum, err := hex.DecodeString(tag)
		if err != nil || len(sum) != md5.Size {
			return "", fmt.Errorf("%q is no MD5: %w", tag, errors.ErrUnsupported)
		}
		all.Write(sum)
	}
	return fmt.Sprintf("%x-%d", all.Sum(nil), len(tags)), nil
}
