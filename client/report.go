package client

import (
	"context"
	"time"

	"bagaglio/api"
)

// Report tells what was done in a time, signed.
func (s *Service) Report(ctx context.Context, since, until time.Time) (api.SignedReport, error) {
	return decode[api.SignedReport](s.calls.MakeReport(ctx, &api.MakeReportParams{Since: since, Until: &until}))
}
