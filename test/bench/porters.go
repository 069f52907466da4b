package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
)

// overhead measures what porters cost a service that does all by itself: as it starts, and in a small job. A service that has invited one runs the engine and listens; one that has invited nobody runs neither.
func overhead(b *bench) error {
	alone, invited := "overhead-alone", "overhead-invited"
	in := filepath.Join(b.dir, "overhead")
	if err := os.MkdirAll(in, 0o700); err != nil {
		return err
	}
	if err := fill(filepath.Join(in, "small.raw"), 1<<20, false); err != nil {
		return err
	}
	for _, name := range []string{alone, invited} {
		err := b.withService(name, func(s service) error {
			_, err := s.AddPool(context.Background(), api.NewPool{Name: "in", Folder: in})
			if err == nil && name == invited {
				_, err = s.InvitePorter(context.Background(), "annex")
			}
			return err
		})
		if err != nil {
			return err
		}
		if err := os.RemoveAll(filepath.Join(in, ".bagaglio")); err != nil {
			return err
		}
	}
	starts, jobs := map[string][]float64{}, map[string][]float64{}
	for range 15 {
		for _, name := range []string{alone, invited} { // in turns, so that a slow minute hits both
			begun := time.Now()
			err := b.withService(name, func(s service) error {
				starts[name] = append(starts[name], time.Since(begun).Seconds())
				took, err := smallJobs(s, in)
				jobs[name] = append(jobs[name], took...)
				return err
			})
			if err != nil {
				return err
			}
		}
	}
	fmt.Printf("\n%-60s %10s %10s\n", "a service that has invited a porter, and one that has not", "invited", "not")
	fmt.Printf("%-60s %10.1f %10.1f\n", "ms until it answers, median", 1e3*median(starts[invited]), 1e3*median(starts[alone]))
	fmt.Printf(
		"%-60s %10.1f %10.1f\n",
		"ms for a job of 1 MiB from its plan to its end, median",
		1e3*median(jobs[invited]),
		1e3*median(jobs[alone]),
	)
	return nil
}

// smallJobs converts a small disk some times, and tells the seconds of each.
func smallJobs(s service, in string) (took []float64, err error) {
	ctx := context.Background()
	for i := range 3 {
		name := fmt.Sprintf("small-%d.qcow2", i)
		begun := time.Now()
		kept, err := s.Plan(ctx, plan.Request{
			Kind:        plan.Convert,
			As:          "qcow2",
			Source:      plan.Place{Pool: "in", Path: "small.raw"},
			Destination: &plan.Place{Pool: "in", Path: name},
			NoTag:       true,
		})
		if err != nil {
			return took, err
		}
		j, err := s.Start(ctx, api.NewJob{Plan: kept.Id})
		if err != nil {
			return took, err
		}
		for seen, err := range s.Follow(ctx, j.Id) {
			if err != nil {
				return took, err
			}
			j = seen
		}
		if j.State != api.JobStateDone {
			return took, errors.New("a small job did not end well")
		}
		took = append(took, time.Since(begun).Seconds())
		if err := os.Remove(filepath.Join(in, name)); err != nil {
			return took, err
		}
	}
	return took, nil
}
