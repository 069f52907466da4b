package service

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"bagaglio/api"
	"bagaglio/core/catalog"
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/rounds"
	"bagaglio/internal/store"
)

// settled is for how long a file has to be unchanged to be known by what it looks like.
const settled = 10 * time.Minute

// Disks lists disks in a pool, and the files that belong to none, as they are on record. One that does not open is listed with its problem.
// refresh has the pool looked through before.
func (s *Service) Disks(ctx context.Context, pool string, q store.DiskQuery, refresh bool) (api.DiskList, error) {
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
		return api.DiskList{}, err
	}
	last, ok, since := s.rounds.Last(pool)
	if ok && problem == nil {
		problem = last.Err
	}
	look := part.look
	if look.Began.IsZero() && since.IsZero() && problem != nil && !errors.Is(problem, rounds.ErrCancelled) { // then it is not all
		return api.DiskList{}, problem
	}
	far, _ := s.looks.get(pool)
	list := api.DiskList{
		Disks:      part.disks,
		Total:      part.total,
		Strays:     part.strays,
		StrayCount: look.Strays,
		Room:       look.Room,
		Missed:     append([]catalog.Missed{}, look.Missed...),
		Refreshed:  look.Began,
		Refreshing: !since.IsZero(),
		Seen:       far.seen,
		Of:         far.of,
	}
	if problem != nil {
		list.Problem = ptr(problem.Error())
	}
	return list, nil
}

// list reads a part of a list from the records.
func (s *Service) list(ctx context.Context, pool string, q store.DiskQuery) (part listPart, err error) {
	if part.pool, err = s.pool(ctx, pool); err != nil {
		return part, err
	}
	if part.look, err = s.store.Looked(ctx, pool); err != nil {
		return part, err
	}
	disks, total, err := s.store.Disks(ctx, pool, q)
	if err != nil {
		return part, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	part.total = total
	if part.disks, err = s.entries(ctx, pool, disks); err != nil {
		return part, err
	}
	part.strays, err = s.store.Strays(ctx, pool, q.StraysOffset, mostStrays)
	return part, err
}

// entries are disks with what stands on them, and with the machines that use them, by themselves or by what stands on them; where none
// does, with whether they lie in the folder of one.
func (s *Service) entries(ctx context.Context, pool string, disks []catalog.Disk) ([]api.DiskEntry, error) {
	var files, used, folders []string
	for _, d := range disks {
		files = append(files, d.Path)
		for _, f := range d.Files {
			files = append(files, f.Name)
		}
		folders = append(folders, path.Dir(d.Path))
	}
	standing, err := s.store.StandingOn(ctx, pool, files)
	if err != nil {
		return nil, err
	}
	used = files
	for _, on := range standing {
		used = append(used, on...)
	}
	users, err := s.store.UserNames(ctx, pool, used)
	if err != nil {
		return nil, err
	}
	near, err := s.store.MachinesBy(ctx, pool, folders)
	if err != nil {
		return nil, err
	}
	out := []api.DiskEntry{}
	for _, d := range disks {
		var on []string
		for _, f := range append([]catalog.File{{Name: d.Path}}, d.Files...) {
			on = append(on, standing[f.Name]...)
		}
		slices.Sort(on)
		e := diskEntry(d, slices.Compact(on))
		e.Machines = []string{}
		for _, file := range append([]string{d.Path}, e.Standing...) {
			e.Machines = append(e.Machines, users[file]...)
		}
		slices.Sort(e.Machines)
		e.Machines = slices.Compact(e.Machines)
		if owner := near[path.Dir(d.Path)]; len(e.Machines) == 0 && len(owner) > 0 {
			e.Orphan = ptr(fmt.Sprintf("it lies in the folder of %s, which does not use it", owner[0]))
		}
		out = append(out, e)
	}
	return out, nil
}

// mostStrays is how many files that belong to nothing one answer has.
const mostStrays = 1000

func ptr[T any](v T) *T { return &v }

func diskEntry(d catalog.Disk, standing []string) api.DiskEntry {
	e := api.DiskEntry{
		Path:          d.Path,
		Format:        d.Format,
		Layout:        d.Layout,
		VirtualSize:   d.VirtualSize,
		AllocatedSize: d.AllocatedSize,
		FileSize:      d.FileSize,
		Room:          d.Room,
		Modified:      d.Modified,
		Files:         d.Files,
		StandsOn:      append([]string{}, d.Chain...),
		Standing:      append([]string{}, standing...),
		Snapshots:     append([]string{}, d.Snapshots...),
		Problem:       d.Problem,
	}
	if d.Tag != "" {
		e.Tag = &d.Tag
	}
	if d.Dirty {
		e.Dirty = &d.Dirty
	}
	if d.AtLeast {
		e.AtLeast = &d.AtLeast
	}
	return e
}

// Look reports on one disk.
func (s *Service) Look(ctx context.Context, p plan.Place) (inspect.Report, error) {
	folder, err := s.folder(ctx, p.Pool)
	if err != nil {
		return inspect.Report{}, err
	}
	format, err := s.formatOf(ctx, folder, p)
	if err != nil {
		return inspect.Report{}, err
	}
	report, err := inspect.File(ctx, p.Origin(folder), format)
	return report, step.Explain(err)
}

// formatOf returns the format of a disk: the one that is named, or that it is known to have, or the one of its content.
// A disk that was seen as raw once is known as raw from then on, whatever its guest writes into it; but not one that may
// still be on its way here, since an image looks raw as long as its first bytes have not come.
func (s *Service) formatOf(ctx context.Context, folder storage.Folder, p plan.Place) (string, error) {
	if p.Format != "" {
		return p.Format, nil
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
	known, err := s.store.KnownFormat(ctx, p.Pool, name, info.ID)
	if err == nil && known != "raw" {
		err = stillMarked(folder, name, known)
	}
	if !errors.Is(err, store.ErrNotFound) {
		return known, err
	}
	format, err := disk.Recognise(folder, name)
	if err == nil && format == "raw" && time.Since(info.Modified) > settled {
		err = s.store.SetKnownFormats(ctx, p.Pool, store.KnownFormat{Path: name, File: info.ID, Format: format})
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

// know keeps a format that a person named or that a job wrote.
func (s *Service) know(ctx context.Context, folder storage.Folder, p plan.Place, format string) error {
	name, err := storage.Clean(p.Path)
	if err != nil {
		return err
	}
	name = disk.FirstPiece(folder, name)
	info, err := folder.Stat(name)
	if err != nil {
		return err
	}
	return s.store.SetKnownFormats(ctx, p.Pool, store.KnownFormat{Path: name, File: info.ID, Format: format})
}
