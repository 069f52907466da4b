package api

import (
	"context"

	"bagaglio/core/plan"
)

func (s *server) MakePlan(ctx context.Context, r MakePlanRequestObject) (MakePlanResponseObject, error) {
	kept, err := s.service.Planner.Plan(ctx, *r.Body)
	if err == nil {
		created(ctx, "/v1/plans/"+kept.ID)
	}
	return MakePlan201JSONResponse(viewKept(kept)), err
}

func (s *server) GetPlan(ctx context.Context, r GetPlanRequestObject) (GetPlanResponseObject, error) {
	kept, err := s.service.Planner.Kept(ctx, r.Plan)
	return GetPlan200JSONResponse(viewKept(kept)), err
}

func (s *server) PlanGroup(ctx context.Context, r PlanGroupRequestObject) (PlanGroupResponseObject, error) {
	n := r.Body
	kept, err := s.service.Planner.PlanGroup(ctx, plan.Group{
		Name:      n.Name,
		Requests:  or(n.Requests, nil),
		Balance:   n.Balance,
		AtOnce:    or(n.AtOnce, 0),
		StopAfter: or(n.StopAfter, 0),
		Hours:     or(n.Hours, ""),
	})
	if err == nil {
		created(ctx, "/v1/group-plans/"+kept.ID)
	}
	return PlanGroup201JSONResponse(viewGroupPlan(kept)), err
}

func (s *server) GetGroupPlan(ctx context.Context, r GetGroupPlanRequestObject) (GetGroupPlanResponseObject, error) {
	kept, err := s.service.Planner.KeptGroup(ctx, r.Plan)
	return GetGroupPlan200JSONResponse(viewGroupPlan(kept)), err
}
