package places

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/storage/local"
	"bagaglio/core/storage/volumes"
	"bagaglio/internal/points"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

var placeName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Pool is one with what is known of its storage at present.
type Pool struct {
	store.Pool
	Space   storage.Space
	Problem error // why nothing is known of that
}

// AddPool adds a folder of a host as a pool, and finds out what it can do. nested lets it lie in another pool, or have one inside.
func (s *Places) AddPool(ctx context.Context, record store.Pool, nested bool) (Pool, error) {
	if !placeName.MatchString(record.Name) {
		return Pool{}, fmt.Errorf(
			"%w: the pool's name %q may have small letters, digits and hyphens only, at most 63, and begins with a letter or digit",
			records.ErrInvalid,
			record.Name,
		)
	}
	if record.Host == "" {
		record.Host = LocalHost
	}
	if !filepath.IsAbs(record.Folder) {
		return Pool{}, fmt.Errorf("%w: the folder %q has to be an absolute path on the host", records.ErrInvalid, record.Folder)
	}
	record.Folder = path.Clean(record.Folder)
	if err := record.Rules.Validate(); err != nil {
		return Pool{}, fmt.Errorf("%w: the rules: %w", records.ErrInvalid, err)
	}
	if record.Host == LocalHost { // the real place, so that one folder is not two pools under two names
		folder, err := filepath.EvalSymlinks(record.Folder)
		if err != nil {
			return Pool{}, fmt.Errorf("%w: looking for the folder: %w; make it first", records.ErrInvalid, err)
		}
		record.Folder = folder
	}
	if err := errors.Join(s.standsAlone(ctx, record, nested), s.ownsVolumes(ctx, record)); err != nil {
		return Pool{}, err
	}
	opened, err := s.connect(ctx, record)
	if err != nil && record.Host == LocalHost {
		err = fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	if err == nil {
		record.Rules, err = ruled(record.Rules, opened)
	}
	if err != nil {
		return Pool{}, err
	}
	if err := s.records.AddPool(ctx, record, time.Now()); err != nil {
		_ = opened.Close() // the first error says more
		return Pool{}, err
	}
	s.mu.Lock()
	s.folders[record.Name] = points.Folder(opened)
	s.mu.Unlock()
	if record.Facts = facts(ctx, opened, false, func(storage.Tried) {}); record.Facts != nil {
		if err := s.records.SetFacts(ctx, record); err != nil {
			return Pool{}, err
		}
	}
	s.Touch(record.Name)
	return s.describe(record), nil
}

// standsAlone fails for a folder that is another pool, has one inside or lies in one, unless that is meant; and for the state of a service.
func (s *Places) standsAlone(ctx context.Context, r store.Pool, nested bool) error {
	if r.Host != LocalHost {
		return s.noState(ctx, r)
	}
	if err := s.kept.Apart(r.Folder); err != nil {
		return fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	here, err := local.Find(r.Folder)
	if err != nil {
		return fmt.Errorf("%w: looking where the folder lies: %w", records.ErrInvalid, err)
	}
	if strings.Contains(here.Path+"/", "/"+disks.OwnFolder+"/") {
		return fmt.Errorf(
			"%w: %s lies in what a pool holds for itself (%s): choose another folder",
			records.ErrInvalid,
			r.Folder,
			disks.OwnFolder,
		)
	}
	pools, err := s.records.Pools(ctx)
	if err != nil {
		return err
	}
	for _, p := range pools {
		if p.Host != LocalHost {
			continue
		}
		there, err := local.Find(p.Folder)
		if err != nil {
			continue // it is not there at present
		}
		switch {
		case here.Is(there):
			return fmt.Errorf("the folder %s is %w, by the pool %s (%s)", r.Folder, store.ErrTaken, p.Name, p.Folder)
		case nested:
		case here.In(there):
			return fmt.Errorf(
				"%w: %s lies in the pool %s (%s), and its disks would be in both: if that is meant, add it as nested",
				records.ErrInvalid,
				r.Folder,
				p.Name,
				p.Folder,
			)
		case there.In(here):
			return fmt.Errorf(
				"%w: the pool %s (%s) lies in %s, and its disks would be in both: if that is meant, add it as nested",
				records.ErrInvalid,
				p.Name,
				p.Folder,
				r.Folder,
			)
		}
	}
	return nil
}

// noState fails for a folder of another host that is the state of a service, or lies in it: that host may be this computer under another
// name.
func (s *Places) noState(ctx context.Context, r store.Pool) error {
	for at := r.Folder; ; at = path.Dir(at) {
		folder, err := s.reach(ctx, r.Host, at)
		if err != nil && at == r.Folder {
			return err
		}
		if err == nil {
			mark, err := folder.Stat(s.mark)
			if closeErr := folder.Close(); closeErr != nil {
				return closeErr
			}
			if err == nil && mark.Regular {
				return fmt.Errorf("%w: %s on %s is the state of a service: %w", records.ErrInvalid, at, r.Host, local.ErrKept)
			}
		}
		if at == "/" || at == "." {
			return nil
		}
	}
}

// facts tries a folder out.
func facts(ctx context.Context, f storage.Folder, speed bool, tell func(storage.Tried)) *storage.Facts {
	found := storage.Trial(ctx, f, disks.OwnFolder, speed, tell)
	if found.Filesystem == "" { // not even that
		return nil
	}
	if v, ok := storage.As[*volumes.Folder](f); ok { // what was tried are the files beside them
		found.Holes, found.Clones, found.Swaps = v.Thin(), false, false
	}
	return &found
}

// checkDrive fails for a pool on a filesystem of its own which is not mounted: what is in its folder then is not the pool.
func checkDrive(r store.Pool, f storage.Folder) error {
	if r.Facts == nil || !r.Facts.Mounted {
		return nil
	}
	space, err := f.Space()
	if err != nil { // not even its folder may be there
		err = fmt.Errorf("%w: %w", storage.ErrLost, err)
	} else if !space.Mounted || len(space.MountPoint) < len(r.Facts.MountPoint) { // the folder lies on what is beneath the drive
		err = fmt.Errorf(
			"%w: its drive is not mounted: connect and mount it at %s, or, when the folder is to be the pool without it: bagaglio pool test %s --without-drive",
			storage.ErrLost,
			cmp.Or(r.Facts.MountPoint, r.Folder),
			r.Name,
		)
	}
	if err != nil {
		return fmt.Errorf("pool %s is not reachable: %w", r.Name, err)
	}
	return nil
}

// ReadFacts finds out again what pools can do whose storage is not what it was, or that could not be reached before.
func (s *Places) ReadFacts() {
	ctx := context.Background()
	all, err := s.records.Pools(ctx)
	if err != nil {
		s.log.Error("looking for pools whose storage has changed", "error", err)
		return
	}
	for _, r := range all {
		folder, err := s.Open(ctx, r)
		if err != nil {
			continue // it is not there at present
		}
		space, err := folder.Space()
		if err != nil || r.Facts != nil && r.Facts.Hold(space) {
			continue
		}
		before := r.Facts
		if r.Facts = facts(ctx, folder, false, func(storage.Tried) {}); r.Facts == nil {
			continue
		}
		if before != nil {
			r.Facts.ReadSpeed, r.Facts.WriteSpeed = before.ReadSpeed, before.WriteSpeed
		}
		s.log.Info("read what a pool can do", "pool", r.Name, "filesystem", r.Facts.Filesystem)
		if err := s.records.SetFacts(ctx, r); err != nil {
			s.log.Error("noting what a pool can do", "pool", r.Name, "error", err)
		}
	}
}

// ChangePool changes the rules of a pool.
func (s *Places) ChangePool(ctx context.Context, name string, rules plan.Rules) (Pool, error) {
	if err := rules.Validate(); err != nil {
		return Pool{}, fmt.Errorf("%w: the rules: %w", records.ErrInvalid, err)
	}
	record, err := s.Record(ctx, name)
	if err != nil {
		return Pool{}, err
	}
	folder, err := s.Open(ctx, record)
	if err == nil {
		record.Rules, err = ruled(rules, folder)
	}
	if err != nil && record.Volumes != "" {
		return Pool{}, err
	}
	if err != nil { // rules can be changed of what is not there at present
		record.Rules = rules
	}
	return s.describe(record), s.records.SetRules(ctx, name, record.Rules)
}

// TestPool tries a pool out, and keeps what it found. A pool whose drive is not there is tried as it is only when that is asked for.
func (s *Places) TestPool(ctx context.Context, name string, withoutDrive bool) (Trial, error) {
	t := Trial{Worked: true, Steps: []storage.Tried{}}
	record, err := s.Record(ctx, name)
	if err != nil {
		return t, err
	}
	h := store.Host{Name: LocalHost, Kind: KindLocal}
	if record.Host != LocalHost {
		if h, err = s.host(ctx, record.Host); err != nil {
			return t, err
		}
	}
	folder := s.tryToReach(ctx, h, record.Folder, teller(&t))
	if folder == nil {
		return t, nil
	}
	defer folder.Close()
	if err := checkDrive(record, folder); err != nil && !withoutDrive {
		teller(&t)(storage.Tried{Name: "drive", Said: err.Error()})
		return t, nil
	}
	if found := facts(ctx, folder, true, teller(&t)); found != nil {
		t.Facts, record.Facts = found, found
		err = s.records.SetFacts(ctx, record)
	}
	return t, err
}

// Pools returns all pools with how full they are.
func (s *Places) Pools(ctx context.Context) ([]Pool, error) {
	all, err := s.records.Pools(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if r.Host != LocalHost { // so that all are asked at the same time
			s.spaces.ask(r.Name, s.asker(r))
		}
	}
	pools := make([]Pool, len(all))
	for i, r := range all {
		pools[i] = s.describe(r)
	}
	return pools, nil
}

// Pool returns one pool.
func (s *Places) Pool(ctx context.Context, name string) (Pool, error) {
	r, err := s.Record(ctx, name)
	if err != nil {
		return Pool{}, err
	}
	return s.describe(r), nil
}

// Record is that of a pool.
func (s *Places) Record(ctx context.Context, name string) (store.Pool, error) {
	if on, ok := plan.DevicesHost(name); ok {
		_, err := s.Host(ctx, on)
		return store.Pool{Name: name, Host: on, Folder: blocks.Path}, err
	}
	r, err := s.records.Pool(ctx, name)
	if err != nil {
		return r, fmt.Errorf("pool %q: %w", name, err)
	}
	return r, nil
}

func (s *Places) describe(r store.Pool) Pool {
	p := Pool{Pool: r}
	p.Space, p.Problem = s.Space(r)
	return p
}

// connect reaches the folder of a pool, or the disks of a host.
func (s *Places) connect(ctx context.Context, r store.Pool) (storage.Folder, error) {
	on, devices := plan.DevicesHost(r.Name)
	switch {
	case r.Volumes != "":
		return s.connectVolumes(ctx, r)
	case !devices:
		return s.reach(ctx, r.Host, r.Folder)
	case on == LocalHost:
		return s.apart(blocks.Open())
	}
	folder, err := s.reach(ctx, on, "/")
	if err != nil {
		return nil, err
	}
	computer, err := computerOf(folder, on)
	if err != nil {
		return nil, err
	}
	there, err := computer.ReadFile(bootID)
	here, hereErr := os.ReadFile(bootID)
	if err != nil || hereErr != nil || string(there) == string(here) { // it is this computer under another name, or may be
		return s.apart(blocks.On(computer))
	}
	return blocks.On(computer), nil
}

// bootID is the same for one computer only, from one start to the next.
const bootID = "/proc/sys/kernel/random/boot_id"

// errOwn is why a disk is not read.
var errOwn = fmt.Errorf(
	"the service's own state lies on it, and nothing of that disk is read through the service: capture it on the spot: %w",
	local.ErrKept,
)

// apart are disks but for those that the state folder lies on.
func (s *Places) apart(f *blocks.Folder) (storage.Folder, error) {
	own, err := s.kept.Disks()
	if err != nil {
		return nil, fmt.Errorf("looking which disk the state folder lies on: %w", err)
	}
	return f.Without(own, errOwn), nil
}

// RemovePool forgets a pool that no job uses. Its files stay.
func (s *Places) RemovePool(ctx context.Context, name string) error {
	for _, state := range store.Unended() {
		jobs, err := s.records.JobsIn(ctx, state)
		if err != nil {
			return err
		}
		for _, j := range jobs {
			if slices.Contains(j.Plan.Pools(), name) {
				return fmt.Errorf("%w: job %d uses the pool %s: wait for it or cancel it", records.ErrState, j.ID, name)
			}
		}
	}
	if err := s.records.RemovePool(ctx, name); err != nil {
		return fmt.Errorf("pool %q: %w", name, err)
	}
	s.spaces.forget(name)
	s.lists.forget()
	s.watcher.Forget(name)
	s.rounds.Forget(name)
	s.mu.Lock()
	defer s.mu.Unlock()
	if f, ok := s.folders[name]; ok {
		delete(s.folders, name)
		return f.Close()
	}
	return nil
}

// Folder returns the open folder of a pool.
func (s *Places) Folder(ctx context.Context, pool string) (storage.Folder, error) {
	r, err := s.Record(ctx, pool)
	if err != nil {
		return nil, err
	}
	return s.Open(ctx, r)
}

// Open returns the open folder of a pool. A host is reached once for all who ask at the same time.
func (s *Places) Open(ctx context.Context, r store.Pool) (storage.Folder, error) {
	f, err, _ := s.opening.Do(r.Name, func() (any, error) {
		s.mu.Lock()
		f, ok := s.folders[r.Name]
		s.mu.Unlock()
		if ok {
			return f, checkDrive(r, f)
		}
		opened, err := s.connect(context.WithoutCancel(ctx), r) // others may wait for it too
		if err != nil {
			return nil, fmt.Errorf("pool %s is not reachable: %w", r.Name, err)
		}
		if err := checkDrive(r, opened); err != nil {
			return nil, errors.Join(err, opened.Close())
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.folders[r.Name] = points.Folder(opened)
		return s.folders[r.Name], nil
	})
	if err != nil {
		return nil, err
	}
	return f.(storage.Folder), nil
}
