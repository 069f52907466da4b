package client

import (
	"context"
	"strconv"

	"bagaglio/api"
)

// Pause stops a job so that it can go on later.
func (s *Service) Pause(ctx context.Context, id string) (api.Job, error) {
	return decode[api.Job](s.calls.PauseJob(ctx, id))
}

// Resume lets a paused job go on.
func (s *Service) Resume(ctx context.Context, id string) (api.Job, error) {
	return decode[api.Job](s.calls.ResumeJob(ctx, id))
}

// Answer answers what a job asks.
func (s *Service) Answer(ctx context.Context, id, name string) (api.Job, error) {
	return decode[api.Job](s.calls.AnswerJob(ctx, id, api.JobAnswer{Name: name}))
}

// AnswerGroup gives all jobs of a group that ask something with such an answer that answer.
func (s *Service) AnswerGroup(ctx context.Context, id, name string) (api.Group, error) {
	return decode[api.Group](s.calls.AnswerGroup(ctx, id, api.JobAnswer{Name: name}))
}

// Move puts a waiting job before another one, or before the first one (first), or, when before is empty, behind all.
func (s *Service) Move(ctx context.Context, id, before string) (api.Job, error) {
	return decode[api.Job](s.calls.MoveJob(ctx, id, api.JobMove{Before: before}))
}

// Change changes the speed limit and the hours of a job.
func (s *Service) Change(ctx context.Context, id string, c api.JobChange) (api.Job, error) {
	return decode[api.Job](s.calls.ChangeJob(ctx, id, &api.ChangeJobParams{}, c))
}

// Limits returns how many jobs may run at once, and how fast.
func (s *Service) Limits(ctx context.Context) ([]api.Limit, error) {
	return items[api.Limit](s.calls.ListLimits(ctx))
}

// SetLimit changes one, and returns it as it holds now.
func (s *Service) SetLimit(ctx context.Context, l api.Limit) (api.Limit, error) {
	return decode[api.Limit](s.calls.SetLimit(ctx, &api.SetLimitParams{IfMatch: l.Etag}, l))
}

// RemoveLimit removes one, so that the one of its kind holds again.
func (s *Service) RemoveLimit(ctx context.Context, scope, name string) error {
	_, err := decode[struct{}](s.calls.RemoveLimit(ctx, &api.RemoveLimitParams{Scope: api.RemoveLimitParamsScope(scope), Name: &name}))
	return err
}

// Leases returns which job uses which file.
func (s *Service) Leases(ctx context.Context) ([]api.Lease, error) {
	return items[api.Lease](s.calls.ListLeases(ctx))
}

// FreeLeases frees what an ended job left over.
func (s *Service) FreeLeases(ctx context.Context, job string) error {
	_, err := decode[struct{}](s.calls.FreeLeases(ctx, job))
	return err
}

// Held returns what was replaced and is kept for a while.
func (s *Service) Held(ctx context.Context) ([]api.Held, error) {
	return items[api.Held](s.calls.ListHeld(ctx))
}

// Restore gives what is held its name back. With swap, what has the name now is held in its place.
func (s *Service) Restore(ctx context.Context, pool, id string, swap bool) (api.Held, error) {
	return decode[api.Held](s.calls.RestoreHeld(ctx, pool, id, &api.RestoreHeldParams{Swap: &swap}))
}

// DropHeld removes what is held for good.
func (s *Service) DropHeld(ctx context.Context, pool, id string) error {
	_, err := decode[struct{}](s.calls.DropHeld(ctx, pool, id))
	return err
}

// Events returns the newest lines of the log before one of that number, or all when it is 0, which have that text in them; at most limit.
func (s *Service) Events(ctx context.Context, before int64, search string, limit int) ([]api.Event, error) {
	p := api.ListEventsParams{Limit: &limit, Search: &search}
	if before > 0 {
		cursor := strconv.FormatInt(before, 10)
		p.Cursor = &cursor
	}
	return items[api.Event](s.calls.ListEvents(ctx, &p))
}

// Consents are what takes data away for good and waits for somebody else to agree.
func (s *Service) Consents(ctx context.Context) ([]api.Consent, error) {
	return items[api.Consent](s.calls.ListConsents(ctx))
}

// GiveConsent agrees to what somebody else asked for.
func (s *Service) GiveConsent(ctx context.Context, id string) (api.GivenConsent, error) {
	return decode[api.GivenConsent](s.calls.GiveConsent(ctx, id))
}

// RefuseConsent does not agree, or takes back what one asked for oneself.
func (s *Service) RefuseConsent(ctx context.Context, id string) error {
	_, err := decode[struct{}](s.calls.RefuseConsent(ctx, id))
	return err
}
