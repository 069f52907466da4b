package api

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	spec "bagaglio/api"
	"bagaglio/internal/queue"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

func (s *server) ChangeJob(ctx context.Context, r ChangeJobRequestObject) (ChangeJobResponseObject, error) {
	now := func() (string, error) {
		j, err := s.service.Queue.Job(ctx, r.Job)
		return summary(j).Etag, err
	}
	var v spec.Job
	err := s.change(r.Params.IfMatch, now, func() error {
		j, err := s.service.Queue.Set(ctx, r.Job, queue.Change{Speed: r.Body.Speed, Hours: r.Body.Hours})
		v = viewJob(j)
		return err
	})
	tagged(ctx, v.Etag)
	return ChangeJob200JSONResponse(v), err
}

func (s *server) PauseJob(ctx context.Context, r PauseJobRequestObject) (PauseJobResponseObject, error) {
	j, err := s.service.Queue.Pause(ctx, r.Job)
	return PauseJob202JSONResponse(viewJob(j)), err
}

func (s *server) ResumeJob(ctx context.Context, r ResumeJobRequestObject) (ResumeJobResponseObject, error) {
	j, err := s.service.Queue.Resume(ctx, r.Job)
	return ResumeJob202JSONResponse(viewJob(j)), err
}

func (s *server) AnswerJob(ctx context.Context, r AnswerJobRequestObject) (AnswerJobResponseObject, error) {
	j, err := s.service.Queue.Answer(ctx, r.Job, r.Body.Name)
	return AnswerJob202JSONResponse(viewJob(j)), err
}

func (s *server) MoveJob(ctx context.Context, r MoveJobRequestObject) (MoveJobResponseObject, error) {
	j, err := s.service.Queue.Move(ctx, r.Job, r.Body.Before)
	return MoveJob200JSONResponse(viewJob(j)), err
}

func (s *server) ListGroups(ctx context.Context, _ ListGroupsRequestObject) (ListGroupsResponseObject, error) {
	groups, err := s.service.Queue.Groups(ctx)
	return ListGroups200JSONResponse{Items: views(groups, viewGroup)}, err
}

func (s *server) StartGroup(ctx context.Context, r StartGroupRequestObject) (StartGroupResponseObject, error) {
	group, err := s.service.Queue.StartGroup(ctx, queue.New{Plan: r.Body.Plan, Who: whoAsks(ctx), May: s.gate.may(ctx)})
	g := viewGroup(group)
	ctx.(*gin.Context).Set(subjectKey, "group "+g.Id+" "+g.Name)
	if err == nil {
		created(ctx, "/v1/groups/"+g.Id)
	}
	return StartGroup201JSONResponse(g), err
}

func (s *server) GetGroup(ctx context.Context, r GetGroupRequestObject) (GetGroupResponseObject, error) {
	g, err := s.service.Queue.Group(ctx, r.Group)
	return GetGroup200JSONResponse(viewGroup(g)), err
}

func (s *server) AnswerGroup(ctx context.Context, r AnswerGroupRequestObject) (AnswerGroupResponseObject, error) {
	g, err := s.service.Queue.AnswerGroup(ctx, r.Group, r.Body.Name)
	return AnswerGroup202JSONResponse(viewGroup(g)), err
}

func (s *server) ActOnGroup(ctx context.Context, r ActOnGroupRequestObject) (ActOnGroupResponseObject, error) {
	g, err := s.service.Queue.ActOnGroup(ctx, r.Group, r.Act)
	return ActOnGroup202JSONResponse(viewGroup(g)), err
}

func (s *server) ListLimits(ctx context.Context, _ ListLimitsRequestObject) (ListLimitsResponseObject, error) {
	limits, err := s.service.Queue.Limits(ctx)
	return ListLimits200JSONResponse{Items: views(limits, viewLimit)}, err
}

func (s *server) SetLimit(ctx context.Context, r SetLimitRequestObject) (SetLimitResponseObject, error) {
	l := store.Limit{Scope: string(r.Body.Scope), Name: r.Body.Name, Jobs: r.Body.Jobs, Speed: r.Body.Speed}
	err := s.changeLimit(ctx, r.Params.IfMatch, l.Scope, l.Name, func() error { return s.service.Queue.SetLimit(ctx, l) })
	v := viewLimit(s.service.Queue.Limit(l.Scope, l.Name))
	tagged(ctx, *v.Etag)
	return SetLimit200JSONResponse(v), err
}

func (s *server) RemoveLimit(ctx context.Context, r RemoveLimitRequestObject) (RemoveLimitResponseObject, error) {
	scope, name := string(r.Params.Scope), or(r.Params.Name, "")
	err := s.changeLimit(ctx, r.Params.IfMatch, scope, name, func() error { return s.service.Queue.RemoveLimit(ctx, scope, name) })
	return RemoveLimit204Response{}, err
}

func (s *server) changeLimit(ctx context.Context, match *string, scope, name string, do func() error) error {
	ctx.(*gin.Context).Set(subjectKey, strings.TrimSpace(fmt.Sprintf("%s %s", scope, name)))
	now := func() (string, error) { return *viewLimit(s.service.Queue.Limit(scope, name)).Etag, nil }
	return s.change(match, now, do)
}

func (s *server) ListLeases(ctx context.Context, _ ListLeasesRequestObject) (ListLeasesResponseObject, error) {
	leases, err := s.service.Records.Leases(ctx)
	return ListLeases200JSONResponse{Items: views(leases, viewLease)}, err
}

func (s *server) FreeLeases(ctx context.Context, r FreeLeasesRequestObject) (FreeLeasesResponseObject, error) {
	return FreeLeases204Response{}, s.service.Queue.FreeLeases(ctx, r.Job)
}

func (s *server) ListHeld(ctx context.Context, _ ListHeldRequestObject) (ListHeldResponseObject, error) {
	held, err := s.service.Places.Held(ctx)
	return ListHeld200JSONResponse{Items: views(held, viewHeld)}, err
}

func (s *server) DropHeld(ctx context.Context, r DropHeldRequestObject) (DropHeldResponseObject, error) {
	return DropHeld204Response{}, s.service.Consents.DropHeld(ctx, r.Pool, r.Held, personOf(ctx).Name)
}

func (s *server) RestoreHeld(ctx context.Context, r RestoreHeldRequestObject) (RestoreHeldResponseObject, error) {
	held, err := s.service.Places.Restore(ctx, r.Pool, r.Held, or(r.Params.Swap, false), s.service.Queue.Quiet())
	return RestoreHeld200JSONResponse(viewHeld(held)), err
}

func (s *server) ListEvents(ctx context.Context, r ListEventsRequestObject) (ListEventsResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	events, err := s.service.Records.Events(ctx, before, or(r.Params.Search, ""), limit)
	out := ListEvents200JSONResponse{Items: views(events, viewEvent)}
	if len(events) == limit {
		next := strconv.FormatInt(events[limit-1].Number, 10)
		out.Next = &next
	}
	return out, err
}
