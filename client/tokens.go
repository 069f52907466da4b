package client

import (
	"context"

	"bagaglio/api"
)

// Me tells who asks, and what they may.
func (s *Service) Me(ctx context.Context) (api.Person, error) {
	return decode[api.Person](s.calls.GetMe(ctx))
}

// Tokens returns the tokens that let people and programs in, besides the one of the service itself.
func (s *Service) Tokens(ctx context.Context) ([]api.Token, error) {
	return items[api.Token](s.calls.ListTokens(ctx))
}

// AddToken makes a token, whose secret is told once.
func (s *Service) AddToken(ctx context.Context, n api.NewToken) (api.MadeToken, error) {
	return decode[api.MadeToken](s.calls.AddToken(ctx, n))
}

// RevokeToken lets nobody in by a token any more.
func (s *Service) RevokeToken(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.RevokeToken(ctx, name))
	return err
}
