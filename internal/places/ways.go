package places

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"path"
	"path/filepath"

	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/core/storage/sftp"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// AddWay says that the storage of a pool lies at a folder of another computer with a porter too, which can do its work then. That it is the same storage is tried out:
// what is written through the pool is read there.
func (s *Places) AddWay(ctx context.Context, w store.Way) (Pool, error) {
	record, err := s.Record(ctx, w.Pool)
	if err != nil {
		return Pool{}, err
	}
	h, err := s.Host(ctx, w.Host)
	switch {
	case err != nil:
		return Pool{}, err
	case h.Kind != sftp.Porter || w.Host == record.Host:
		return Pool{}, fmt.Errorf(
			"%w: another way to a pool leads over another computer with a porter, and %s is none",
			records.ErrInvalid,
			w.Host,
		)
	case record.Volumes != "" || !filepath.IsAbs(w.Folder):
		return Pool{}, fmt.Errorf("%w: another way leads to the folder of a pool of files, by its absolute path there", records.ErrInvalid)
	}
	w.Folder = path.Clean(w.Folder)
	folder, err := s.Folder(ctx, w.Pool)
	if err != nil {
		return Pool{}, err
	}
	there, err := s.reach(ctx, w.Host, w.Folder)
	if err != nil {
		return Pool{}, err
	}
	defer there.Close()
	if err := sameStorage(folder, there); err != nil {
		return Pool{}, fmt.Errorf("%w: %s on %s: %w", records.ErrInvalid, w.Folder, w.Host, err)
	}
	if err := s.records.AddWay(ctx, w); err != nil {
		return Pool{}, err
	}
	return s.Pool(ctx, w.Pool)
}

// sameStorage fails unless what is written in one folder is read in the other.
func sameStorage(folder, there storage.Folder) (err error) {
	mark := []byte(rand.Text())
	name := path.Join(disks.OwnFolder, "way-"+string(mark))
	f, err := folder.Create(name)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, folder.Remove(name)) }()
	_, err = f.WriteAt(mark, 0)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	got := make([]byte, len(mark))
	other, err := there.Open(name)
	if err == nil {
		_, err = other.ReadAt(got, 0)
		err = errors.Join(err, other.Close())
	}
	if err != nil || string(got) != string(mark) {
		return fmt.Errorf("what is written in the pool is not there: it is other storage: %w", err)
	}
	return nil
}

// RemoveWay forgets one.
func (s *Places) RemoveWay(ctx context.Context, pool, host string) error {
	if err := s.records.RemoveWay(ctx, pool, host); err != nil {
		return fmt.Errorf("a way to the pool %s over %s: %w", pool, host, err)
	}
	return nil
}
