package service

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync"
	"time"

	"bagaglio/core/step"
	"bagaglio/internal/store"
)

const (
	// againAfter is how long what could not be written into the records waits at first; each further time is twice as long, up to againAtMost.
	againAfter, againAtMost = 250 * time.Millisecond, 5 * time.Second
	// mostUnnoted bounds the lines of the log that wait to be written.
	mostUnnoted = 10_000
)

// health is whether the records can be written.
type health struct {
	mu      sync.Mutex
	problem error // nil when they can
	since   time.Time
	unnoted []unnoted // lines of the log that could not be written yet
	asking  bool
}

type unnoted struct {
	event store.Event
	at    time.Time
}

// Unwell says why the service cannot write its records, and since when; nil when it can.
func (s *Service) Unwell() (since time.Time, problem error) {
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	return s.health.since, s.health.problem
}

// wrote notes what came of writing into the records, and tells whether it has to be tried again.
func (s *Service) wrote(err error) (again bool) {
	again = store.CannotWrite(err)
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	switch {
	case again && s.health.problem == nil:
		s.log.Error("the records cannot be written: jobs wait for that, and go on by themselves", "error", err)
		s.health.problem, s.health.since = err, time.Now()
	case again:
		s.health.problem = err
	case err == nil && s.health.problem != nil:
		s.log.Info("the records can be written again", "after", time.Since(s.health.since).Round(time.Second).String())
		s.health.problem = nil
	}
	return again
}

// patiently does something with the records, again and again until it works or the service closes. A job that runs waits meanwhile.
func (s *Service) patiently(do func() error) error {
	for pause := againAfter; ; pause = min(2*pause, againAtMost) {
		err := do()
		if !s.wrote(err) {
			return err
		}
		select {
		case <-s.done:
			return err
		case <-time.After(pause):
		}
	}
}

// tryRecords finds out whether the records can be written, and writes the lines of the log that wait.
func (s *Service) tryRecords() {
	s.health.mu.Lock()
	busy := s.health.asking
	s.health.asking = true
	waiting := s.health.unnoted
	s.health.mu.Unlock()
	if busy {
		return
	}
	ctx, n := context.Background(), 0
	_, unwell := s.Unwell()
	err := s.store.SetSetting(ctx, "tended", time.Now().UTC().Format(time.RFC3339))
	for err == nil && n < len(waiting) {
		if err = s.store.AddEvent(ctx, waiting[n].event, waiting[n].at); err == nil {
			n++
		}
	}
	s.wrote(err)
	s.health.mu.Lock()
	s.health.asking, s.health.unnoted = false, s.health.unnoted[n:]
	s.health.mu.Unlock()
	if err == nil && unwell != nil { // jobs could not be started
		s.dispatch()
	}
}

// note adds a line to the log of events, now or when that is possible again.
func (s *Service) note(ctx context.Context, e store.Event) {
	now := time.Now()
	s.health.mu.Lock()
	waits := len(s.health.unnoted) > 0 // so that they stay in their order
	s.health.mu.Unlock()
	if !waits {
		err := s.store.AddEvent(ctx, e, now)
		if waits = s.wrote(err); !waits && err != nil {
			s.log.Error("noting an event", "what", e.What, "error", err)
		}
	}
	if !waits {
		return
	}
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	if len(s.health.unnoted) < mostUnnoted {
		s.health.unnoted = append(s.health.unnoted, unnoted{e, now})
	}
}

// patient are records of a job that wait until they can be written.
type patient struct {
	step.Records
	service *Service
}

func (p patient) Load(ctx context.Context) (j *step.Journal, err error) {
	err = p.service.patiently(func() error {
		j, err = p.Records.Load(ctx)
		return err
	})
	return j, err
}

func (p patient) Keep(ctx context.Context, j step.Journal, mark *step.Mark) error {
	return p.service.patiently(func() error { return p.Records.Keep(ctx, j, mark) })
}

func (p patient) Forget(ctx context.Context, subject string, j step.Journal) error {
	return p.service.patiently(func() error { return p.Records.Forget(ctx, subject, j) })
}

// Marks are read again from the beginning where that was interrupted: those that were passed on are left out.
func (p patient) Marks(ctx context.Context, stage string) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		passed, ended := 0, false
		err := p.service.patiently(func() error {
			n := 0
			for mark, err := range p.Records.Marks(ctx, stage) {
				if err != nil {
					return err
				}
				if n++; n <= passed {
					continue
				}
				passed = n
				if ended = !yield(mark, nil); ended {
					return nil
				}
			}
			return nil
		})
		if err != nil && !ended {
			yield(nil, err)
		}
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
