package client

import (
	"context"

	"bagaglio/api"
)

// Needs returns what needs somebody now, the most urgent first.
func (s *Service) Needs(ctx context.Context) ([]api.Need, error) {
	return items[api.Need](s.calls.ListNeeds(ctx))
}
