package client

import (
	"context"

	"bagaglio/api"
)

// Channels returns who is told what happens, and whether they could be.
func (s *Service) Channels(ctx context.Context) ([]api.Channel, error) {
	return items[api.Channel](s.calls.ListChannels(ctx))
}

// AddChannel has somebody, or a program, told what happens.
func (s *Service) AddChannel(ctx context.Context, n api.NewChannel) (api.MadeChannel, error) {
	return decode[api.MadeChannel](s.calls.AddChannel(ctx, n))
}

// RemoveChannel has it told nothing any more.
func (s *Service) RemoveChannel(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.RemoveChannel(ctx, name))
	return err
}

// TryChannel tells it that it is tried out, and fails where that does not arrive.
func (s *Service) TryChannel(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.TryChannel(ctx, name))
	return err
}
