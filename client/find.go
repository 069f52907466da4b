package client

import (
	"context"

	"bagaglio/api"
)

// Find returns what has a text in its name.
func (s *Service) Find(ctx context.Context, text string) (api.FoundByName, error) {
	return decode[api.FoundByName](s.calls.Find(ctx, &api.FindParams{Text: text}))
}
