package api

import (
	"context"
	"fmt"
	"net/url"

	spec "bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

func (s *server) ListHosts(ctx context.Context, _ ListHostsRequestObject) (ListHostsResponseObject, error) {
	hosts, err := s.service.Places.Hosts(ctx)
	return ListHosts200JSONResponse{Items: views(hosts, viewHost)}, err
}

func (s *server) GetHost(ctx context.Context, r GetHostRequestObject) (GetHostResponseObject, error) {
	host, err := s.service.Places.Host(ctx, r.Host)
	v := viewHost(host)
	tagged(ctx, v.Etag)
	return GetHost200JSONResponse(v), err
}

func (s *server) AddHost(ctx context.Context, r AddHostRequestObject) (AddHostResponseObject, error) {
	n := r.Body
	change := places.HostChange{
		Address:    &n.Address,
		User:       n.User,
		TrustedKey: n.TrustedKey,
		Login:      login(n.Login),
		Runs:       n.Runs,
		Socket:     n.Socket,
		Machines:   n.Machines,
	}
	host, err := s.service.Places.AddHost(ctx, n.Name, string(n.Kind), change)
	ctx.(*gin.Context).Set(subjectKey, "host "+n.Name)
	if err == nil {
		created(ctx, "/v1/hosts/"+url.PathEscape(host.Name))
	}
	return AddHost201JSONResponse(viewHost(host)), err
}

func login(s *spec.Secrets) *places.Login {
	if s == nil {
		return nil
	}
	return &places.Login{Agent: s.Agent, Key: s.Key, Passphrase: s.Passphrase, Password: s.Password}
}

func (s *server) ChangeHost(ctx context.Context, r ChangeHostRequestObject) (ChangeHostResponseObject, error) {
	now := func() (string, error) {
		host, err := s.service.Places.Host(ctx, r.Host)
		return viewHost(host).Etag, err
	}
	var v spec.Host
	err := s.change(r.Params.IfMatch, now, func() error {
		c := r.Body
		host, err := s.service.Places.ChangeHost(
			ctx, r.Host, places.HostChange{
				Address: c.Address, User: c.User, TrustedKey: c.TrustedKey, Login: login(c.Login), Runs: c.Runs, Socket: c.Socket, Machines: c.Machines,
			})
		v = viewHost(host)
		return err
	})
	tagged(ctx, v.Etag)
	return ChangeHost200JSONResponse(v), err
}

func (s *server) RemoveHost(ctx context.Context, r RemoveHostRequestObject) (RemoveHostResponseObject, error) {
	return RemoveHost204Response{}, s.service.Places.RemoveHost(ctx, r.Host)
}

func (s *server) TestHost(ctx context.Context, r TestHostRequestObject) (TestHostResponseObject, error) {
	trial, err := s.service.Places.TestHost(ctx, r.Host)
	return TestHost200JSONResponse(viewTrial(trial)), err
}

func (s *server) ListTraits(context.Context, ListTraitsRequestObject) (ListTraitsResponseObject, error) {
	return ListTraits200JSONResponse{Items: views(plan.Traits, viewTrait)}, nil
}

func (s *server) ListPools(ctx context.Context, _ ListPoolsRequestObject) (ListPoolsResponseObject, error) {
	pools, err := s.service.Places.Pools(ctx)
	return ListPools200JSONResponse{Items: views(pools, viewPool)}, err
}

func (s *server) GetPool(ctx context.Context, r GetPoolRequestObject) (GetPoolResponseObject, error) {
	pool, err := s.service.Places.Pool(ctx, r.Pool)
	v := viewPool(pool)
	tagged(ctx, v.Etag)
	return GetPool200JSONResponse(v), err
}

func (s *server) AddPool(ctx context.Context, r AddPoolRequestObject) (AddPoolResponseObject, error) {
	n := r.Body
	pool, err := s.service.Places.AddPool(
		ctx, store.Pool{
			Name: n.Name, Host: or(n.Host, ""), Folder: n.Folder, Volumes: or(n.Volumes, ""), Rules: or(n.Rules, plan.Rules{}),
		}, or(n.Nested, false))
	ctx.(*gin.Context).Set(subjectKey, "pool "+n.Name)
	if err == nil {
		created(ctx, "/v1/pools/"+url.PathEscape(pool.Name))
	}
	return AddPool201JSONResponse(viewPool(pool)), err
}

func (s *server) ChangePool(ctx context.Context, r ChangePoolRequestObject) (ChangePoolResponseObject, error) {
	rules := r.Body.Rules
	if r.Body.Traits != nil {
		var err error
		if rules, err = rules.Combined(*r.Body.Traits); err != nil {
			return nil, fmt.Errorf("%w: %w", records.ErrInvalid, err)
		}
	}
	now := func() (string, error) {
		pool, err := s.service.Places.Pool(ctx, r.Pool)
		return viewPool(pool).Etag, err
	}
	var v spec.Pool
	err := s.change(r.Params.IfMatch, now, func() error {
		pool, err := s.service.Places.ChangePool(ctx, r.Pool, rules)
		v = viewPool(pool)
		return err
	})
	tagged(ctx, v.Etag)
	return ChangePool200JSONResponse(v), err
}

func (s *server) TestPool(ctx context.Context, r TestPoolRequestObject) (TestPoolResponseObject, error) {
	trial, err := s.service.Places.TestPool(ctx, r.Pool, or(r.Params.WithoutDrive, false))
	return TestPool200JSONResponse(viewTrial(trial)), err
}

// AddWay adds another way to a pool.
func (s *server) AddWay(ctx context.Context, r AddWayRequestObject) (AddWayResponseObject, error) {
	pool, err := s.service.Places.AddWay(ctx, store.Way{Pool: r.Pool, Host: r.Body.Host, Folder: r.Body.Folder})
	return AddWay200JSONResponse(viewPool(pool)), err
}

// RemoveWay forgets one.
func (s *server) RemoveWay(ctx context.Context, r RemoveWayRequestObject) (RemoveWayResponseObject, error) {
	return RemoveWay204Response{}, s.service.Places.RemoveWay(ctx, r.Pool, r.Host)
}

func (s *server) RemovePool(ctx context.Context, r RemovePoolRequestObject) (RemovePoolResponseObject, error) {
	return RemovePool204Response{}, s.service.Places.RemovePool(ctx, r.Pool)
}
