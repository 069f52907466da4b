// Package service puts the parts together: pools, plans, the queue of jobs, and what has to be set right at start.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"bagaglio/api"
	"bagaglio/core/seal"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/internal/access"
	"bagaglio/internal/feed"
	"bagaglio/internal/rounds"
	"bagaglio/internal/store"

	"github.com/google/uuid"
	"golang.org/x/sync/singleflight"
	"golang.org/x/sys/unix"
	"golang.org/x/time/rate"
)

// Errors that the API tells apart.
var (
	// ErrInvalid is the error for input that makes no sense.
	ErrInvalid = errors.New("invalid")
	// ErrState is the error for what cannot be done in the present state of a job or pool.
	ErrState = errors.New("not now")
)

// Service is the running service.
type Service struct {
	state  string // folder
	store  *store.Store
	log    *slog.Logger
	id     string // of this service, for names of staging folders
	runner string // of this process, for claims on jobs
	feed   feed.Feed[api.Job]
	*access.Access
	key   *seal.Key
	chain *chain
	vault *vault
	kept  *local.Kept // the state folder
	lock  *os.File    // held as long as the service runs

	mu       sync.Mutex
	folders  map[string]storage.Folder // open pools by name
	running  map[int64]*run
	waits    map[int64]string // why a job waits
	troubles map[int64]trouble
	limits   limits
	closing  bool
	jobs     sync.WaitGroup

	opening singleflight.Group // of pools by name
	spaces  spaces

	rounds  *rounds.Rounds // through pools
	watcher *rounds.Watcher
	looks   looks
	lists   *lists
	health  health

	dispatching sync.Mutex
	starting    singleflight.Group // of plans
	done        chan struct{}      // closed when the service closes
	options     Options
}

// Options say how the service works.
type Options struct {
	// Hold is for how long what is replaced is kept.
	Hold time.Duration
	// Checkpoint is how often a job keeps how far it is.
	Checkpoint time.Duration
	// LogLines and LogAge are how many lines of the log are kept, and for how long; 0 keeps all.
	LogLines int
	LogAge   time.Duration
	// Secrets is the folder with files that hosts may be logged in to with, empty for none.
	Secrets string
}

// Open starts the service with its records in the folder state, and sets right what an earlier run left.
func Open(ctx context.Context, state string, o Options, log *slog.Logger) (*Service, error) {
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, fmt.Errorf("making the state folder: %w", err)
	}
	if err := closeFolder(state); err != nil {
		return nil, err
	}
	lock, err := lockState(state)
	if err != nil {
		return nil, err
	}
	if err := mark(state); err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	records, err := store.Open(ctx, filepath.Join(state, "records.sqlite"))
	if err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	s := &Service{
		kept: local.Keep(
			state,
		),
		state:    state,
		store:    records,
		lock:     lock,
		log:      log,
		options:  o,
		done:     make(chan struct{}),
		folders:  map[string]storage.Folder{},
		running:  map[int64]*run{},
		waits:    map[int64]string{},
		troubles: map[int64]trouble{},
		limits:   limits{meters: map[scope]*rate.Limiter{}},
		lists:    newLists(),
		looks:    looks{far: map[string]far{}, touched: map[string]time.Time{}},
	}
	s.runner = uuid.NewString()
	s.rounds = rounds.New(s.lookThrough)
	s.watcher = rounds.Watch(s.rounds)
	err = s.identify(ctx)
	if err == nil {
		s.Access, err = access.Open(ctx, state, records)
	}
	if err == nil {
		s.key, err = seal.OpenKey(filepath.Join(state, "receipts.jwk"))
	}
	if err == nil {
		var broken error
		if s.chain, broken, err = openChain(ctx, state, s.key, records); broken != nil {
			log.Error("the receipts in the records are not those that were written", "error", broken)
		}
	}
	if err == nil {
		s.vault, err = openVault(state)
	}
	if err == nil {
		err = s.loadLimits(ctx)
	}
	if err == nil {
		err = s.recover(ctx)
	}
	if err != nil {
		s.rounds.Close()
		return nil, errors.Join(err, s.watcher.Close(), records.Close(), lock.Close())
	}
	s.lookAround()
	s.dispatch()
	s.jobs.Go(func() { s.tend(s.done) })
	return s, nil
}

// stateMark is a file in the state folder by which another service knows it.
const stateMark = "bagaglio-state"

func mark(state string) error {
	file := filepath.Join(state, stateMark)
	if _, err := os.Stat(file); err == nil {
		return nil
	}
	if err := os.WriteFile(file, []byte("This folder is the state of a service. Nothing in it is a disk.\n"), 0o600); err != nil {
		return fmt.Errorf("marking the state folder: %w", err)
	}
	return nil
}

// lockState keeps a second service from using the same records.
func lockState(state string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(state, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the state folder: %w", err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(
			fmt.Errorf(
				"%w: another service uses the state folder %s: stop it first, or give this one a folder of its own (--state)",
				ErrState,
				state,
			),
			f.Close(),
		)
	}
	return f, nil
}

// closeFolder keeps others out of the state folder, which holds keys.
func closeFolder(state string) error {
	info, err := os.Stat(state)
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		err = os.Chmod(state, 0o700)
	}
	if err != nil {
		return fmt.Errorf("the state folder %s is open to others, and has to be closed (chmod 700): %w", state, err)
	}
	return nil
}

// identify gives the service an identity at its first start.
func (s *Service) identify(ctx context.Context) error {
	const setting = "service"
	id, err := s.store.Setting(ctx, setting)
	if errors.Is(err, store.ErrNotFound) {
		id = uuid.NewString()
		err = s.store.SetSetting(ctx, setting, id)
	}
	s.id = id
	return err
}

// closeIn is for how long the end of the service waits for looks through pools.
const closeIn = 5 * time.Second

// Close sets running jobs aside, which go on at the next start, and closes everything.
func (s *Service) Close() error {
	s.dispatching.Lock() // no job is being started now
	s.mu.Lock()
	s.dispatching.Unlock()
	s.closing = true
	for _, r := range s.running {
		r.stop(errStopping)
	}
	close(s.done) // behind that: what waits for the records gives up, and is set aside
	s.mu.Unlock()
	s.jobs.Wait()
	err := s.watcher.Close()
	s.feed.Close()
	s.mu.Lock()
	folders := s.folders
	s.folders = map[string]storage.Folder{}
	s.mu.Unlock()
	for _, f := range folders {
		if err := f.Close(); err != nil {
			s.log.Warn("closing a pool", "error", err)
		}
	}
	ended := make(chan struct{})
	go func() {
		s.rounds.Close()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(closeIn): // a host does not answer: what is found there is kept nowhere
	}
	return errors.Join(err, s.store.Close(), s.lock.Close())
}
