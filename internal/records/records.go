// Package records is what the service keeps, for whoever may have to wait until it can be written, and the log of events.
package records

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"bagaglio/internal/store"

	"github.com/google/uuid"
)

const (
	// againAfter is how long what could not be written into the records waits at first; each further time is twice as long, up to againAtMost.
	againAfter, againAtMost = 250 * time.Millisecond, 5 * time.Second
	// mostUnnoted bounds the lines of the log that wait to be written.
	mostUnnoted = 10_000
)

// Errors that the API tells apart.
var (
	// ErrInvalid is the error for input that makes no sense.
	ErrInvalid = errors.New("invalid")
	// ErrState is the error for what cannot be done in the present state of a job or pool.
	ErrState = errors.New("not now")
)

// Records are those in the state folder.
type Records struct {
	*store.Store
	// ID is that of this service: what it stages in pools goes by that.
	ID      string
	log     *slog.Logger
	archive archive
	closing chan struct{} // closed when the service closes: nobody waits any more

	mu      sync.Mutex
	problem error // why they cannot be written; nil when they can
	since   time.Time
	unnoted []unnoted // lines of the log that could not be written yet
	asking  bool
}

// Options say what is kept: so many lines of the log, for so long; 0 keeps all.
type Options struct {
	LogLines int
	LogAge   time.Duration
}

// Open opens the records in the state folder, and makes them when there are none.
func Open(ctx context.Context, state string, o Options, log *slog.Logger) (*Records, error) {
	s, err := store.Open(ctx, filepath.Join(state, "records.sqlite"))
	if err != nil {
		return nil, err
	}
	r := &Records{Store: s, log: log, archive: archive{filepath.Join(state, archiveFolder), o}, closing: make(chan struct{})}
	const setting = "service"
	r.ID, err = s.Setting(ctx, setting)
	if errors.Is(err, store.ErrNotFound) { // its first start
		r.ID = uuid.NewString()
		err = s.SetSetting(ctx, setting, r.ID)
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return r, nil
}

// TaskID is what the work of a job stages and holds in pools goes by: it is unlike that of another service that uses the same pool.
func (r *Records) TaskID(job int64) string { return r.ID + "-" + strconv.FormatInt(job, 10) }

// GiveUp has nobody wait any more for records that cannot be written.
func (r *Records) GiveUp() { close(r.closing) }

type unnoted struct {
	event store.Event
	at    time.Time
}

// Unwell says why the service cannot write its records, and since when; nil when it can.
func (r *Records) Unwell() (since time.Time, problem error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.since, r.problem
}

// Wrote notes what came of writing into the records, and tells whether it has to be tried again.
func (r *Records) Wrote(err error) (again bool) {
	again = store.CannotWrite(err)
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case again && r.problem == nil:
		r.log.Error("the records cannot be written: jobs wait for that, and go on by themselves", "error", err)
		r.problem, r.since = err, time.Now()
	case again:
		r.problem = err
	case err == nil && r.problem != nil:
		r.log.Info("the records can be written again", "after", time.Since(r.since).Round(time.Second).String())
		r.problem = nil
	}
	return again
}

// Patiently does something with the records, again and again until it works or the service closes. A job that runs waits meanwhile.
func (r *Records) Patiently(do func() error) error {
	for pause := againAfter; ; pause = min(2*pause, againAtMost) {
		err := do()
		if !r.Wrote(err) {
			return err
		}
		select {
		case <-r.closing:
			return err
		case <-time.After(pause):
		}
	}
}

// Try finds out whether the records can be written, and writes the lines of the log that wait. It tells whether they could not be before, and
// can be now.
func (r *Records) Try() (again bool) {
	r.mu.Lock()
	busy := r.asking
	r.asking = true
	waiting := r.unnoted
	r.mu.Unlock()
	if busy {
		return false
	}
	ctx, n := context.Background(), 0
	_, unwell := r.Unwell()
	err := r.SetSetting(ctx, "tended", time.Now().UTC().Format(time.RFC3339))
	for err == nil && n < len(waiting) {
		if err = r.AddEvent(ctx, waiting[n].event, waiting[n].at); err == nil {
			n++
		}
	}
	r.Wrote(err)
	r.mu.Lock()
	r.asking, r.unnoted = false, r.unnoted[n:]
	r.mu.Unlock()
	return err == nil && unwell != nil
}

// Add adds a line to the log of events, now or when that is possible again.
func (r *Records) Add(ctx context.Context, e store.Event) {
	now := time.Now()
	r.mu.Lock()
	waits := len(r.unnoted) > 0 // so that they stay in their order
	r.mu.Unlock()
	if !waits {
		err := r.AddEvent(ctx, e, now)
		if waits = r.Wrote(err); !waits && err != nil {
			r.log.Error("noting an event", "what", e.What, "error", err)
		}
	}
	if !waits {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.unnoted) < mostUnnoted {
		r.unnoted = append(r.unnoted, unnoted{e, now})
	}
}

// errUnwritten is for what somebody asks for while the records cannot be written.
var errUnwritten = errors.New("the service cannot write its records at present; jobs wait for that and go on by themselves")

// Unwritten adds to an error of the records what it means.
func Unwritten(err error) error {
	if !store.CannotWrite(err) {
		return err
	}
	return fmt.Errorf("%w: make room on the disk of the state folder, or close what has the records locked: %w", errUnwritten, err)
}
