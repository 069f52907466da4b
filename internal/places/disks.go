package places

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"bagaglio/core/catalog"
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/rounds"
	"bagaglio/internal/store"
)

// settled is for how long a file has to be unchanged to be known by what it looks like.
const settled = 10 * time.Minute

// Entry is a disk of a list, with what its pool knows of it.
type Entry struct {
	catalog.Disk
	Standing []string // disks that stand on it
	Machines []string // that use it, by itself or by what stands on it
	Orphan   string   // why it seems to belong to nobody, empty where it does not
}

// List is a part of the disks of a pool.
type List struct {
	Disks []Entry
	Next  string // cursor of those behind, empty with the last
	Total int    // that the query finds
	store.Look
	Refreshing bool // the pool is being looked through
	Seen, Of   int  // files, so far
	Problem    error
}

// Disks lists disks in a pool, as they are on record. One that does not open is listed with its problem.
// refresh has the pool looked through before.
func (s *Places) Disks(ctx context.Context, pool string, q store.DiskQuery, refresh bool) (List, error) {
	var problem error
	if refresh {
		problem = s.Refresh(ctx, pool)
	}
	read := func() (listPart, error) { return s.list(ctx, pool, q) }
	part, err := s.lists.get(pool, q, read)
	if err == nil && !refresh && s.catchUp(ctx, part.pool) {
		part, err = s.lists.get(pool, q, read)
	}
	if err != nil {
		return List{}, err
	}
	last, ok, since := s.rounds.Last(pool)
	if ok && problem == nil {
		problem = last.Err
	}
	if part.look.Began.IsZero() && since.IsZero() && problem != nil && !errors.Is(problem, rounds.ErrCancelled) { // then it is not all
		return List{}, problem
	}
	far, _ := s.looks.get(pool)
	return List{
		Disks: part.disks, Next: part.next, Total: part.total, Look: part.look, Refreshing: !since.IsZero(), Seen: far.seen, Of: far.of,
		Problem: problem,
	}, nil
}

// list reads a part of a list from the records.
func (s *Places) list(ctx context.Context, pool string, q store.DiskQuery) (part listPart, err error) {
	if part.pool, err = s.Record(ctx, pool); err != nil {
		return part, err
	}
	if part.look, err = s.records.Looked(ctx, pool); err != nil {
		return part, err
	}
	disks, next, total, err := s.records.Disks(ctx, pool, q)
	if err != nil {
		return part, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	part.total, part.next = total, next
	part.disks, err = s.entries(ctx, pool, disks)
	return part, err
}

// Strays are files of a pool that belong to no disk, by their names, behind one; at most limit.
func (s *Places) Strays(ctx context.Context, pool, behind string, limit int) ([]catalog.File, error) {
	if _, err := s.Record(ctx, pool); err != nil {
		return nil, err
	}
	return s.records.Strays(ctx, pool, behind, limit)
}

// entries are disks with what stands on them, and with the machines that use them, by themselves or by what stands on them; where none
// does, with whether they lie in the folder of one.
func (s *Places) entries(ctx context.Context, pool string, disks []catalog.Disk) ([]Entry, error) {
	if err := s.CallDisks(ctx, pool, disks); err != nil {
		return nil, err
	}
	var files, used, folders []string
	for _, d := range disks {
		files = append(files, d.Path)
		for _, f := range d.Files {
			files = append(files, f.Name)
		}
		folders = append(folders, path.Dir(d.Path))
	}
	standing, err := s.records.StandingOn(ctx, pool, files)
	if err != nil {
		return nil, err
	}
	used = files
	for _, on := range standing {
		used = append(used, on...)
	}
	users, err := s.records.UserNames(ctx, pool, used)
	if err != nil {
		return nil, err
	}
	near, err := s.records.MachinesBy(ctx, pool, folders)
	if err != nil {
		return nil, err
	}
	out := []Entry{}
	for _, d := range disks {
		var on []string
		for _, f := range append([]catalog.File{{Name: d.Path}}, d.Files...) {
			on = append(on, standing[f.Name]...)
		}
		slices.Sort(on)
		e := Entry{Disk: d, Standing: slices.Compact(on)}
		for _, file := range append([]string{d.Path}, e.Standing...) {
			e.Machines = append(e.Machines, users[file]...)
		}
		slices.Sort(e.Machines)
		e.Machines = slices.Compact(e.Machines)
		if owner := near[path.Dir(d.Path)]; len(e.Machines) == 0 && len(owner) > 0 {
			e.Orphan = fmt.Sprintf("it lies in the folder of %s, which does not use it", owner[0])
		}
		out = append(out, e)
	}
	return out, nil
}

// Look reports on one disk.
func (s *Places) Look(ctx context.Context, p plan.Place) (inspect.Report, error) {
	folder, format, err := s.located(ctx, p)
	if err != nil {
		return inspect.Report{}, err
	}
	report, err := inspect.File(ctx, p.Origin(folder), format)
	return report, step.Explain(err)
}

// Times are when the file that opens a disk was last written to, and when anything of it was last changed, whatever the first was set to; zero where that is
// not told.
func (s *Places) Times(ctx context.Context, p plan.Place) (modified, changed time.Time, err error) {
	folder, err := s.Folder(ctx, p.Pool)
	if err != nil {
		return modified, changed, err
	}
	info, err := folder.Stat(disk.FirstPiece(folder, p.Path))
	return info.Modified, info.Changed, err
}

// Starts tells what a disk starts from.
func (s *Places) Starts(ctx context.Context, p plan.Place) (inspect.Starts, error) {
	folder, format, err := s.located(ctx, p)
	if err != nil {
		return inspect.Starts{}, err
	}
	out, err := inspect.StartsOf(ctx, p.Origin(folder), format)
	return out, step.Explain(err)
}

// Inside lists a folder inside of a disk.
func (s *Places) Inside(ctx context.Context, p plan.Place, at inspect.Spot) ([]inspect.Found, error) {
	folder, format, err := s.located(ctx, p)
	if err != nil {
		return nil, err
	}
	all, err := inspect.Folder(ctx, p.Origin(folder), format, at)
	return all, step.Explain(err)
}

// Take opens a file inside of a disk. The caller closes it.
func (s *Places) Take(ctx context.Context, p plan.Place, at inspect.Spot) (*inspect.Taken, error) {
	folder, format, err := s.located(ctx, p)
	if err != nil {
		return nil, err
	}
	t, err := inspect.Take(ctx, p.Origin(folder), format, at)
	return t, step.Explain(err)
}

// located is the folder that a disk lies in, and its format.
func (s *Places) located(ctx context.Context, p plan.Place) (storage.Folder, string, error) {
	folder, err := s.Folder(ctx, p.Pool)
	if err != nil {
		return nil, "", err
	}
	format, err := s.FormatOf(ctx, folder, p)
	return folder, format, err
}

// FormatOf returns the format of a disk: the one that is named, or that it is known to have, or the one of its content.
// A disk that was seen as raw once is known as raw from then on, whatever its guest writes into it; but not one that may
// still be on its way here, since an image looks raw as long as its first bytes have not come.
func (s *Places) FormatOf(ctx context.Context, folder storage.Folder, p plan.Place) (string, error) {
	if p.Format != "" {
		return p.Format, nil
	}
	if p.IsDevice() { // whatever is on it
		return "raw", nil
	}
	name, err := storage.Clean(p.Path)
	if err != nil {
		return "", err
	}
	name = disk.FirstPiece(folder, name)
	info, err := folder.Stat(name)
	if err != nil {
		return "", err
	}
	known, err := s.records.KnownFormat(ctx, p.Pool, name, info.ID)
	if err == nil && known != "raw" {
		err = stillMarked(folder, name, known)
	}
	if !errors.Is(err, store.ErrNotFound) {
		return known, err
	}
	format, err := disk.Recognise(folder, name)
	if err == nil && format == "raw" && time.Since(info.Modified) > settled {
		err = s.records.SetKnownFormats(ctx, p.Pool, store.KnownFormat{Path: name, File: info.ID, Format: format})
	}
	return format, err
}

// stillMarked fails for a file that is known to have a format and has no marks of any: it was damaged since, and nobody has
// said that it is to be read all the same.
func stillMarked(folder storage.Folder, name, known string) error {
	found, err := disk.Recognise(folder, name)
	var mismatch *disk.MismatchError
	if errors.As(err, &mismatch) {
		found = mismatch.Found
	}
	if found == "raw" {
		return &disk.MismatchError{Claimed: known, Found: found}
	}
	return nil // a format that a person named among several, or the one of its marks
}

// Know keeps a format that a person named or that a job wrote.
func (s *Places) Know(ctx context.Context, folder storage.Folder, p plan.Place, format string) error {
	if p.IsDevice() { // which is raw, whatever is on it
		return nil
	}
	name, err := storage.Clean(p.Path)
	if err != nil {
		return err
	}
	name = disk.FirstPiece(folder, name)
	info, err := folder.Stat(name)
	if err != nil {
		return err
	}
	return s.records.SetKnownFormats(ctx, p.Pool, store.KnownFormat{Path: name, File: info.ID, Format: format})
}
