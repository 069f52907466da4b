package api

import (
	"context"
	"time"

	spec "bagaglio/api"
	"bagaglio/internal/access"
	"bagaglio/internal/consents"
	"bagaglio/internal/store"
)

func viewConsent(c store.Consent) spec.Consent {
	out := spec.Consent{Id: c.ID, Gone: c.Said, Who: known(c.Who)}
	out.Asked, _ = time.Parse(time.RFC3339Nano, c.Asked) // as it was written
	if id, pool := consents.Plan(c); id != "" {
		out.Plan = &id
	} else {
		out.Pool = &pool
	}
	return out
}

func (s *server) ListConsents(ctx context.Context, _ ListConsentsRequestObject) (ListConsentsResponseObject, error) {
	all, err := s.service.Consents.List(ctx)
	return ListConsents200JSONResponse{Items: views(all, viewConsent)}, err
}

// mayDo fails for who may not do themselves what a consent is for.
func (s *server) mayDo(ctx context.Context, of store.Consent) error {
	p := personOf(ctx)
	id, pool := consents.Plan(of)
	if id == "" {
		if !p.Role.May(access.Admin) {
			return errElsewhere
		}
		return s.gate.on(ctx, p, []string{pool}, nil)
	}
	kept, err := s.service.Planner.Kept(ctx, id)
	if err != nil {
		return err
	}
	return s.gate.planned(ctx, p, kept.Plan)
}

func (s *server) GiveConsent(ctx context.Context, r GiveConsentRequestObject) (GiveConsentResponseObject, error) {
	of, err := s.service.Consents.One(ctx, r.Consent)
	if err != nil {
		return nil, err
	}
	if err := s.mayDo(ctx, of); err != nil {
		return nil, err
	}
	j, err := s.service.Consents.Give(ctx, of, personOf(ctx).Name, s.gate.may(ctx))
	out := GiveConsent200JSONResponse{}
	if j.ID > 0 {
		job := viewJob(j)
		out.Job = &job
	}
	return out, err
}

func (s *server) RefuseConsent(ctx context.Context, r RefuseConsentRequestObject) (RefuseConsentResponseObject, error) {
	of, err := s.service.Consents.One(ctx, r.Consent)
	if err == nil {
		err = s.mayDo(ctx, of)
	}
	if err != nil {
		return nil, err
	}
	return RefuseConsent204Response{}, s.service.Consents.Refuse(ctx, r.Consent)
}
