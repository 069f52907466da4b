package api

import (
	"context"
	"net/url"

	spec "bagaglio/api"

	"github.com/gin-gonic/gin"
)

func (s *server) ListHosts(ctx context.Context, _ ListHostsRequestObject) (ListHostsResponseObject, error) {
	hosts, err := s.service.Hosts(ctx)
	return ListHosts200JSONResponse{Items: hosts}, err
}

func (s *server) AddHost(ctx context.Context, r AddHostRequestObject) (AddHostResponseObject, error) {
	host, err := s.service.AddHost(ctx, *r.Body)
	ctx.(*gin.Context).Set(subjectKey, "host "+r.Body.Name)
	if err == nil {
		created(ctx, "/v1/hosts/"+url.PathEscape(host.Name))
	}
	return AddHost201JSONResponse(host), err
}

func (s *server) ChangeHost(ctx context.Context, r ChangeHostRequestObject) (ChangeHostResponseObject, error) {
	host, err := s.service.ChangeHost(ctx, r.Host, *r.Body)
	return ChangeHost200JSONResponse(host), err
}

func (s *server) RemoveHost(ctx context.Context, r RemoveHostRequestObject) (RemoveHostResponseObject, error) {
	return RemoveHost204Response{}, s.service.RemoveHost(ctx, r.Host)
}

func (s *server) TestHost(ctx context.Context, r TestHostRequestObject) (TestHostResponseObject, error) {
	trial, err := s.service.TestHost(ctx, r.Host)
	return TestHost200JSONResponse(trial), err
}

func (s *server) ListTraits(context.Context, ListTraitsRequestObject) (ListTraitsResponseObject, error) {
	return ListTraits200JSONResponse{Items: s.service.Traits()}, nil
}

func (s *server) ListPools(ctx context.Context, _ ListPoolsRequestObject) (ListPoolsResponseObject, error) {
	pools, err := s.service.Pools(ctx)
	return ListPools200JSONResponse{Items: pools}, err
}

func (s *server) GetPool(ctx context.Context, r GetPoolRequestObject) (GetPoolResponseObject, error) {
	pool, err := s.service.Pool(ctx, r.Pool)
	tagged(ctx, pool.Etag)
	return GetPool200JSONResponse(pool), err
}

func (s *server) AddPool(ctx context.Context, r AddPoolRequestObject) (AddPoolResponseObject, error) {
	pool, err := s.service.AddPool(ctx, *r.Body)
	ctx.(*gin.Context).Set(subjectKey, "pool "+r.Body.Name)
	if err == nil {
		created(ctx, "/v1/pools/"+url.PathEscape(pool.Name))
	}
	return AddPool201JSONResponse(pool), err
}

func (s *server) ChangePool(ctx context.Context, r ChangePoolRequestObject) (ChangePoolResponseObject, error) {
	var pool spec.Pool
	now := func() (string, error) {
		pool, err := s.service.Pool(ctx, r.Pool)
		return pool.Etag, err
	}
	err := s.change(r.Params.IfMatch, now, func() (err error) {
		pool, err = s.service.ChangePool(ctx, r.Pool, *r.Body)
		return err
	})
	tagged(ctx, pool.Etag)
	return ChangePool200JSONResponse(pool), err
}

func (s *server) TestPool(ctx context.Context, r TestPoolRequestObject) (TestPoolResponseObject, error) {
	trial, err := s.service.TestPool(ctx, r.Pool, r.Params.WithoutDrive != nil && *r.Params.WithoutDrive)
	return TestPool200JSONResponse(trial), err
}

func (s *server) RemovePool(ctx context.Context, r RemovePoolRequestObject) (RemovePoolResponseObject, error) {
	return RemovePool204Response{}, s.service.RemovePool(ctx, r.Pool)
}
