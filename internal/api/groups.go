package api

import (
	"context"

	"github.com/gin-gonic/gin"
)

func (s *server) PlanBalance(ctx context.Context, r PlanBalanceRequestObject) (PlanBalanceResponseObject, error) {
	b, err := s.service.Balance(ctx, *r.Body)
	return PlanBalance200JSONResponse(b), err
}

func (s *server) ListGroups(ctx context.Context, _ ListGroupsRequestObject) (ListGroupsResponseObject, error) {
	groups, err := s.service.Groups(ctx)
	return ListGroups200JSONResponse{Items: groups}, err
}

func (s *server) StartGroup(ctx context.Context, r StartGroupRequestObject) (StartGroupResponseObject, error) {
	g, err := s.service.StartGroup(ctx, *r.Body)
	ctx.(*gin.Context).Set(subjectKey, "group "+g.Id+" "+r.Body.Name)
	return StartGroup201JSONResponse(g), err
}

func (s *server) GetGroup(ctx context.Context, r GetGroupRequestObject) (GetGroupResponseObject, error) {
	g, err := s.service.Group(ctx, r.Group)
	return GetGroup200JSONResponse(g), err
}

func (s *server) ActOnGroup(ctx context.Context, r ActOnGroupRequestObject) (ActOnGroupResponseObject, error) {
	g, err := s.service.ActOnGroup(ctx, r.Group, r.Act)
	return ActOnGroup202JSONResponse(g), err
}
