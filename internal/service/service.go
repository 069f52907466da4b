// Package service puts the rooms together: records, places, machines, planner and queue, and who is let in.
package service

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"time"

	"bagaglio/internal/access"
	"bagaglio/internal/arrivals"
	"bagaglio/internal/consents"
	"bagaglio/internal/exports"
	"bagaglio/internal/files"
	"bagaglio/internal/machines"
	"bagaglio/internal/notices"
	"bagaglio/internal/places"
	"bagaglio/internal/planner"
	"bagaglio/internal/porters"
	"bagaglio/internal/queue"
	"bagaglio/internal/records"
	"bagaglio/internal/recovery"
	"bagaglio/internal/routines"
	"bagaglio/internal/state"
	"bagaglio/internal/vault"

	"filippo.io/age"
)

// Service is the running service.
type Service struct {
	Access   *access.Access
	Records  *records.Records
	Places   *places.Places
	Porters  *porters.Porters
	Machines *machines.Machines
	Notices  *notices.Notices
	Routines *routines.Routines
	Exports  *exports.Exports
	Files    *files.Files
	Arrivals *arrivals.Arrivals
	Consents *consents.Consents
	Planner  *planner.Planner
	Queue    *queue.Queue

	lock *os.File // held as long as the service runs
	// engine is another one that a copy of the records is kept in, nil for none; held is the right to them, and shipped ends the copying.
	engine  *recovery.Place
	held    *recovery.Held
	kept    recovery.Options
	shipped func()
	// unfollow ends following what hosts tell of their machines.
	unfollow func()
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
	// SecondPerson has what takes data away for good wait until somebody else agrees.
	SecondPerson bool
	// Secrets is the folder with files that hosts may be logged in to with, empty for none.
	Secrets string
	// Porters is the address that porters connect to, empty for none, and Version what the service tells them that it is.
	Porters, Version string
	// Engine is the address of an engine that a copy of the records is kept in, empty for none; EngineCredentials a file with what is shown there, EngineCopies how many times it keeps
	// each thing, RecoveryTo what the key is known by that the copy is encrypted for, and RecoveryKey that key itself, to take over.
	Engine, EngineCredentials, RecoveryTo string
	EngineCopies                          int
	RecoveryKey                           age.Identity
}

// Open starts the service with its records in a folder, and sets right what an earlier run left.
func Open(ctx context.Context, folder string, o Options, log *slog.Logger) (*Service, error) {
	if err := state.Private(folder); err != nil {
		return nil, err
	}
	lock, err := state.Lock(folder, "service")
	if err != nil {
		return nil, err
	}
	s := &Service{lock: lock}
	if err := s.hold(ctx, folder, o, log); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := s.open(ctx, folder, o, log); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.Places.LookAround()
	return s, nil
}

// hold takes the right to the records, where they are kept elsewhere too.
func (s *Service) hold(ctx context.Context, folder string, o Options, log *slog.Logger) (err error) {
	if o.Engine == "" {
		return nil
	}
	if s.engine, err = recovery.Connect(ctx, o.Engine, o.EngineCredentials, o.EngineCopies); err != nil {
		return err
	}
	s.kept = recovery.Options{State: folder, To: o.RecoveryTo, Every: time.Second, Log: log}
	s.held, err = s.engine.Hold(ctx, s.kept, o.RecoveryKey)
	return err
}

// Lost tells once why the service may not write any more, when another one has taken over; nil where that cannot be. Whoever runs the service ends its process at once then.
func (s *Service) Lost() <-chan error {
	if s.held == nil {
		return nil
	}
	return s.held.Lost()
}

// holds tells whether the records are still those of this service, nil where nobody else can have them.
func (s *Service) holds() func() error {
	if s.held == nil {
		return nil
	}
	return s.held.Holds
}

// ship keeps the records elsewhere, from now on.
func (s *Service) ship(ctx context.Context) error {
	if s.held == nil {
		return nil
	}
	if err := s.Records.BeginTerm(ctx, s.held.Term); err != nil {
		return err
	}
	shipping, stop := context.WithCancel(context.WithoutCancel(ctx))
	wait, err := s.held.Ship(shipping, s.Records.Store, s.kept)
	if err != nil {
		stop()
		return err
	}
	s.shipped = func() { stop(); wait() }
	return nil
}

// open opens one room after the other, each with those that it needs.
func (s *Service) open(ctx context.Context, folder string, o Options, log *slog.Logger) (err error) {
	if err := state.Mark(folder); err != nil {
		return err
	}
	if s.Records, err = records.Open(ctx, folder, records.Options{LogLines: o.LogLines, LogAge: o.LogAge}, log); err != nil {
		return err
	}
	if err := s.ship(ctx); err != nil {
		return err
	}
	if s.Access, err = access.Open(ctx, folder, s.Records.Store); err != nil {
		return err
	}
	keys, err := vault.Open(folder)
	if err != nil {
		return err
	}
	s.Places, err = places.Open(s.Records, keys, places.Options{State: folder, Mark: state.File, Secrets: o.Secrets, Hold: o.Hold}, log)
	if err != nil {
		return err
	}
	porting := porters.Options{State: folder, Listen: o.Porters, Version: o.Version}
	if s.Porters, err = porters.Open(ctx, s.Records, s.Places, porting, log); err != nil {
		return err
	}
	s.Machines = machines.New(s.Records, s.Places, log)
	s.Exports = exports.New(s.Records, s.Places, s.Machines)
	s.Files = files.New(s.Records, s.Places, s.Machines, o.Hold)
	s.Arrivals = arrivals.New(s.Records, s.Places)
	s.Planner = planner.New(s.Records, s.Places, s.Machines, folder, log)
	s.Planner.UsePorters(s.Porters)
	s.Queue, err = queue.Open(ctx, s.Records, s.Places, s.Planner, queue.Options{
		State: folder, Hold: o.Hold, Checkpoint: o.Checkpoint, Serves: s.Exports.Serves, SecondPerson: o.SecondPerson,
		Porters: s.Porters, Holds: s.holds(),
	}, log)
	if err != nil {
		return err
	}
	s.Porters.WhenConnected(func(porter string) {
		s.Places.Answers(porter)
		s.Queue.Reached()
	})
	s.Consents = consents.New(s.Records, s.Places, s.Queue, o.SecondPerson)
	if s.Routines, err = routines.Open(s.Records, s.Places, s.Machines, s.Planner, s.Queue, log); err != nil {
		return err
	}
	if s.Notices, err = notices.Open(s.Records, s.Queue, s.Places, keys, log); err != nil {
		return err
	}
	follows, stop := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan struct{})
	back := make(chan struct{})
	go func() { s.Machines.Follow(follows, s.Queue.TryAgain); close(done) }()
	go func() { s.Machines.TakeUp(follows); close(back) }()
	s.unfollow = func() { stop(); <-done; <-back }
	return nil
}

// Close sets running jobs aside, which go on at the next start, and closes everything.
func (s *Service) Close() (err error) {
	if s.unfollow != nil {
		s.unfollow()
	}
	if s.Notices != nil {
		s.Notices.Close()
	}
	if s.Routines != nil {
		s.Routines.Close()
	}
	if s.Queue != nil {
		s.Queue.Close()
	}
	if s.Planner != nil { // behind that: what waits for the records has given up
		s.Planner.Close()
	}
	if s.Arrivals != nil {
		s.Arrivals.Close()
	}
	if s.Exports != nil {
		s.Exports.Close()
	}
	if s.Machines != nil {
		s.Machines.Close()
	}
	if s.Porters != nil {
		s.Porters.Close()
	}
	if s.Places != nil {
		err = s.Places.Close()
	}
	if s.shipped != nil { // the last of what was written
		s.shipped()
	}
	if s.Records != nil {
		err = errors.Join(err, s.Records.Close())
	}
	if s.held != nil {
		s.held.Close()
	}
	if s.engine != nil {
		s.engine.Close()
	}
	return errors.Join(err, s.lock.Close())
}
