package client

import (
	"context"

	"bagaglio/api"
)

// Exports returns the disks that are served, and who reads them.
func (s *Service) Exports(ctx context.Context) ([]api.Export, error) {
	return items[api.Export](s.calls.ListExports(ctx))
}

// OpenExport serves a disk from now on.
func (s *Service) OpenExport(ctx context.Context, n api.NewExport) (api.Export, error) {
	return decode[api.Export](s.calls.OpenExport(ctx, n))
}

// CloseExport serves one no longer.
func (s *Service) CloseExport(ctx context.Context, id string) error {
	_, err := decode[struct{}](s.calls.CloseExport(ctx, id))
	return err
}
