package service

import (
	"context"
	"strconv"
	"time"

	"bagaglio/api"
	"bagaglio/internal/store"
)

// byService is who did what nobody asked for.
const byService = "service"

func (s *Service) noteJob(ctx context.Context, id int64, what, result string) {
	s.note(ctx, store.Event{Who: byService, What: what, Subject: "job " + strconv.FormatInt(id, 10), Result: result})
}

// Note adds what somebody asked for to the log of events.
func (s *Service) Note(who, origin, what, subject, result string) {
	s.note(context.Background(), store.Event{Who: who, Origin: origin, What: what, Subject: subject, Result: result})
}

// Events returns the newest lines of the log before one of that number, or all when it is 0; at most limit.
func (s *Service) Events(ctx context.Context, before int64, limit int) ([]api.Event, error) {
	events, err := s.store.Events(ctx, before, limit)
	out := []api.Event{}
	for _, e := range events {
		at, err := time.Parse(time.RFC3339Nano, e.At)
		if err != nil {
			return nil, err
		}
		out = append(out, api.Event{Number: e.Number, At: at, Who: e.Who, Origin: e.Origin, What: e.What, Subject: e.Subject, Result: e.Result})
	}
	return out, err
}
