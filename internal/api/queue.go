package api

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	spec "bagaglio/api"

	"github.com/gin-gonic/gin"
)

func (s *server) ChangeJob(ctx context.Context, r ChangeJobRequestObject) (ChangeJobResponseObject, error) {
	var j spec.Job
	now := func() (string, error) {
		j, err := s.service.Job(ctx, r.Job)
		return j.Etag, err
	}
	err := s.change(r.Params.IfMatch, now, func() (err error) {
		j, err = s.service.Set(ctx, r.Job, *r.Body)
		return err
	})
	tagged(ctx, j.Etag)
	return ChangeJob200JSONResponse(j), err
}

func (s *server) PauseJob(ctx context.Context, r PauseJobRequestObject) (PauseJobResponseObject, error) {
	j, err := s.service.Pause(ctx, r.Job)
	return PauseJob202JSONResponse(j), err
}

func (s *server) ResumeJob(ctx context.Context, r ResumeJobRequestObject) (ResumeJobResponseObject, error) {
	j, err := s.service.Resume(ctx, r.Job)
	return ResumeJob202JSONResponse(j), err
}

func (s *server) AnswerJob(ctx context.Context, r AnswerJobRequestObject) (AnswerJobResponseObject, error) {
	j, err := s.service.Answer(ctx, r.Job, r.Body.Name)
	return AnswerJob202JSONResponse(j), err
}

func (s *server) MoveJob(ctx context.Context, r MoveJobRequestObject) (MoveJobResponseObject, error) {
	j, err := s.service.Move(ctx, r.Job, r.Body.Before)
	return MoveJob200JSONResponse(j), err
}

func (s *server) ListLimits(ctx context.Context, _ ListLimitsRequestObject) (ListLimitsResponseObject, error) {
	limits, err := s.service.Limits(ctx)
	return ListLimits200JSONResponse{Items: limits}, err
}

func (s *server) SetLimit(ctx context.Context, r SetLimitRequestObject) (SetLimitResponseObject, error) {
	ctx.(*gin.Context).Set(subjectKey, strings.TrimSpace(fmt.Sprintf("%s %s", r.Body.Scope, r.Body.Name)))
	return SetLimit204Response{}, s.service.SetLimit(ctx, *r.Body)
}

func (s *server) RemoveLimit(ctx context.Context, r RemoveLimitRequestObject) (RemoveLimitResponseObject, error) {
	name := ""
	if r.Params.Name != nil {
		name = *r.Params.Name
	}
	ctx.(*gin.Context).Set(subjectKey, strings.TrimSpace(fmt.Sprintf("%s %s", r.Params.Scope, name)))
	return RemoveLimit204Response{}, s.service.RemoveLimit(ctx, string(r.Params.Scope), name)
}

func (s *server) ListLeases(ctx context.Context, _ ListLeasesRequestObject) (ListLeasesResponseObject, error) {
	leases, err := s.service.Leases(ctx)
	return ListLeases200JSONResponse{Items: leases}, err
}

func (s *server) FreeLeases(ctx context.Context, r FreeLeasesRequestObject) (FreeLeasesResponseObject, error) {
	return FreeLeases204Response{}, s.service.FreeLeases(ctx, r.Job)
}

func (s *server) ListHeld(ctx context.Context, _ ListHeldRequestObject) (ListHeldResponseObject, error) {
	held, err := s.service.Held(ctx)
	return ListHeld200JSONResponse{Items: held}, err
}

func (s *server) DropHeld(ctx context.Context, r DropHeldRequestObject) (DropHeldResponseObject, error) {
	return DropHeld204Response{}, s.service.DropHeld(ctx, r.Pool, r.Held)
}

func (s *server) RestoreHeld(ctx context.Context, r RestoreHeldRequestObject) (RestoreHeldResponseObject, error) {
	held, err := s.service.Restore(ctx, r.Pool, r.Held, r.Params.Swap != nil && *r.Params.Swap)
	return RestoreHeld200JSONResponse(held), err
}

func (s *server) ListEvents(ctx context.Context, r ListEventsRequestObject) (ListEventsResponseObject, error) {
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	events, err := s.service.Events(ctx, before, limit)
	out := ListEvents200JSONResponse{Items: events}
	if len(events) == limit {
		next := strconv.FormatInt(events[limit-1].Number, 10)
		out.Next = &next
	}
	return out, err
}
