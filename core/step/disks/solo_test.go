package disks

import (
	"context"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
)

// solo is a task with one disk.
type solo struct {
	ID      string
	Ends    step.Ends
	Plan    plan.Plan
	Watch   func(step.Progress)
	Records step.Records
	Wait    func(context.Context, int64) error
	Every   time.Duration
	Hold    time.Duration
	By      string
	Known   func(context.Context) (step.Known, error)
	Asks    bool
	Answer  step.Answer
}

func (s solo) task() job.Task {
	t := job.Task{
		ID: s.ID, Ends: map[string]step.Ends{plan.FirstDisk: s.Ends}, Plan: s.Plan, Watch: s.Watch, Records: s.Records, Wait: s.Wait,
		Every: s.Every, Hold: s.Hold, By: s.By, Asks: s.Asks, Answer: s.Answer,
	}
	if s.Known != nil {
		t.Known = func(ctx context.Context, _ string) (step.Known, error) { return s.Known(ctx) }
	}
	return t
}

func (s solo) Run(ctx context.Context) (receipt.Receipt, error) { return s.task().Run(ctx) }
