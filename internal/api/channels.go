package api

import (
	"context"

	spec "bagaglio/api"
	"bagaglio/internal/notices"

	"github.com/gin-gonic/gin"
)

func viewChannel(s notices.State) spec.Channel {
	t := s.Target
	out := spec.Channel{
		Name:    s.Name,
		Kind:    spec.ChannelKind(s.Kind),
		Created: s.Created,
		Waiting: s.Waiting,
		Last:    s.Last,
		Problem: known(s.Problem),
		Tells:   []spec.Told{},
		Target: spec.ChannelTarget{
			Url:     known(t.URL),
			Server:  known(t.Server),
			From:    known(t.From),
			User:    known(t.User),
			Program: known(t.Program),
		},
	}
	if len(t.To) > 0 {
		out.Target.To = &t.To
	}
	if t.Clear {
		out.Target.InTheClear = &t.Clear
	}
	for _, kind := range s.Tells {
		out.Tells = append(out.Tells, spec.Told(kind))
	}
	return out
}

func (s *server) ListChannels(ctx context.Context, _ ListChannelsRequestObject) (ListChannelsResponseObject, error) {
	all, err := s.service.Notices.List(ctx)
	return ListChannels200JSONResponse{Items: views(all, viewChannel)}, err
}

func (s *server) AddChannel(ctx context.Context, r AddChannelRequestObject) (AddChannelResponseObject, error) {
	b, t := r.Body, r.Body.Target
	ctx.(*gin.Context).Set(subjectKey, "channel "+b.Name)
	c := notices.Channel{Name: b.Name, Kind: string(b.Kind), Target: notices.Target{
		URL: or(
			t.Url,
			"",
		),
		Server:  or(t.Server, ""),
		From:    or(t.From, ""),
		To:      or(t.To, nil),
		User:    or(t.User, ""),
		Clear:   or(t.InTheClear, false),
		Program: or(t.Program, ""),
	}}
	for _, kind := range or(b.Tells, nil) {
		c.Tells = append(c.Tells, string(kind))
	}
	c, secret, err := s.service.Notices.Add(ctx, c, or(b.Password, ""))
	v := viewChannel(notices.State{Channel: c})
	return AddChannel201JSONResponse{
		Name: v.Name, Kind: spec.MadeChannelKind(v.Kind), Target: v.Target, Tells: v.Tells, Created: v.Created, Secret: known(secret),
	}, err
}

func (s *server) RemoveChannel(ctx context.Context, r RemoveChannelRequestObject) (RemoveChannelResponseObject, error) {
	return RemoveChannel204Response{}, s.service.Notices.Remove(ctx, r.Channel)
}

func (s *server) TryChannel(ctx context.Context, r TryChannelRequestObject) (TryChannelResponseObject, error) {
	return TryChannel204Response{}, s.service.Notices.Try(ctx, r.Channel)
}
