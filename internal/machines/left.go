package machines

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/internal/store"
)

// ours are names of images that jobs and trials put on disks of machines that run.
var ours = regexp.MustCompile(`-[0-9a-f]{8}-(meanwhile[0-9]*|since[0-9]*|back|trial)\.qcow2$`)

// checkLeft finds a machine that goes on from an image which a job or a trial had put on its disk, and that no job is about any more: its records were lost, say.
func (m *Machines) checkLeft(ctx context.Context, x Machine, d Disk, at plan.Place) ([]Finding, error) {
	if !ours.MatchString(at.Path) || d.Known == nil || len(d.Known.Chain) == 0 {
		return nil, nil
	}
	if of, err := m.records.Settings(ctx, stillPrefix); err != nil || len(of) > 0 && strings.Contains(fmt.Sprint(of), at.Path) {
		return nil, err
	}
	for _, state := range []store.State{store.Waiting, store.Running, store.Paused, store.Asking} {
		jobs, err := m.records.JobsIn(ctx, state)
		if err != nil {
			return nil, err
		}
		for _, j := range jobs {
			if p := j.Plan.Machine; p != nil && (p.Here() == called(x) || p.There() == called(x)) {
				return nil, nil
			}
		}
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
