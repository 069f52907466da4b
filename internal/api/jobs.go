package api

import (
	"context"
	"encoding/json"
	"strconv"
	"strings"
	"time"

	spec "bagaglio/api"
	"bagaglio/core/storage"
	"bagaglio/internal/queue"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

func (s *server) ListJobs(ctx context.Context, r ListJobsRequestObject) (ListJobsResponseObject, error) {
	q := store.JobQuery{Machine: or(r.Params.Machine, ""), Search: or(r.Params.Search, "")}
	var err error
	if q.Limit, q.Below, err = page(r.Params.Limit, r.Params.Cursor); err != nil {
		return nil, err
	}
	if r.Params.State != nil {
		q.State = store.State(*r.Params.State)
	}
	if r.Params.EndedSince != nil {
		q.EndedSince = *r.Params.EndedSince
	}
	jobs, err := s.service.Queue.Jobs(ctx, q)
	out := ListJobs200JSONResponse{Items: views(jobs, summary)}
	if len(jobs) == q.Limit {
		out.Next = &out.Items[len(jobs)-1].Id
	}
	return out, err
}

func (s *server) StartJob(ctx context.Context, r StartJobRequestObject) (StartJobResponseObject, error) {
	job, err := s.service.Consents.Start(
		ctx,
		queue.New{Plan: r.Body.Plan, Speed: r.Body.Speed, Hours: r.Body.Hours, Who: whoAsks(ctx), May: s.gate.may(ctx)},
		personOf(ctx).Name,
	)
	j := viewJob(job)
	ctx.(*gin.Context).Set(subjectKey, "job "+j.Id)
	if err == nil {
		created(ctx, "/v1/jobs/"+j.Id)
	}
	return StartJob201JSONResponse(j), err
}

func (s *server) GetJob(ctx context.Context, r GetJobRequestObject) (GetJobResponseObject, error) {
	job, err := s.service.Queue.Job(ctx, r.Job)
	j := viewJob(job)
	if b := s.service.Queue.Behind(ctx, job); b != nil {
		j.Behind = &spec.Behind{Of: b.Of, Seconds: float32(time.Since(b.Of).Seconds())}
		if b.Bytes != storage.Unknown {
			j.Behind.Bytes = &b.Bytes
		}
	}
	tagged(ctx, j.Etag)
	return GetJob200JSONResponse(j), err
}

func (s *server) CancelJob(ctx context.Context, r CancelJobRequestObject) (CancelJobResponseObject, error) {
	j, err := s.service.Queue.Cancel(ctx, r.Job)
	return CancelJob202JSONResponse(viewJob(j)), err
}

func (s *server) StartAgain(ctx context.Context, r StartAgainRequestObject) (StartAgainResponseObject, error) {
	job, err := s.service.Queue.Again(ctx, r.Job, whoAsks(ctx), s.gate.may(ctx))
	j := viewJob(job)
	ctx.(*gin.Context).Set(subjectKey, "job "+r.Job+" as job "+j.Id)
	if err == nil {
		created(ctx, "/v1/jobs/"+j.Id)
	}
	return StartAgain201JSONResponse(j), err
}

func (s *server) GetReceipt(ctx context.Context, r GetReceiptRequestObject) (GetReceiptResponseObject, error) {
	receipt, err := s.service.Queue.Receipt(ctx, r.Job)
	if err != nil {
		return nil, err
	}
	head := s.service.Queue.Head().String()
	if ctx.(*gin.Context).NegotiateFormat(gin.MIMEJSON, gin.MIMEPlain) == gin.MIMEPlain {
		var text strings.Builder
		err := receipt.WriteText(&text)
		return GetReceipt200TextResponse{Body: text.String(), Headers: GetReceipt200ResponseHeaders{BagaglioHead: &head}}, err
	}
	return GetReceipt200JSONResponse{Body: receipt, Headers: GetReceipt200ResponseHeaders{BagaglioHead: &head}}, nil
}

// sealsAtOnce is how many receipts one answer holds.
const sealsAtOnce = 1000

func (s *server) ListSeals(ctx context.Context, r ListSealsRequestObject) (ListSealsResponseObject, error) {
	after := int64(0)
	if r.Params.After != nil {
		after = *r.Params.After
	}
	seals, public, err := s.service.Queue.Seals(ctx, after, sealsAtOnce)
	if err != nil {
		return nil, err
	}
	head := s.service.Queue.Head()
	out := ListSeals200JSONResponse{Seals: []spec.Seal{}, Head: spec.Head{Number: head.Number, Digest: head.Digest}}
	for _, x := range seals {
		out.Seals = append(out.Seals, spec.Seal{Number: x.Number, Job: strconv.FormatInt(x.Job, 10), Seal: x.Seal})
	}
	b, err := public.MarshalJSON()
	if err == nil {
		err = json.Unmarshal(b, &out.Key)
	}
	return out, err
}
