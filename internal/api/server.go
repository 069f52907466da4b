// Package api serves the HTTP API of api/openapi.yaml, and the console's files.
package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	spec "bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/internal/service"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
	"github.com/gin-gonic/gin/binding"
)

// Options say how to serve.
type Options struct {
	Version string
	Console fs.FS // the console's built files
	// Loopback: only this computer is served, so a request that names another one is a trick played on a browser.
	Loopback bool
}

// maxBody bounds the body of a request, in bytes.
const maxBody = 1 << 20

// New returns the handler of everything the service answers.
func New(s *service.Service, o Options) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	binding.EnableDecoderDisallowUnknownFields = true // a mistyped option is an error, not a default
	r := gin.New()
	if err := r.SetTrustedProxies(nil); err != nil { // where a request comes from, nobody else says
		panic(err) // only for addresses that are none
	}
	r.ContextWithFallback = true // a handler's context ends with its request
	r.HandleMethodNotAllowed = true
	r.Use(gin.CustomRecovery(func(c *gin.Context, _ any) { problem(c, fmt.Errorf("an error in Bagaglio itself; please report it")) }))
	r.Use(headers, limitBody)
	r.NoMethod(func(c *gin.Context) {
		problemWith(c, http.StatusMethodNotAllowed, "this address does not take "+c.Request.Method)
	})
	g := &gate{service: s, refusals: newRefusals()}
	r.Use(g.record)
	if o.Loopback {
		r.Use(onlyLoopback)
	}
	r.GET("/enter", g.enter)
	r.GET("/metrics", g.check, metrics(s))
	r.NoRoute(console(o.Console))
	strict := NewStrictHandlerWithOptions(&server{service: s, options: o}, nil, StrictGinServerOptions{
		RequestErrorHandlerFunc: func(c *gin.Context, err error) {
			problem(c, fmt.Errorf("%w: reading the request: %w", service.ErrInvalid, err))
		},
		HandlerErrorFunc:         problem,
		ResponseErrorHandlerFunc: func(c *gin.Context, err error) { c.Abort() }, // the answer was under way: the line is cut
	})
	RegisterHandlersWithOptions(r, strict, GinServerOptions{
		Middlewares:  []MiddlewareFunc{g.check},
		ErrorHandler: func(c *gin.Context, err error, status int) { problemWith(c, status, err.Error()) },
	})
	others := http.NewCrossOriginProtection()
	others.SetDenyHandler(http.HandlerFunc(g.crossSite))
	return others.Handler(r)
}

// server answers the calls of the API with what the service says.
type server struct {
	changing sync.Mutex
	service  *service.Service
	options  Options
}

func (s *server) GetHealth(context.Context, GetHealthRequestObject) (GetHealthResponseObject, error) {
	since, problem := s.service.Unwell()
	if problem == nil {
		return GetHealth200JSONResponse{Status: spec.HealthStatusWell}, nil
	}
	said := service.Unwritten(problem).Error()
	return GetHealth503JSONResponse{Status: spec.HealthStatusWaiting, Problem: &said, Since: &since}, nil
}

func (s *server) GetVersion(context.Context, GetVersionRequestObject) (GetVersionResponseObject, error) {
	return GetVersion200JSONResponse{Version: s.options.Version, Go: runtime.Version()}, nil
}

func (s *server) ListFormats(context.Context, ListFormatsRequestObject) (ListFormatsResponseObject, error) {
	out := ListFormats200JSONResponse{Items: []spec.Format{}}
	for _, f := range disk.Formats() {
		entry := spec.Format{Name: f.Name, Extension: f.Extensions[0]}
		for _, l := range f.Layouts {
			row := spec.Layout{
				Name:        l.Name,
				Thick:       l.Thick,
				Stands:      l.Stands,
				Largest:     l.Largest,
				Granularity: l.Granularity,
				Options:     []spec.Option{},
			}
			for _, o := range l.Options {
				option := spec.Option{Name: o.Name, Values: append([]string{}, o.Values...)}
				if len(o.Values) == 0 {
					option.Default, option.Least, option.Most, option.Multiple = &o.Default, &o.Least, &o.Most, &o.Multiple
				}
				row.Options = append(row.Options, option)
			}
			entry.Layouts = append(entry.Layouts, row)
		}
		out.Items = append(out.Items, entry)
	}
	return out, nil
}

func (s *server) MakeConsoleLink(ctx context.Context, _ MakeConsoleLinkRequestObject) (MakeConsoleLinkResponseObject, error) {
	key, until := s.service.NewLink()
	host := ctx.(*gin.Context).Request.Host
	return MakeConsoleLink201JSONResponse{Url: LinkURL(host, key), Until: until}, nil
}

func (s *server) EndSession(ctx context.Context, _ EndSessionRequestObject) (EndSessionResponseObject, error) {
	c := ctx.(*gin.Context)
	session, err := c.Cookie(sessionCookie)
	if err != nil {
		return nil, fmt.Errorf("%w: there is no session to end", service.ErrInvalid)
	}
	setSession(c, "", -1)
	return EndSession204Response{}, s.service.EndSession(ctx, session)
}

func (s *server) ListDisks(ctx context.Context, r ListDisksRequestObject) (ListDisksResponseObject, error) {
	q := store.DiskQuery{Limit: 100}
	p := r.Params
	if p.Search != nil {
		q.Search = *p.Search
	}
	if p.Only != nil {
		q.Only = string(*p.Only)
	}
	if p.Sort != nil {
		q.Sort = string(*p.Sort)
	}
	if p.Descending != nil {
		q.Descending = *p.Descending
	}
	if p.Offset != nil {
		q.Offset = *p.Offset
	}
	if p.Limit != nil {
		q.Limit = *p.Limit
	}
	if p.StraysOffset != nil {
		q.StraysOffset = *p.StraysOffset
	}
	if q.Limit < 1 || q.Limit > 1000 || q.Offset < 0 || q.StraysOffset < 0 {
		return nil, fmt.Errorf("%w: limit is %d and should be from 1 to 1000, and an offset is not negative", service.ErrInvalid, q.Limit)
	}
	disks, err := s.service.Disks(ctx, r.Pool, q, p.Refresh != nil && *p.Refresh)
	return ListDisks200JSONResponse(disks), err
}

func (s *server) StopLooking(ctx context.Context, r StopLookingRequestObject) (StopLookingResponseObject, error) {
	return StopLooking204Response{}, s.service.StopRefresh(ctx, r.Pool)
}

func (s *server) LookAtDisk(ctx context.Context, r LookAtDiskRequestObject) (LookAtDiskResponseObject, error) {
	place := plan.Place{Pool: r.Pool, Path: r.Params.Path}
	if r.Params.Format != nil {
		place.Format = *r.Params.Format
	}
	if r.Params.Snapshot != nil {
		place.Snapshot = *r.Params.Snapshot
	}
	if r.Params.ByGeometry != nil {
		place.ByGeometry = *r.Params.ByGeometry
	}
	report, err := s.service.Look(ctx, place)
	return LookAtDisk200JSONResponse(report), err
}

func (s *server) MakePlan(ctx context.Context, r MakePlanRequestObject) (MakePlanResponseObject, error) {
	kept, err := s.service.Plan(ctx, *r.Body)
	if err == nil {
		created(ctx, "/v1/plans/"+kept.Id)
	}
	return MakePlan201JSONResponse(kept), err
}

func (s *server) GetPlan(ctx context.Context, r GetPlanRequestObject) (GetPlanResponseObject, error) {
	kept, err := s.service.KeptPlan(ctx, r.Plan)
	return GetPlan200JSONResponse(kept), err
}

func (s *server) ListJobs(ctx context.Context, r ListJobsRequestObject) (ListJobsResponseObject, error) {
	q := store.JobQuery{Limit: 100}
	var err error
	if q.Limit, q.Below, err = page(r.Params.Limit, r.Params.Cursor); err != nil {
		return nil, err
	}
	if r.Params.State != nil {
		q.State = store.State(*r.Params.State)
	}
	jobs, err := s.service.Jobs(ctx, q)
	return ListJobs200JSONResponse(jobs), err
}

// page reads which page of a list is asked for: how much of it, and behind which number.
func page(limit *int, cursor *string) (n int, behind int64, err error) {
	n = 100
	if limit != nil {
		n = *limit
	}
	if n < 1 || n > 1000 {
		return n, 0, fmt.Errorf("%w: limit is %d and should be from 1 to 1000", service.ErrInvalid, n)
	}
	if cursor != nil {
		if behind, err = strconv.ParseInt(*cursor, 10, 64); err != nil || behind < 1 {
			return n, 0, fmt.Errorf("%w: the cursor %q is none that a list gave", service.ErrInvalid, *cursor)
		}
	}
	return n, behind, nil
}

// created says where what was made is to be found.
func created(ctx context.Context, path string) {
	ctx.(*gin.Context).Header("Location", path)
}

func (s *server) StartJob(ctx context.Context, r StartJobRequestObject) (StartJobResponseObject, error) {
	j, err := s.service.Start(ctx, *r.Body)
	ctx.(*gin.Context).Set(subjectKey, "job "+j.Id)
	if err == nil {
		created(ctx, "/v1/jobs/"+j.Id)
	}
	return StartJob201JSONResponse(j), err
}

func (s *server) GetJob(ctx context.Context, r GetJobRequestObject) (GetJobResponseObject, error) {
	j, err := s.service.Job(ctx, r.Job)
	tagged(ctx, j.Etag)
	return GetJob200JSONResponse(j), err
}

func (s *server) CancelJob(ctx context.Context, r CancelJobRequestObject) (CancelJobResponseObject, error) {
	j, err := s.service.Cancel(ctx, r.Job)
	return CancelJob202JSONResponse(j), err
}

func (s *server) StartAgain(ctx context.Context, r StartAgainRequestObject) (StartAgainResponseObject, error) {
	j, err := s.service.Again(ctx, r.Job)
	ctx.(*gin.Context).Set(subjectKey, "job "+r.Job+" as job "+j.Id)
	if err == nil {
		created(ctx, "/v1/jobs/"+j.Id)
	}
	return StartAgain201JSONResponse(j), err
}

func (s *server) GetReceipt(ctx context.Context, r GetReceiptRequestObject) (GetReceiptResponseObject, error) {
	receipt, err := s.service.Receipt(ctx, r.Job)
	if err != nil {
		return nil, err
	}
	head := s.service.Head().String()
	if ctx.(*gin.Context).NegotiateFormat(gin.MIMEJSON, gin.MIMEPlain) == gin.MIMEPlain {
		var text strings.Builder
		err := receipt.WriteText(&text)
		return GetReceipt200TextResponse{Body: text.String(), Headers: GetReceipt200ResponseHeaders{BagaglioHead: &head}}, err
	}
	return GetReceipt200JSONResponse{Body: receipt, Headers: GetReceipt200ResponseHeaders{BagaglioHead: &head}}, nil
}

// heartbeat keeps a quiet stream from being taken for dead.
const heartbeat = 15 * time.Second

func (s *server) FollowEvents(ctx context.Context, r FollowEventsRequestObject) (FollowEventsResponseObject, error) {
	var job string
	if r.Params.Job != nil {
		job = *r.Params.Job
	}
	// The stream outlives this call, and gin uses its own context again after it.
	jobs, err := s.service.Follow(ctx.(*gin.Context).Request.Context(), job)
	if err != nil {
		return nil, err
	}
	in, out := io.Pipe()
	go func() {
		stop := make(chan struct{})
		defer close(stop)
		go func() {
			tick := time.NewTicker(heartbeat)
			defer tick.Stop()
			for {
				if _, err := io.WriteString(out, ": here\n\n"); err != nil {
					return
				}
				select {
				case <-tick.C:
				case <-stop:
					return
				}
			}
		}()
		for j := range jobs {
			b, err := json.Marshal(j)
			if err == nil {
				_, err = fmt.Fprintf(out, "event: job\ndata: %s\n\n", b)
			}
			if err != nil {
				break
			}
		}
		_ = out.Close() // never fails
	}()
	return FollowEvents200TexteventStreamResponse{Body: in}, nil
}

// sealsAtOnce is how many receipts one answer holds.
const sealsAtOnce = 1000

func (s *server) ListSeals(ctx context.Context, r ListSealsRequestObject) (ListSealsResponseObject, error) {
	after := int64(0)
	if r.Params.After != nil {
		after = *r.Params.After
	}
	seals, public, err := s.service.Seals(ctx, after, sealsAtOnce)
	if err != nil {
		return nil, err
	}
	head := s.service.Head()
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
