package planner

import (
	"context"
	"fmt"
	"time"

	"bagaglio/core/plan"
	"bagaglio/internal/machines"
)

// resting plans the images by which a machine goes on whose disks rest under those of its linked copy; none where that stands on copies of them.
func (s *Planner) resting(ctx context.Context, r plan.Request, m machines.Machine, since time.Time) (plans []plan.Plan, err error) {
	if r.Snapshot != "" {
		return nil, nil
	}
	for i, d := range m.Disks {
		if d.InPool == "" || r.Disks[plan.DiskName(m.Is, i)].Leave {
			continue
		}
		folder, err := s.folder(ctx, d.InPool)
		if err != nil {
			return nil, err
		}
		from := plan.Place{Pool: d.InPool, Path: d.Path}
		if d.Format == "raw" {
			from.Format = d.Format
		}
		p, err := s.Prepare(ctx, r.Resting(from, d.Format, func(name string) bool {
			_, err := folder.Stat(name)
			return err == nil
		}), since)
		if err != nil {
			return nil, fmt.Errorf("the disk %s (%s): %w", d.Slot, from, err)
		}
		plans = append(plans, p)
	}
	return plans, nil
}
