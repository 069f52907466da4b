package machines

import (
	"context"
	"errors"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
)

// See watches a machine that was started, which is to come up within a time, and tells what was seen: whether it did, and by what that is known.
func See(ctx context.Context, on step.Guests, m host.Machine, within time.Duration) (receipt.Machine, error) {
	w := &work{Job: step.Job{Ends: step.Ends{To: on}, Log: (&step.Journal{}).Open(plan.MachineSubject, nil)}}
	w.m = plan.Machine{To: "its host", After: machine.Machine{Name: m.Name, UUID: m.UUID}, Within: int(within.Seconds())}
	w.state.Receipt = receipt.Machine{Evidence: []string{}, Differences: []machine.Difference{}, Started: true}
	err := w.watch(ctx)
	if errors.Is(err, errNotUp) {
		err = nil
	}
	return w.state.Receipt, err
}
