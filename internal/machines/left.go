package machines

import (
	"context"
	"errors"
	"fmt"
	"regexp"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// ours are names of images that jobs and trials put on disks of machines that run.
var ours = regexp.MustCompile(`-[0-9a-f]{8}-(meanwhile[0-9]*|since[0-9]*|back|trial)\.qcow2$`)

// isWorkedOn tells whether a job that has not ended is about a machine, HOST:NAME.
func (m *Machines) isWorkedOn(ctx context.Context, name string) (bool, error) {
	for _, state := range []store.State{store.Waiting, store.Running, store.Paused, store.Asking} {
		jobs, err := m.records.JobsIn(ctx, state)
		if err != nil {
			return false, err
		}
		for _, j := range jobs {
			if p := j.Plan.Machine; p != nil && (p.Here() == name || p.There() == name) {
				return true, nil
			}
		}
	}
	return false, nil
}

// checkLeft finds a machine that goes on from an image which a job or a trial had put on its disk, and that no job is about any more: its records were lost, say.
func (m *Machines) checkLeft(ctx context.Context, x Machine, d Disk, at plan.Place) ([]Finding, error) {
	if !ours.MatchString(at.Path) || d.Known == nil || len(d.Known.Chain) == 0 {
		return nil, nil
	}
	if err := m.Untried(ctx, x.Host, x.Name); errors.Is(err, records.ErrState) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	if busy, err := m.isWorkedOn(ctx, called(x)); busy || err != nil {
		return nil, err
	}
	mend := plan.Request{
		Kind: plan.MoveMachine, Machine: called(x), To: x.Host, As: "qcow2", Layout: "thin", Live: x.State == host.Running,
		Destination: &plan.Place{Pool: at.Pool, Path: x.Name + "-alone"},
	}
	return []Finding{
		{
			Kind:     FindsLeft,
			Machines: []string{called(x)},
			Disk:     at,
			What:     fmt.Sprintf("It goes on from %s, which a job or a trial had put on its disk, and nobody takes away any more.", at),
			Do:       "Move its disks into another folder, which makes them stand alone; while it runs, too (machine move --live).",
			Mends:    []plan.Request{mend},
		},
	}, nil
}
