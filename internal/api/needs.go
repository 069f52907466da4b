package api

import (
	"context"
	"time"

	spec "bagaglio/api"
	"bagaglio/internal/attention"
)

func (s *server) ListNeeds(ctx context.Context, _ ListNeedsRequestObject) (ListNeedsResponseObject, error) {
	needs, err := attention.Needs(ctx, s.service.Records, s.service.Places, time.Now())
	out := ListNeeds200JSONResponse{Items: []spec.Need{}}
	for _, n := range needs {
		v := spec.Need{Kind: spec.NeedKind(n.Kind), Text: n.Text, Pool: known(n.Pool), Routine: known(n.Routine), Consent: known(n.Consent)}
		if !n.Since.IsZero() {
			v.Since = &n.Since
		}
		if n.Job > 0 {
			job, err := s.service.Queue.Job(ctx, *number(n.Job))
			if err != nil {
				return nil, err
			}
			j := summary(job)
			v.Job = &j
		}
		out.Items = append(out.Items, v)
	}
	return out, err
}
