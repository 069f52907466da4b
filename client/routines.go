package client

import (
	"context"

	"bagaglio/api"
	"bagaglio/core/routine"
)

// Routines returns the work that is done again and again.
func (s *Service) Routines(ctx context.Context) ([]api.Routine, error) {
	return items[api.Routine](s.calls.ListRoutines(ctx))
}

// Routine returns a routine with its last runs.
func (s *Service) Routine(ctx context.Context, name string) (api.Routine, error) {
	return decode[api.Routine](s.calls.GetRoutine(ctx, name))
}

// PutRoutine keeps a routine, in the place of one of that name.
func (s *Service) PutRoutine(ctx context.Context, r routine.Routine) (api.Routine, error) {
	return decode[api.Routine](s.calls.PutRoutine(ctx, r.Name, r))
}

// RemoveRoutine forgets a routine.
func (s *Service) RemoveRoutine(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.RemoveRoutine(ctx, name))
	return err
}

// RunRoutine does a routine now.
func (s *Service) RunRoutine(ctx context.Context, name string, n api.NewRun) (api.Run, error) {
	return decode[api.Run](s.calls.RunRoutine(ctx, name, n))
}

// PlanRoutine says what a routine would do now, as the plan of a group, and returns when all of it is planned.
func (s *Service) PlanRoutine(ctx context.Context, name string, n api.NewRun) (api.GroupPlan, error) {
	g, err := decode[api.GroupPlan](s.calls.PlanRoutine(ctx, name, n))
	return s.planned(ctx, g, err)
}
