package api

import (
	"context"
	"fmt"
	"strconv"

	spec "bagaglio/api"
	"bagaglio/internal/records"
	"bagaglio/internal/routines"
)

func viewRun(r routines.Run) spec.Run {
	out := spec.Run{Id: strconv.FormatInt(r.ID, 10), Due: r.Due, Who: r.Who, Over: r.Over, Group: number(r.Jobs), Problem: known(r.Problem)}
	if len(r.LeftOut) > 0 {
		out.LeftOut = &r.LeftOut
	}
	return out
}

func viewRoutine(r routines.Routine) spec.Routine {
	return spec.Routine{Work: r.Routine, Who: r.Who, Changed: r.Changed, Next: r.Next, Runs: views(r.Runs, viewRun)}
}

func (s *server) ListRoutines(ctx context.Context, _ ListRoutinesRequestObject) (ListRoutinesResponseObject, error) {
	all, err := s.service.Routines.List(ctx)
	return ListRoutines200JSONResponse{Items: views(all, viewRoutine)}, err
}

func (s *server) GetRoutine(ctx context.Context, r GetRoutineRequestObject) (GetRoutineResponseObject, error) {
	x, err := s.service.Routines.Show(ctx, r.Routine)
	return GetRoutine200JSONResponse(viewRoutine(x)), err
}

func (s *server) PutRoutine(ctx context.Context, r PutRoutineRequestObject) (PutRoutineResponseObject, error) {
	if r.Body.Name != r.Routine {
		return nil, fmt.Errorf("%w: the routine is called %q, and is to be kept as %q", records.ErrInvalid, r.Body.Name, r.Routine)
	}
	x, err := s.service.Routines.Put(ctx, *r.Body, whoAsks(ctx))
	return PutRoutine200JSONResponse(viewRoutine(x)), err
}

func (s *server) RemoveRoutine(ctx context.Context, r RemoveRoutineRequestObject) (RemoveRoutineResponseObject, error) {
	return RemoveRoutine204Response{}, s.service.Routines.Remove(ctx, r.Routine)
}

func (s *server) RunRoutine(ctx context.Context, r RunRoutineRequestObject) (RunRoutineResponseObject, error) {
	run, err := s.service.Routines.Do(ctx, r.Routine, or(r.Body.Blanks, nil), whoAsks(ctx))
	return RunRoutine202JSONResponse(viewRun(run)), err
}

func (s *server) PlanRoutine(ctx context.Context, r PlanRoutineRequestObject) (PlanRoutineResponseObject, error) {
	kept, err := s.service.Routines.Plan(ctx, r.Routine, or(r.Body.Blanks, nil))
	return PlanRoutine201JSONResponse(viewGroupPlan(kept)), err
}
