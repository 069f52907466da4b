package queue

import (
	"context"

	"bagaglio/core/step/machines"
	"bagaglio/internal/store"
)

// goOn lets jobs that ask go on by themselves when it is due.
func (q *Queue) goOn(due func(store.Job) bool) {
	ctx := context.Background()
	jobs, err := q.records.Asking(ctx)
	if err != nil {
		q.log.Error("looking for jobs that ask", "error", err)
		return
	}
	went := false
	for _, j := range jobs {
		if j.Question == nil || j.Question.Until.IsZero() || !due(j) {
			continue
		}
		if err := q.records.Answer(ctx, j.Claim(), ""); err != nil { // a person may have been first
			continue
		}
		q.records.NoteJob(ctx, j.ID, "goes on", "")
		q.changed(j.ID)
		went = true
	}
	if went {
		q.dispatch()
	}
}

// isMuch tells whether as much was written to a machine as its copy may be behind.
func (q *Queue) isMuch(j store.Job) bool {
	m := j.Plan.Machine
	if m == nil || m.KeepAfter == 0 {
		return false
	}
	b, err := q.behind(context.Background(), j)
	return err == nil && b.Bytes >= m.KeepAfter
}

// behind tells how far the copy of a machine is behind that a job keeps up to date.
func (q *Queue) behind(ctx context.Context, j store.Job) (machines.Behind, error) {
	journal, err := q.records.Checkpoints(j.Claim()).Load(ctx)
	if err != nil || journal == nil {
		return machines.Behind{}, err
	}
	return q.planner.BehindOf(ctx, *j.Plan.Machine, *journal)
}

// Behind tells how far the copy of a machine is behind; nil where a job keeps none.
func (q *Queue) Behind(ctx context.Context, j Job) *machines.Behind {
	if m := j.Plan.Machine; m == nil || m.KeepEvery == 0 || j.State != store.Asking {
		return nil
	}
	b, err := q.behind(ctx, j.Job)
	if err != nil { // its old host may be gone
		q.log.Debug("looking how far a copy is behind", "job", j.ID, "error", err)
	}
	if b.Of.IsZero() { // nothing is known of it
		return nil
	}
	return &b
}
