package client

import (
	"context"

	"bagaglio/api"
)

// Porters returns the computers near storage that work for the service.
func (s *Service) Porters(ctx context.Context) ([]api.Porter, error) {
	return items[api.Porter](s.calls.ListPorters(ctx))
}

// Lines returns the lines between porters.
func (s *Service) Lines(ctx context.Context) ([]api.Line, error) {
	return items[api.Line](s.calls.ListLines(ctx))
}

// Porter returns one.
func (s *Service) Porter(ctx context.Context, name string) (api.Porter, error) {
	return decode[api.Porter](s.calls.GetPorter(ctx, name))
}

// InvitePorter makes an invitation for one.
func (s *Service) InvitePorter(ctx context.Context, name string) (api.Invitation, error) {
	return decode[api.Invitation](s.calls.InvitePorter(ctx, api.NewPorter{Name: name}))
}

// PausePorter has one be given no more work, or again.
func (s *Service) PausePorter(ctx context.Context, name string, paused bool) (api.Porter, error) {
	return decode[api.Porter](s.calls.ChangePorter(ctx, name, api.PorterChange{Paused: paused}))
}

// DrainPorter has one be given no more work, and what it does go on elsewhere, where somebody else reaches the same storage.
func (s *Service) DrainPorter(ctx context.Context, name string) (api.Porter, error) {
	drain := true
	return decode[api.Porter](s.calls.ChangePorter(ctx, name, api.PorterChange{Paused: true, Drain: &drain}))
}

// RevokePorter lets one in no more.
func (s *Service) RevokePorter(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.RevokePorter(ctx, name))
	return err
}
