package places

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"runtime"
	"strings"
	"sync"
	"time"

	"bagaglio/core/catalog"
	"bagaglio/core/disk"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/rounds"
	"bagaglio/internal/store"
)

const (
	// listIn is for how long whoever asks for a list waits for what the service itself has changed to be seen, and waitToKnow for how long
	// whoever plans waits for what has to be known.
	listIn, waitToKnow = time.Second, 30 * time.Second
	// oldAfter is when a list of a pool whose changes nobody tells is looked through again, and roundEvery when any is.
	oldAfter, roundEvery = 5 * time.Second, 2 * time.Minute
	// lookFor bounds how long looking through a pool may take.
	lookFor = 30 * time.Minute
)

// looks are how far looking through pools is, and when a list has to be new.
type looks struct {
	mu      sync.Mutex
	far     map[string]far
	touched map[string]time.Time // when the service itself changed something in a pool
}

// far is how far a look through a pool is, in files.
type far struct{ seen, of int }

func (l *looks) set(pool string, f far) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.far[pool] = f
}

func (l *looks) get(pool string) (far, time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.far[pool], l.touched[pool]
}

// Touch notes that something in pools has changed, and has them looked through.
func (s *Places) Touch(pools ...string) {
	now := time.Now()
	for _, pool := range pools {
		s.looks.mu.Lock()
		s.looks.touched[pool] = now
		s.looks.mu.Unlock()
		s.rounds.Want(pool)
	}
}

// lookThrough looks through a pool and keeps what it finds, as it comes.
func (s *Places) lookThrough(ctx context.Context, pool string) error {
	began := time.Now()
	record, err := s.Record(ctx, pool)
	if err != nil {
		return err
	}
	folder, err := s.Open(ctx, record)
	if err != nil {
		return err
	}
	before, err := s.records.Catalog(ctx, pool)
	if err != nil {
		return err
	}
	formats, err := s.formatsOf(ctx, pool, folder)
	if err != nil {
		return err
	}
	defer s.looks.set(pool, far{})
	ctx, cancel := context.WithTimeoutCause(ctx, lookFor, fmt.Errorf("it could not be looked through within %s", lookFor))
	defer cancel()
	var mu sync.Mutex // for those that are on record meanwhile
	var told []catalog.Disk
	found, err := catalog.Scanner{
		Folder: folder, Root: record.Folder, Own: disks.OwnFolder, Before: before, Format: formats.of, Workers: max(2, runtime.NumCPU()),
		Found: func(disks []catalog.Disk, seen, of int) error {
			mu.Lock()
			defer mu.Unlock()
			s.looks.set(pool, far{seen, of})
			defer s.lists.forget()
			told = append(told, disks...)
			return s.records.AddDisks(ctx, pool, disks)
		},
	}.Scan(ctx)
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return fmt.Errorf("pool %s: %w", pool, err)
	}
	if err := s.records.SetKnownFormats(ctx, pool, formats.learned...); err != nil {
		return err
	}
	if record.Host == LocalHost {
		s.watcher.Set(pool, record.Folder, found.Folders)
	}
	before.Disks = append(before.Disks, told...)
	defer s.lists.forget()
	return s.records.SetCatalog(ctx, pool, before, found, began)
}

// formats tells formats of files in a pool, by what is known of them and by their content.
type formats struct {
	folder storage.Folder
	known  map[string]store.KnownFormat

	mu      sync.Mutex
	learned []store.KnownFormat
}

func (s *Places) formatsOf(ctx context.Context, pool string, folder storage.Folder) (*formats, error) {
	all, err := s.records.KnownFormats(ctx, pool)
	f := &formats{folder: folder, known: map[string]store.KnownFormat{}}
	for _, k := range all {
		f.known[k.Path] = k
	}
	return f, err
}

// of tells the format of a file, and whether it is a disk at all: by its name, by its content, or since a job made or read it.
func (f *formats) of(_ context.Context, info storage.Info) (string, bool, error) {
	known, ok := f.known[info.Name]
	if ok = ok && known.File == info.ID; ok && known.Format != "raw" {
		return known.Format, true, stillMarked(f.folder, info.Name, known.Format)
	}
	if ok {
		return known.Format, true, nil
	}
	format, err := disk.Recognise(f.folder, info.Name)
	if disk.Claim(info.Name) == "" && !strings.EqualFold(path.Ext(info.Name), ".img") && (err != nil || format == "raw") {
		return "", false, nil // any file at all
	}
	if err == nil && format == "raw" && time.Since(info.Modified) > settled {
		f.mu.Lock()
		f.learned = append(f.learned, store.KnownFormat{Path: info.Name, File: info.ID, Format: format})
		f.mu.Unlock()
	}
	return format, true, err
}

// Refresh has a pool looked through and returns when that is done.
func (s *Places) Refresh(ctx context.Context, pool string) error {
	if _, err := s.Record(ctx, pool); err != nil {
		return err
	}
	_, err := s.rounds.After(ctx, pool, time.Now())
	return err
}

// StopRefresh ends the look through a pool that is under way.
func (s *Places) StopRefresh(ctx context.Context, pool string) error {
	if _, err := s.Record(ctx, pool); err != nil {
		return err
	}
	if !s.rounds.Cancel(pool) {
		return fmt.Errorf("%w: the pool %s is not being looked through", records.ErrState, pool)
	}
	return nil
}

// catchUp waits a moment for a list to hold what the service itself has changed, or what nobody tells. It tells whether it had to.
func (s *Places) catchUp(ctx context.Context, r store.Pool) bool {
	_, since := s.looks.get(r.Name)
	if r.Host != LocalHost {
		if last, ok, _ := s.rounds.Last(r.Name); !ok || time.Since(last.Began) > oldAfter {
			since = time.Now()
		}
	}
	if last, ok, _ := s.rounds.Last(r.Name); ok && !last.Began.Before(since) {
		return false
	}
	within, cancel := context.WithTimeout(ctx, listIn)
	defer cancel()
	_, _ = s.rounds.After(within, r.Name, since) // the list tells what does not work
	return true
}

// LookAround has pools looked through that nobody has looked at for a while. Those on other hosts are, when somebody asks.
func (s *Places) LookAround() {
	pools, err := s.records.Pools(context.Background())
	if err != nil {
		s.log.Error("looking for pools", "error", err)
		return
	}
	for _, p := range pools {
		if last, ok, _ := s.rounds.Last(p.Name); !ok || p.Host == LocalHost && time.Since(last.Ended) > roundEvery {
			s.rounds.Want(p.Name)
		}
	}
}

// Need is what somebody has to know of a pool.
type Need int

const (
	NeedAll         Need = iota + 1 // everything in it
	NeedDefinitions                 // which disks its definitions name
)

// Knowledge finds out what has to be known of pools, as of a time: what is still awaited or could not be looked at is told.
func (s *Places) Knowledge(ctx context.Context, pools map[string]Need, since time.Time, wait bool) (k plan.Knowledge, err error) {
	within, cancel := context.WithTimeout(ctx, waitToKnow)
	defer cancel()
	var mu sync.Mutex
	var all sync.WaitGroup
	for pool, n := range pools {
		all.Go(func() {
			part, partErr := s.knowledgeOf(within, pool, n, since, wait)
			mu.Lock()
			defer mu.Unlock()
			err = errors.Join(err, partErr)
			k.Add(part)
		})
	}
	all.Wait()
	return k, errors.Join(err, ctx.Err())
}

func (s *Places) knowledgeOf(ctx context.Context, pool string, n Need, since time.Time, wait bool) (k plan.Knowledge, err error) {
	if wait {
		_, err = s.rounds.After(ctx, pool, since)
	}
	look, lookErr := s.records.Looked(context.WithoutCancel(ctx), pool)
	if lookErr != nil {
		return k, lookErr
	}
	k.At = look.Began
	switch far, _ := s.looks.get(pool); {
	case errors.Is(err, context.DeadlineExceeded) && far.of > 0:
		k.Awaited = append(k.Awaited, fmt.Sprintf("%s is still being looked through: %d of %d files so far", pool, far.seen, far.of))
	case errors.Is(err, context.DeadlineExceeded) || errors.Is(err, rounds.ErrCancelled) || err == nil && look.Began.IsZero():
		k.Awaited = append(k.Awaited, pool+" has not been looked through")
	case store.CannotWrite(err):
		return k, err
	case err != nil && n == NeedDefinitions && !look.Began.IsZero() && (storage.Lost(err) || errors.Is(err, fs.ErrNotExist)): // a drive that is not connected: what was known of it holds
	case err != nil && n == NeedDefinitions:
		k.Awaited = append(k.Awaited, fmt.Sprintf("%s cannot be looked through: %v", pool, err))
	case err != nil:
		return k, err
	}
	for _, m := range look.Missed {
		if n == NeedAll || machine.Claim(m.Name) || disk.Claim(m.Name) == "" {
			k.Missed = append(k.Missed, fmt.Sprintf("%s:%s (%s)", pool, m.Name, m.Why))
		}
	}
	return k, nil
}
