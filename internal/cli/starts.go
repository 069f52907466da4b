package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/step"
)

func (s *spot) starts(ctx context.Context, p plan.Place) (inspect.Starts, error) {
	folder, name, err := s.source(p)
	if err != nil {
		return inspect.Starts{}, err
	}
	defer folder.Close()
	p.Path = name
	out, err := inspect.StartsOf(ctx, p.Origin(folder), p.Format)
	return out, step.Explain(err)
}

func (r *remote) starts(ctx context.Context, p plan.Place) (inspect.Starts, error) {
	return r.service.Starts(ctx, p)
}

// printStarts says what a disk starts from.
func printStarts(out io.Writer, s inspect.Starts) error {
	rows := [][]string{{"firmware", orDash(strings.Join(s.Firmware, ", "))}}
	add := func(name, value string) {
		if value != "" {
			rows = append(rows, []string{name, value})
		}
	}
	add("loaders", strings.Join(s.Loaders, ", "))
	for _, y := range s.Systems {
		where := fmt.Sprintf("on partition %d", y.Partition)
		if y.Volume != "" {
			where = "on " + y.Volume
		}
		add("system", strings.TrimSpace(y.Kind+" "+y.Name)+", "+where)
		add("runs from", strings.Join(y.Root, ", "))
		for _, k := range y.Kernels {
			drivers := "no driver for any bus of disks"
			if len(k.Buses) > 0 {
				drivers = "drivers for " + strings.Join(k.Buses, ", ")
			}
			if k.Unknown != "" {
				drivers = k.Unknown
			}
			add("kernel", k.Version+": "+drivers)
		}
		add("network cards", strings.Join(y.Networks, ", "))
	}
	if len(s.Systems) == 0 {
		add("system", "none that is known")
	}
	for _, f := range s.Findings {
		add("finding", f.What+" "+f.Do)
	}
	return table(out, rows)
}
