package planner

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// prepareUndo plans to take back what an ended job did.
func (s *Planner) prepareUndo(ctx context.Context, r plan.Request, since time.Time) (p plan.Plan, err error) {
	j, err := s.records.JobByName(ctx, r.Job)
	if err != nil {
		return p, err
	}
	switch {
	case j.State != store.Done:
		return p, fmt.Errorf("%w: job %s is %s: only what a job did that is done can be taken back", records.ErrState, r.Job, j.State)
	case j.Plan.Request.Kind == plan.WriteBack:
		return p, fmt.Errorf(
			"%w: what was on a disk that job %s wrote over cannot be taken back: its receipt says where its first and last MiB are saved",
			records.ErrState,
			r.Job,
		)
	case j.Plan.Request.Kind == plan.Undo:
		return p, fmt.Errorf("%w: job %s took back what another one did: start that one again (job again)", records.ErrState, r.Job)
	case j.Plan.Machine != nil && len(j.Plan.Machine.Live) > 0:
		return p, fmt.Errorf("%w: its guest has gone on in the new place: move it back while it runs (machine move %s %s --pool %s --live)",
			records.ErrState, j.Plan.Machine.There(), j.Plan.Machine.Host, j.Plan.Machine.Live[0].Was.Pool)
	case j.Plan.Packed != nil && j.Plan.Packed.Archive:
		return s.Prepare(ctx, plan.Request{Kind: plan.Remove, Source: j.Plan.Packed.Into, WithoutKnowing: true}, since)
	case j.Plan.Packed != nil:
		return p, fmt.Errorf("%w: job %s made a package of several files: remove them one by one", records.ErrState, r.Job)
	case j.Plan.Request.Kind == plan.HandDisk && j.Plan.Machine != nil && j.Plan.Machine.Given != nil:
		return s.handBack(ctx, r.Job, j.Plan, since)
	case plan.IsStaying(j.Plan.Request.Kind) && j.Plan.Machine != nil:
		return s.stayingBack(ctx, r.Job, j.Plan)
	case (j.Plan.Request.Kind == plan.Remove || j.Plan.Request.Kind == plan.RemoveMachine) && j.Journal != nil:
		return s.prepareReturn(ctx, r.Job, j)
	case j.Journal == nil || len(j.Plan.After) == 0:
		return p, fmt.Errorf("%w: job %s left nothing in its place: there is nothing to take back", records.ErrState, r.Job)
	}
	ended := disks.Ended{Job: r.Job, Task: s.records.TaskID(j.ID), Plan: j.Plan, Journal: j.Journal, Finished: *j.Finished}
	var parts []plan.Plan
	for _, d := range j.Plan.Bodies {
		if m := j.Plan.Machine; m != nil && slices.Contains(m.GoesOn, d.ID) { // what was written to it since is nowhere else
			continue
		}
		part, err := s.prepareUndoOf(ctx, ended, d, since)
		if err != nil {
			return p, err
		}
		parts = append(parts, part)
	}
	if j.Plan.Machine != nil {
		return s.machineBack(ctx, plan.Together(r, parts...), ended)
	}
	if len(parts) == 1 {
		return parts[0], nil
	}
	return plan.Together(r, parts...), nil
}

// prepareReturn plans to give what was removed its names again.
func (s *Planner) prepareReturn(ctx context.Context, job string, j store.Job) (plan.Plan, error) {
	ended := disks.Ended{Job: job, Task: s.records.TaskID(j.ID), Plan: j.Plan, Journal: j.Journal, Finished: *j.Finished}
	parts := []plan.Plan{}
	for _, d := range j.Plan.Bodies {
		ends, err := s.endsOfDisk(ctx, d)
		if err != nil {
			return plan.Plan{}, err
		}
		part, err := disks.PrepareReturn(ends, ended, d)
		if err != nil {
			return plan.Plan{}, err
		}
		parts = append(parts, part)
	}
	back := plan.Request{Kind: plan.Undo, Job: ended.Job}
	if m := j.Plan.Machine; m != nil {
		return s.machineIn(ctx, plan.Together(back, parts...), ended, *m)
	}
	if len(parts) == 1 {
		return parts[0], nil
	}
	return plan.Together(back, parts...), nil
}

// prepareUndoOf plans to take back what an ended job did to a disk.
func (s *Planner) prepareUndoOf(ctx context.Context, ended disks.Ended, d plan.Disk, since time.Time) (p plan.Plan, err error) {
	ends, err := s.endsOfDisk(ctx, d)
	if err != nil {
		return p, err
	}
	reverse, ok, replaced, err := ended.Reverse(ends)
	var blocked *step.BlockedError
	if errors.As(err, &blocked) {
		return p, &BlockedError{[]plan.Check{blocked.Check}}
	}
	if err != nil {
		return p, err
	}
	if ok {
		if p, err = s.Prepare(ctx, reverse, since); err == nil && replaced {
			p.Checks = append(
				p.Checks,
				plan.Check{
					Name:     "undo",
					Severity: plan.Warns,
					Message:  "What the job replaced stays held: give it its name back by itself (held restore).",
				},
			)
		}
		return p, err
	}
	known, err := s.KnownOfImage(ctx, d, ended.Plan.Machine, since)
	if err != nil {
		return p, err
	}
	return disks.PrepareUndo(ctx, ends, ended, d.ID, known)
}

// KnownOfImage is what the records tell of an image that a job made, for a machine or none, and that is to be taken away.
func (s *Planner) KnownOfImage(ctx context.Context, d plan.Disk, m *plan.Machine, since time.Time) (known step.Known, err error) {
	away := plan.Request{Source: d.After.Place, Destination: d.Request.Destination, Release: true}
	pool, err := s.places.Record(ctx, away.Source.Pool)
	if err != nil {
		return known, err
	}
	needs, err := s.needs(ctx, away, pool, pool)
	if err != nil {
		return known, err
	}
	if known.Knowledge, err = s.places.Knowledge(ctx, needs, since, true); err != nil {
		return known, err
	}
	known.StandingThere = func(ctx context.Context, files []string) ([]string, error) {
		return s.records.Standing(ctx, pool.Name, files)
	}
	known.Users = func(ctx context.Context, files []string) ([]plan.User, error) {
		users, err := s.records.Users(ctx, pool.Name, files)
		return slices.DeleteFunc(users, func(u plan.User) bool { // its own definition goes with it
			return m != nil && m.Into != nil && u.Where() == m.Into.String()
		}), err
	}
	return known, nil
}
