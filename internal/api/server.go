// Package api serves the HTTP API of api/openapi.yaml, and the console's files.
package api

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"net/http"
	"runtime"
	"strconv"
	"sync"

	spec "bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/internal/access"
	"bagaglio/internal/records"
	"bagaglio/internal/service"

	"github.com/gin-gonic/gin"
	"github.com/gin-gonic/gin/binding"
)

// Options say how to serve.
type Options struct {
	Version string
	Console fs.FS // the console's built files
	// Loopback: only this computer is served, so a request that names another one is a trick played on a browser.
	Loopback bool
	// Provider signs people in, nil for none.
	Provider *access.Provider
}

// maxBody bounds the body of a request, in bytes.
const maxBody = 1 << 20

// New returns the handler of everything the service answers.
func New(s *service.Service, o Options) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	binding.EnableDecoderDisallowUnknownFields = true // a mistyped option is an error, not a default
	r := gin.New()
	r.UseRawPath = true                              // names may have slashes in them, as the disks of computers do
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
	g := &gate{service: s, refusals: newRefusals(), needed: neededRoles()}
	r.Use(g.record)
	if o.Loopback {
		r.Use(onlyLoopback)
	}
	r.GET("/enter", g.enter)
	if o.Provider != nil {
		id := &openid{g, o.Provider}
		r.GET(openidRoute, id.begin)
		r.GET(openidBack, id.end)
	}
	r.GET("/metrics", g.check, metrics(s))
	r.NoRoute(console(o.Console))
	strict := NewStrictHandlerWithOptions(&server{service: s, gate: g, options: o}, nil, StrictGinServerOptions{
		RequestErrorHandlerFunc: func(c *gin.Context, err error) {
			problem(c, fmt.Errorf("%w: reading the request: %w", records.ErrInvalid, err))
		},
		HandlerErrorFunc:         problem,
		ResponseErrorHandlerFunc: func(c *gin.Context, err error) { c.Abort() }, // the answer was under way: the line is cut
	})
	RegisterHandlersWithOptions(r.Group("", g.check), strict, GinServerOptions{ // nothing of a request is read before
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
	gate     *gate
	options  Options
}

func (s *server) GetHealth(context.Context, GetHealthRequestObject) (GetHealthResponseObject, error) {
	since, problem := s.service.Records.Unwell()
	if problem == nil {
		return GetHealth200JSONResponse{Status: spec.HealthStatusWell, Openid: s.options.Provider != nil}, nil
	}
	said := records.Unwritten(problem).Error()
	return GetHealth503JSONResponse{Status: spec.HealthStatusWaiting, Problem: &said, Since: &since, Openid: s.options.Provider != nil}, nil
}

func (s *server) GetDescription(context.Context, GetDescriptionRequestObject) (GetDescriptionResponseObject, error) {
	return GetDescription200ApplicationyamlResponse{Body: bytes.NewReader(spec.Spec), ContentLength: int64(len(spec.Spec))}, nil
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
	key, until := s.service.Access.NewLink(personOf(ctx))
	r := ctx.(*gin.Context).Request
	scheme := "http://"
	if r.TLS != nil {
		scheme = "https://"
	}
	return MakeConsoleLink201JSONResponse{Url: LinkURL(scheme+r.Host, key), Until: until}, nil
}

// pageSize reads how much of a list is asked for.
func pageSize(limit *int) (int, error) {
	n := or(limit, 100)
	if n < 1 || n > 1000 {
		return n, fmt.Errorf("%w: limit is %d and should be from 1 to 1000", records.ErrInvalid, n)
	}
	return n, nil
}

// page reads which page of a list is asked for: how much of it, and behind which number.
func page(limit *int, cursor *string) (n int, behind int64, err error) {
	if n, err = pageSize(limit); err != nil || cursor == nil {
		return n, 0, err
	}
	if behind, err = strconv.ParseInt(*cursor, 10, 64); err != nil || behind < 1 {
		return n, 0, fmt.Errorf("%w: the cursor %q is none that a list gave", records.ErrInvalid, *cursor)
	}
	return n, behind, nil
}

// created says where what was made is to be found.
func created(ctx context.Context, path string) {
	ctx.(*gin.Context).Header("Location", path)
}
