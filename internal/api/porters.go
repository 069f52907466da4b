package api

import (
	"context"
	"strconv"
	"time"

	spec "bagaglio/api"
	"bagaglio/internal/porters"
)

func viewPorter(p porters.Porter) spec.Porter {
	invited, joined, seen := p.Times()
	out := spec.Porter{Name: p.Name, State: spec.PorterStateAway, Invited: invited, Joined: since(joined), Seen: since(seen), Jobs: []string{}}
	switch {
	case joined.IsZero():
		out.State = spec.PorterStateInvited
	case p.Paused:
		out.State = spec.PorterStatePaused
	case p.Connected:
		out.State = spec.PorterStateConnected
	}
	if v := p.Is.Version; v != "" {
		out.Version, out.Outdated, out.User, out.Cores = &v, &p.Outdated, &p.Is.User, &p.Is.Cores
	}
	for _, job := range p.Jobs {
		out.Jobs = append(out.Jobs, strconv.FormatInt(job, 10))
	}
	return out
}

// since is a time, nil for never.
func since(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// ListPorters returns the computers that work for the service.
func (s *server) ListPorters(ctx context.Context, _ ListPortersRequestObject) (ListPortersResponseObject, error) {
	all, err := s.service.Porters.List(ctx)
	return ListPorters200JSONResponse{Items: views(all, viewPorter)}, err
}

// ListLines returns the lines between them.
func (s *server) ListLines(context.Context, ListLinesRequestObject) (ListLinesResponseObject, error) {
	return ListLines200JSONResponse{Items: views(s.service.Porters.Lines(), func(l porters.Line) spec.Line {
		out := spec.Line{From: l.From, To: l.To, Measured: since(l.Measured), Jobs: views(l.Jobs, func(f porters.Flow) spec.Flow {
			return spec.Flow{Job: strconv.FormatInt(f.Job, 10), Speed: f.Speed}
		})}
		if l.Speed > 0 {
			out.Speed = &l.Speed
		}
		if l.Via != "" {
			out.Via = &l.Via
		}
		return out
	})}, nil
}

// GetPorter returns one.
func (s *server) GetPorter(ctx context.Context, r GetPorterRequestObject) (GetPorterResponseObject, error) {
	p, err := s.service.Porters.Porter(ctx, r.Porter)
	return GetPorter200JSONResponse(viewPorter(p)), err
}

// InvitePorter makes an invitation.
func (s *server) InvitePorter(ctx context.Context, r InvitePorterRequestObject) (InvitePorterResponseObject, error) {
	i, err := s.service.Porters.Invite(ctx, r.Body.Name)
	return InvitePorter201JSONResponse{Porter: i.Porter, Secret: i.Secret, Authority: i.Authority, Listens: i.Listens, Expires: i.Expires}, err
}

// ChangePorter pauses one, or lets it work again.
func (s *server) ChangePorter(ctx context.Context, r ChangePorterRequestObject) (ChangePorterResponseObject, error) {
	p, err := s.service.Porters.Pause(ctx, r.Porter, r.Body.Paused)
	if err == nil && r.Body.Paused && or(r.Body.Drain, false) {
		s.service.Queue.GiveBack(r.Porter)
	}
	return ChangePorter200JSONResponse(viewPorter(p)), err
}

// RevokePorter lets one in no more.
func (s *server) RevokePorter(ctx context.Context, r RevokePorterRequestObject) (RevokePorterResponseObject, error) {
	return RevokePorter204Response{}, s.service.Porters.Revoke(ctx, r.Porter)
}
