package client

import (
	"context"

	"bagaglio/api"
)

// People returns who signs in by name and password.
func (s *Service) People(ctx context.Context) ([]api.KnownPerson, error) {
	return items[api.KnownPerson](s.calls.ListPeople(ctx))
}

// AddPerson lets somebody sign in by name and password.
func (s *Service) AddPerson(ctx context.Context, n api.NewPerson) (api.KnownPerson, error) {
	return decode[api.KnownPerson](s.calls.AddPerson(ctx, n))
}

// ChangePerson gives somebody another role or password.
func (s *Service) ChangePerson(ctx context.Context, name string, c api.PersonChange) (api.KnownPerson, error) {
	return decode[api.KnownPerson](s.calls.ChangePerson(ctx, name, c))
}

// RemovePerson lets somebody sign in no more.
func (s *Service) RemovePerson(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.RemovePerson(ctx, name))
	return err
}

// Sessions returns the sessions of the console that have not ended: one's own; for an admin, all.
func (s *Service) Sessions(ctx context.Context) ([]api.Session, error) {
	return items[api.Session](s.calls.ListSessions(ctx))
}

// EndSession ends a session.
func (s *Service) EndSession(ctx context.Context, id string) error {
	_, err := decode[struct{}](s.calls.EndSessionOf(ctx, id))
	return err
}
