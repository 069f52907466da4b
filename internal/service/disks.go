package service

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/core/catalog"
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/store"
)

// settled is for how long a file has to be unchanged to be known by what it looks like.
const settled = 10 * time.Minute

// Disks lists disks in a pool, and the files that belong to none. One that does not open is listed with its problem.
func (s *Service) Disks(ctx context.Context, pool string, q store.DiskQuery) (api.DiskList, error) {
	list := api.DiskList{Disks: []api.DiskEntry{}}
	if _, err := s.pool(ctx, pool); err != nil {
		return list, err
	}
	var problem error
	if problem, list.Refreshing = s.refresh(ctx, pool); problem != nil {
		list.Problem = ptr(problem.Error())
	}
	var err error
	if list.Refreshed, err = s.store.Scanned(ctx, pool); err != nil {
		return list, err
	}
	if list.Refreshed.IsZero() && problem != nil {
		return list, problem
	}
	disks, total, err := s.store.Disks(ctx, pool, q)
	if err != nil {
		return list, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	list.Total = total
	if list.Room, err = s.store.DisksRoom(ctx, pool); err != nil {
		return list, err
	}
	for _, d := range disks {
		files := []string{d.Path}
		for _, f := range d.Files {
			files = append(files, f.Name)
		}
		standing, err := s.store.Standing(ctx, pool, files)
		if err != nil {
			return list, err
		}
		e := diskEntry(d, standing)
		if err := s.owners(ctx, pool, &e); err != nil {
			return list, err
		}
		list.Disks = append(list.Disks, e)
	}
	if list.StrayCount, err = s.store.CountStrays(ctx, pool); err != nil {
		return list, err
	}
	list.Strays, err = s.store.Strays(ctx, pool, q.StraysOffset, mostStrays)
	return list, err
}

// owners says which machines use a disk, by itself or by what stands on it; and where none does, whether it lies in the folder of one.
func (s *Service) owners(ctx context.Context, pool string, e *api.DiskEntry) error {
	users, err := s.store.Users(ctx, pool, append([]string{e.Path}, e.Standing...))
	e.Machines = []string{}
	for _, u := range users {
		if !slices.Contains(e.Machines, u.Name) {
			e.Machines = append(e.Machines, u.Name)
		}
	}
	if err != nil || len(users) > 0 {
		return err
	}
	near, err := s.store.MachinesIn(ctx, pool, path.Dir(e.Path))
	if len(near) > 0 {
		e.Orphan = ptr(fmt.Sprintf("it lies in the folder of %s, which does not use it", near[0]))
	}
	return err
}

// mostStrays is how many files that belong to nothing one answer has.
const mostStrays = 1000

func ptr[T any](v T) *T { return &v }

func diskEntry(d catalog.Disk, standing []string) api.DiskEntry {
	e := api.DiskEntry{
		Path: d.Path, Format: d.Format, Layout: d.Layout, VirtualSize: d.VirtualSize, AllocatedSize: d.AllocatedSize, FileSize: d.FileSize, Room: d.Room, Modified: d.Modified,
		Files: d.Files, StandsOn: append([]string{}, d.Chain...), Standing: append([]string{}, standing...), Snapshots: append([]string{}, d.Snapshots...), Problem: d.Problem,
	}
	if d.Tag != "" {
		e.Tag = &d.Tag
	}
	if d.Dirty {
		e.Dirty = &d.Dirty
	}
	return e
}

// refreshIn is for how long whoever asks for a list waits for it to be looked through again.
const refreshIn = 5 * time.Second

// refresh looks through a pool again. Whoever asks meanwhile waits for the same; going tells that it takes longer than one waits.
func (s *Service) refresh(ctx context.Context, pool string) (problem error, going bool) {
	done := s.opening.DoChan("scan "+pool, func() (any, error) { return nil, s.scan(context.WithoutCancel(ctx), pool) })
	select {
	case result := <-done:
		return result.Err, false
	case <-time.After(refreshIn):
		return nil, true
	case <-ctx.Done():
		return ctx.Err(), true
	}
}

// scan looks through a pool and keeps what it finds.
func (s *Service) scan(ctx context.Context, pool string) error {
	folder, err := s.folder(ctx, pool)
	if err != nil {
		return err
	}
	before, err := s.store.Catalog(ctx, pool)
	if err != nil {
		return err
	}
	found, err := catalog.Scanner{Folder: folder, Own: job.OwnFolder, Before: before, Format: func(ctx context.Context, info storage.Info) (string, bool, error) {
		if disk.Claim(info.Name) == "" && !strings.EqualFold(path.Ext(info.Name), ".img") && !s.knownAsDisk(ctx, folder, pool, info) {
			return "", false, nil // any file at all
		}
		format, err := s.formatOf(ctx, folder, plan.Place{Pool: pool, Path: info.Name})
		return format, true, err
	}}.Scan(ctx)
	if err != nil {
		return fmt.Errorf("pool %s: %w", pool, err)
	}
	return s.store.SetCatalog(ctx, pool, found, time.Now())
}

// knownAsDisk tells whether a file whose name says nothing is a disk: by its content, or since a job made or read it.
func (s *Service) knownAsDisk(ctx context.Context, folder storage.Folder, pool string, info storage.Info) bool {
	if format, err := disk.Recognise(folder, info.Name); err == nil && format != "raw" {
		return true
	}
	_, err := s.store.KnownFormat(ctx, pool, info.Name, info.ID)
	return err == nil
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
	return report, job.Explain(err)
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
		err = s.store.SetKnownFormat(ctx, p.Pool, name, info.ID, format)
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
	return s.store.SetKnownFormat(ctx, p.Pool, name, info.ID, format)
}
