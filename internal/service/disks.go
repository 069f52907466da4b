package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/store"
)

const (
	maxDepth = 8      // of folders in a pool that are looked through
	maxFiles = 10_000 // that are looked at in one pool
	// settled is for how long a file has to be unchanged to be known by what it looks like.
	settled = 10 * time.Minute
)

// Disks lists the disks in a pool. One that does not open is listed with its problem.
func (s *Service) Disks(ctx context.Context, pool string) ([]api.DiskEntry, error) {
	folder, err := s.folder(ctx, pool)
	if err != nil {
		return nil, err
	}
	files, err := walk(folder, ".", 0, nil)
	if err != nil {
		return nil, fmt.Errorf("listing pool %s: %w", pool, err)
	}
	disks := []api.DiskEntry{}
	parts := map[string]bool{} // files that belong to a disk which another file opens
	for _, f := range files {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		d, names, ok := s.entry(ctx, folder, pool, f)
		if ok {
			disks = append(disks, d)
		}
		for _, name := range names {
			parts[name] = parts[name] || name != d.Path
		}
	}
	return slices.DeleteFunc(disks, func(d api.DiskEntry) bool { return parts[d.Path] }), nil
}

// walk collects the regular files below dir, without our own.
func walk(folder storage.Folder, dir string, depth int, files []storage.Info) ([]storage.Info, error) {
	infos, err := folder.List(dir)
	if err != nil {
		return files, err
	}
	for _, i := range infos {
		switch {
		case len(files) >= maxFiles:
			return files, nil
		case i.IsDir && disk.Claim(i.Name) != "": // a folder that is a disk
			files = append(files, i)
		case i.IsDir && i.Name != job.OwnFolder && depth < maxDepth:
			if files, err = walk(folder, i.Name, depth+1, files); err != nil && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, fs.ErrNotExist) {
				return files, err
			}
		case i.Regular:
			files = append(files, i)
		}
	}
	return files, nil
}

// entry describes a file as a disk, and names all files of it; ok is false for a file that is none.
func (s *Service) entry(ctx context.Context, folder storage.Folder, pool string, info storage.Info) (d api.DiskEntry, files []string, ok bool) {
	d = api.DiskEntry{Path: info.Name, Modified: info.Modified, FileSize: info.Size}
	claimed := disk.Claim(info.Name)
	if claimed == "" && !strings.EqualFold(path.Ext(info.Name), ".img") && !s.knownAsDisk(ctx, folder, pool, info) {
		return d, nil, false // any file at all
	}
	format, err := s.formatOf(ctx, folder, plan.Place{Pool: pool, Path: info.Name})
	if err == nil {
		files, err = s.measure(ctx, folder, format, &d)
	}
	if err != nil {
		d.Format, d.Problem = claimed, err.Error()
	}
	return d, files, true
}

// knownAsDisk tells whether a file whose name says nothing is a disk: by its content, or since a job made or read it.
func (s *Service) knownAsDisk(ctx context.Context, folder storage.Folder, pool string, info storage.Info) bool {
	if format, err := disk.Recognise(folder, info.Name); err == nil && format != "raw" {
		return true
	}
	_, err := s.store.KnownFormat(ctx, pool, info.Name, info.ID)
	return err == nil
}

// measure fills d in and returns the files of the disk.
func (s *Service) measure(ctx context.Context, folder storage.Folder, format string, d *api.DiskEntry) ([]string, error) {
	r, err := disk.Open(ctx, folder, d.Path, format)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	about := r.Describe()
	d.Format, d.Layout, d.VirtualSize = about.Format, about.Layout, about.VirtualSize
	if d.FileSize, _, err = storage.Measure(folder, about.Files); err != nil {
		return nil, err
	}
	d.AllocatedSize, err = disk.Allocated(ctx, r)
	return about.Files, err
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
