package disks

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// changeNames changes the names of other files in those that got new ones or stand on one that did. Where the files are the only ones,
// which is so for a move on one storage, every byte that is written over is kept before. It may be done again after it was interrupted.
func (w *work) changeNames(folder storage.Folder) error {
	names := w.disk.Names()
	for i, name := range slices.Sorted(maps.Keys(w.disk.Rewrites)) {
		f, err := disk.Lookup(w.disk.Rewrites[name])
		if err != nil {
			return err
		}
		to := folder
		if w.disk.Renames {
			k := w.keeping(folder, i)
			if err := k.giveBack(name); err != nil { // what an earlier time did in part
				return fmt.Errorf("giving %s its bytes back: %w", name, err)
			}
			to = k
		}
		changed, err := f.RenameIn(to, name, with(names, w.namesIn(name)))
		if err != nil {
			return fmt.Errorf("changing the names of other files in %s: %w", name, err)
		}
		if changed {
			w.remark(fmt.Sprintf("in %s the names of other files were changed to the new ones; everything else in it is as it was", name))
		}
	}
	return nil
}

// namesIn are what a file, by its new name, names by paths of its computer, and what it is to name.
func (w *work) namesIn(name string) map[string]string {
	i := slices.IndexFunc(w.disk.Copied, func(c plan.Copied) bool { return c.To == name })
	if i < 0 {
		return nil
	}
	return w.disk.Copied[i].Names
}

// with are both, of which the second count.
func with(names, more map[string]string) map[string]string {
	all := maps.Clone(names)
	maps.Copy(all, more)
	return all
}

func reversed(names map[string]string) map[string]string {
	old := map[string]string{}
	for from, to := range names {
		old[to] = from
	}
	return old
}

// namesBack gives the files in which names were changed their bytes back, or the old names where what was kept of them is gone already.
func (w *work) namesBack(folder storage.Folder) (err error) {
	old := reversed(w.disk.Names())
	for i, name := range slices.Sorted(maps.Keys(w.disk.Rewrites)) {
		f, backErr := disk.Lookup(w.disk.Rewrites[name])
		if backErr == nil {
			backErr = w.keeping(folder, i).giveBack(name)
		}
		if backErr == nil {
			_, backErr = f.RenameIn(folder, name, with(old, reversed(w.namesIn(name))))
		}
		if backErr != nil && !errors.Is(backErr, fs.ErrNotExist) { // which has its old name again
			err = errors.Join(err, fmt.Errorf("giving %s its names back: %w", name, backErr))
		}
	}
	return err
}

// opensFamily fails unless the disks that came along open on what they stand on, in their new places.
func (w *work) opensFamily(open func(name, format string) (disk.Reader, error)) error {
	for _, k := range w.disk.Family {
		i := slices.IndexFunc(w.disk.Copied, func(c plan.Copied) bool { return c.From == k.Path })
		r, err := open(w.disk.Copied[i].To, k.Format)
		if err != nil {
			return fmt.Errorf("opening %s in its new place: %w", k.Path, err)
		}
		if err := r.Close(); err != nil {
			return err
		}
		w.remark(fmt.Sprintf("%s came along, and opens on what it stands on", k.Path))
	}
	return nil
}

// keeping is a folder in which files are changed that are the only ones: what is written over is kept before, in notes in the staging
// folder.
type keeping struct {
	storage.Folder
	notes storage.Folder
	dir   string
}

func (w *work) keeping(folder storage.Folder, number int) keeping {
	return keeping{folder, w.Ends.Destination, path.Join(w.staging(), "names", strconv.Itoa(number))}
}

// overwritten are bytes of a file that are written over.
type overwritten struct {
	Off  int64  `json:"off"`
	Old  []byte `json:"old"`
	New  []byte `json:"new"`
	Size int64  `json:"size"` // of the file before
}

// Reopen opens a file to change bytes in it.
func (k keeping) Reopen(name string) (storage.File, error) {
	f, err := k.Folder.Reopen(name)
	if err != nil {
		return nil, err
	}
	return &keptFile{File: f, keeping: k}, nil
}

type keptFile struct {
	storage.File
	keeping keeping
	count   int
}

// closeBy is how far apart two changed bytes may be to be written as one run. What lies between them is written as it was.
const closeBy = 8

// WriteAt writes only the bytes that differ.
func (f *keptFile) WriteAt(p []byte, off int64) (int, error) {
	size, err := f.Size()
	if err != nil {
		return 0, err
	}
	old := make([]byte, max(0, min(int64(len(p)), size-off)))
	if err := disk.ReadFull(f.File, old, off); err != nil {
		return 0, err
	}
	var runs []overwritten
	for i := range p {
		if i < len(old) && p[i] == old[i] {
			continue
		}
		last := len(runs) - 1
		if last < 0 || int64(i)+off-runs[last].Off-int64(len(runs[last].New)) > closeBy {
			runs, last = append(runs, overwritten{Off: off + int64(i), Size: size}), last+1
		}
		at := runs[last].Off - off
		runs[last].New, runs[last].Old = p[at:i+1], old[min(at, int64(len(old))):min(i+1, len(old))]
	}
	if err := f.keep(runs); err != nil {
		return 0, err
	}
	for _, r := range runs {
		if _, err := f.File.WriteAt(r.New, r.Off); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// Truncate cuts or lengthens the file.
func (f *keptFile) Truncate(to int64) error {
	size, err := f.Size()
	if err != nil || to == size {
		return err
	}
	old := make([]byte, max(0, size-to))
	if err := disk.ReadFull(f.File, old, min(to, size)); err != nil {
		return err
	}
	if err := f.keep([]overwritten{{Off: min(to, size), Old: old, Size: size}}); err != nil {
		return err
	}
	return f.File.Truncate(to)
}

// keep puts a note of what is about to be written over on stable storage.
func (f *keptFile) keep(runs []overwritten) error {
	if len(runs) == 0 {
		return nil
	}
	b, err := json.Marshal(runs)
	if err != nil {
		return err
	}
	k := f.keeping
	if err := storage.WriteFile(k.notes, path.Join(k.dir, fmt.Sprintf("%06d", f.count)), b); err != nil {
		return err
	}
	f.count++
	for at := k.dir; at != "."; at = path.Dir(at) {
		if err := k.notes.Sync(at); err != nil {
			return err
		}
	}
	return k.notes.Sync(".")
}

// giveBack writes what the notes say, the latest first, and drops them. A note that is cut off was of no use yet. Where the file has other
// bytes by now than those that were there and those that were written, somebody else has changed it: then it is left as it is.
func (k keeping) giveBack(name string) error {
	infos, err := k.notes.List(k.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	file, err := k.Folder.Reopen(name)
	if errors.Is(err, fs.ErrNotExist) { // it has its bytes and its old name again
		return storage.RemoveAll(k.notes, k.dir)
	}
	if err != nil {
		return err
	}
	for _, i := range slices.Backward(infos) {
		runs, noteErr := k.read(i)
		if noteErr != nil {
			continue
		}
		for _, r := range slices.Backward(runs) {
			if err := r.undo(file); err != nil {
				return errors.Join(err, file.Close())
			}
		}
	}
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return err
	}
	return storage.RemoveAll(k.notes, k.dir)
}

// undo gives a run its old bytes.
func (r overwritten) undo(file storage.File) error {
	size, err := file.Size()
	if err != nil {
		return err
	}
	grows := r.Off+int64(len(r.New)) > r.Size
	now := make([]byte, max(0, min(int64(len(r.New)), size-r.Off)))
	if err := disk.ReadFull(file, now, r.Off); err != nil {
		return err
	}
	for i, b := range now {
		if b != r.New[i] && (i >= len(r.Old) || b != r.Old[i]) {
			return errors.New("something else has written to it since: it is left as it is")
		}
	}
	if _, err := file.WriteAt(r.Old, r.Off); err != nil || !grows {
		return err
	}
	return file.Truncate(r.Size)
}

func (k keeping) read(i storage.Info) (runs []overwritten, err error) {
	note, err := k.notes.Open(i.Name)
	if err != nil {
		return nil, err
	}
	defer note.Close()
	b := make([]byte, i.Size)
	if err := disk.ReadFull(note, b, 0); err != nil {
		return nil, err
	}
	return runs, json.Unmarshal(b, &runs)
}
