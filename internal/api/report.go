package api

import (
	"context"
	"time"
)

func (s *server) MakeReport(ctx context.Context, r MakeReportRequestObject) (MakeReportResponseObject, error) {
	made, signed, err := s.service.Queue.Report(ctx, r.Params.Since, or(r.Params.Until, time.Now()))
	return MakeReport200JSONResponse{Report: made, Signed: signed}, err
}
