// Package files shows what lies in the folders of pools, and does with it what is done with files: what is no disk, and belongs to none, gets
// folders, other names, and goes. What is one is moved and removed as a disk.
package files

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/machines"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// mostFiles bounds what is removed at a time.
const mostFiles = 10_000

// Entry is a file or a folder.
type Entry struct {
	Path     string
	Folder   bool
	Size     int64 // bytes; of a folder 0
	Room     int64 // that it takes of the storage, or storage.Unknown
	Modified time.Time
	Disk     string // that it belongs to, by the path of that; empty for none that is known
}

// Files are those of all pools. Make them with [New].
type Files struct {
	records *records.Records
	places  *places.Places
	guests  *machines.Machines
	hold    time.Duration
}

// New returns them. What is removed is held for as long as hold says.
func New(r *records.Records, p *places.Places, m *machines.Machines, hold time.Duration) *Files {
	return &Files{r, p, m, hold}
}

// within opens a pool of files, and cleans a name in it, which is none of what the pool holds for itself.
func (f *Files) within(ctx context.Context, pool, name string) (store.Pool, storage.Folder, string, error) {
	record, err := f.places.Record(ctx, pool)
	if err != nil {
		return record, nil, "", err
	}
	if record.Volumes != "" {
		return record, nil, "", fmt.Errorf("%w: %s has volumes, and no files", records.ErrInvalid, pool)
	}
	name, err = storage.Clean(name)
	if err != nil {
		return record, nil, "", fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	if slices.Contains(strings.Split(name, "/"), disks.OwnFolder) {
		return record, nil, "", fmt.Errorf("%w: %s is what the pool holds for itself", records.ErrInvalid, disks.OwnFolder)
	}
	folder, err := f.places.Open(ctx, record)
	return record, folder, name, err
}

// List returns what lies directly in a folder of a pool, behind a name, at most limit, and how much there is in all. Folders come first.
func (f *Files) List(ctx context.Context, pool, dir, behind string, limit int) (page []Entry, next string, total int, err error) {
	_, folder, dir, err := f.within(ctx, pool, dir)
	if err != nil {
		return nil, "", 0, err
	}
	infos, err := folder.List(dir)
	if err != nil {
		return nil, "", 0, missing(dir, err)
	}
	infos = slices.DeleteFunc(infos, func(i storage.Info) bool {
		return path.Base(i.Name) == disks.OwnFolder || !i.IsDir && !i.Regular
	})
	slices.SortStableFunc(infos, func(a, b storage.Info) int { return order(a).compare(order(b)) })
	total = len(infos)
	if behind != "" {
		at, _ := slices.BinarySearchFunc(infos, behind+"\x00", func(i storage.Info, b string) int { return strings.Compare(order(i).key(), b) })
		infos = infos[at:]
	}
	if len(infos) > limit {
		infos = infos[:limit]
		next = order(infos[limit-1]).key()
	}
	of, err := f.belonging(ctx, pool, dir)
	for _, i := range infos {
		page = append(page, Entry{Path: i.Name, Folder: i.IsDir, Size: i.Size, Room: i.Room, Modified: i.Modified, Disk: of[i.Name]})
	}
	return page, next, total, err
}

// order sorts folders before files, and both by their names.
type order storage.Info

func (o order) key() string {
	if o.IsDir {
		return "0" + o.Name
	}
	return "1" + o.Name
}

func (o order) compare(other order) int { return strings.Compare(o.key(), other.key()) }

// missing says what is not there.
func missing(name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", name, store.ErrNotFound)
	}
	return err
}

// Open opens a file for reading. The caller closes it.
func (f *Files) Open(ctx context.Context, pool, name string) (storage.File, storage.Info, error) {
	_, folder, name, err := f.within(ctx, pool, name)
	if err != nil {
		return nil, storage.Info{}, err
	}
	info, err := folder.Stat(name)
	if err == nil && !info.Regular {
		err = fmt.Errorf("%w: %s is no file", records.ErrInvalid, name)
	}
	if err != nil {
		return nil, info, missing(name, err)
	}
	file, err := folder.Open(name)
	return file, info, err
}

// Sum reads a file whole, from its storage, and returns its SHA-256 and its length. It fails for one that is written to meanwhile.
func (f *Files) Sum(ctx context.Context, pool, name string) (sum [sha256.Size]byte, size int64, err error) {
	_, folder, name, err := f.within(ctx, pool, name)
	if err != nil {
		return sum, 0, err
	}
	before, err := folder.Stat(name)
	if err != nil {
		return sum, 0, missing(name, err)
	}
	if sum, err = storage.SHA256(ctx, storage.Fresh(folder), name, nil); err != nil {
		return sum, 0, err
	}
	after, err := folder.Stat(name)
	if err == nil && (after.Size != before.Size || !after.Modified.Equal(before.Modified) || !after.Changed.Equal(before.Changed)) {
		err = fmt.Errorf("%w: %s was written to while it was read", records.ErrState, name)
	}
	return sum, after.Size, err
}

// MakeFolder makes a folder, and those above it where they are missing.
func (f *Files) MakeFolder(ctx context.Context, pool, name string) error {
	_, folder, name, err := f.within(ctx, pool, name)
	if err != nil {
		return err
	}
	if _, err := folder.Stat(name); err == nil {
		return fmt.Errorf("%w: %s is there already", records.ErrState, name)
	}
	within := path.Join(name, ".new") // storage makes folders for the files in them
	file, err := folder.Create(within)
	if err == nil {
		err = errors.Join(file.Close(), folder.Remove(within), folder.Sync(path.Dir(name)))
	}
	f.places.Touch(pool)
	return err
}

// Rename gives a file or a folder another name in its pool, under which nothing may lie. Quiet keeps jobs from beginning to use it.
func (f *Files) Rename(ctx context.Context, pool, from, to string, quiet sync.Locker) error {
	_, _, to, err := f.within(ctx, pool, to)
	if err != nil {
		return err
	}
	return f.change(ctx, pool, from, quiet, func(folder storage.Folder, from string, _ []string) error {
		if to == "." || to == from || strings.HasPrefix(to, from+"/") {
			return fmt.Errorf("%w: %s cannot be called %s", records.ErrInvalid, from, to)
		}
		err := folder.Rename(from, to)
		if errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("%w: %s is there already", records.ErrState, to)
		}
		return errors.Join(err, folder.Sync(path.Dir(from)), folder.Sync(path.Dir(to)))
	})
}

// Remove takes a file or a folder away with all that lies in it, and holds the files for a while. Quiet keeps jobs from beginning to use it.
func (f *Files) Remove(ctx context.Context, pool, name, by string, quiet sync.Locker) error {
	return f.change(ctx, pool, name, quiet, func(folder storage.Folder, name string, files []string) error {
		if len(files) > 0 {
			h := disks.Held{Path: files[0], Files: files, Until: time.Now().Add(f.hold), Why: "it was removed by " + by}
			if err := disks.HoldFiles(folder, h); err != nil {
				return err
			}
		}
		if info, err := folder.Stat(name); err == nil && info.IsDir {
			if err := removeEmpty(folder, name); err != nil {
				return fmt.Errorf("%w: what lay in %s is held; something has come there since: %w", records.ErrState, name, err)
			}
		}
		return folder.Sync(path.Dir(name))
	})
}

// removeEmpty removes a folder in which are folders only. What has come there since stays, and fails it.
func removeEmpty(folder storage.Folder, name string) error {
	infos, err := folder.List(name)
	if err != nil {
		return err
	}
	for _, i := range infos {
		if !i.IsDir {
			return &fs.PathError{Op: "remove", Path: i.Name, Err: fs.ErrExist}
		}
		if err := removeEmpty(folder, i.Name); err != nil {
			return err
		}
	}
	return folder.Remove(name)
}

// change does something with a file or a folder, of which nothing is or belongs to a disk, a machine names nothing, and no job uses anything.
func (f *Files) change(
	ctx context.Context, pool, name string, quiet sync.Locker, do func(folder storage.Folder, name string, files []string) error,
) error {
	record, folder, name, err := f.within(ctx, pool, name)
	if err != nil {
		return err
	}
	if name == "." {
		return fmt.Errorf("%w: that is the whole pool: name a file or a folder in it", records.ErrInvalid)
	}
	files, err := below(folder, name)
	if err != nil {
		return missing(name, err)
	}
	if err := f.free(ctx, pool, files); err != nil {
		return err
	}
	quiet.Lock()
	defer quiet.Unlock()
	if err := f.places.NotLeased(ctx, record, files); err != nil {
		return err
	}
	defer f.places.Touch(pool)
	return do(folder, name, files)
}

// below are the files at or below a name.
func below(folder storage.Folder, name string) (files []string, err error) {
	info, err := folder.Stat(name)
	switch {
	case err != nil:
		return nil, err
	case info.Regular:
		return []string{name}, nil
	case !info.IsDir:
		return nil, fmt.Errorf("%w: %s is neither a file nor a folder", records.ErrInvalid, name)
	}
	infos, err := folder.List(name)
	for _, i := range infos {
		more, belowErr := below(folder, i.Name)
		if err = errors.Join(err, belowErr); err != nil {
			return nil, err
		}
		if files = append(files, more...); len(files) > mostFiles {
			return nil, fmt.Errorf("%w: there are more than %d files in %s: do it in parts", records.ErrState, mostFiles, name)
		}
	}
	return files, err
}

// free fails for files that are a disk, belong to one, or are named by a machine, as far as can be known now.
func (f *Files) free(ctx context.Context, pool string, files []string) error {
	if len(files) == 0 {
		return nil
	}
	k, err := f.places.Knowledge(ctx, map[string]places.Need{pool: places.NeedAll}, time.Now(), true)
	if err != nil {
		return err
	}
	if unknown := slices.Concat(k.Awaited, k.Missed); len(unknown) > 0 {
		return fmt.Errorf("%w: what lies there has to be known first: %s", records.ErrState, strings.Join(unknown, "; "))
	}
	of := map[string]string{}
	for _, dir := range folders(files) {
		more, err := f.belonging(ctx, pool, dir)
		if err != nil {
			return err
		}
		for file, disk := range more {
			of[file] = disk
		}
	}
	for _, file := range files {
		if disk := of[file]; disk != "" {
			return fmt.Errorf("%w: %s belongs to the disk %s: move or remove that", records.ErrState, file, plan.Place{Pool: pool, Path: disk})
		}
	}
	users, err := f.records.Users(ctx, pool, files)
	if err != nil {
		return err
	}
	naming, err := f.guests.Naming(ctx, pool, files)
	if err != nil {
		return err
	}
	if users = append(users, naming...); len(users) > 0 {
		return fmt.Errorf("%w: the machine %s uses it: change that first", records.ErrState, users[0].Name)
	}
	defined, err := f.records.Defining(ctx, pool, files)
	if err == nil && len(defined) > 0 {
		err = fmt.Errorf("%w: %s defines a machine: move or remove that", records.ErrState, defined[0])
	}
	return err
}

// belonging are the disks that files in a folder belong to, by those; a tag does to the one that it lies beside.
func (f *Files) belonging(ctx context.Context, pool, dir string) (map[string]string, error) {
	of, err := f.records.DisksWithFilesIn(ctx, pool, dir)
	for _, disk := range slices.Sorted(maps.Values(of)) {
		of[fingerprint.TagName(disk)] = disk
	}
	return of, err
}

// folders are those that files lie in.
func folders(files []string) (dirs []string) {
	for _, f := range files {
		dirs = append(dirs, path.Dir(f))
	}
	slices.Sort(dirs)
	return slices.Compact(dirs)
}
