package api

import (
	"context"
	"encoding/base64"
	"fmt"
	"mime"
	"net/http"
	"path"

	spec "bagaglio/api"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/internal/machines"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

func (s *server) NameDisk(ctx context.Context, r NameDiskRequestObject) (NameDiskResponseObject, error) {
	return NameDisk204Response{}, s.service.Places.Call(
		ctx,
		r.Pool,
		r.Params.Path,
		plan.Called{Name: or(r.Body.Called, ""), Note: or(r.Body.Note, "")},
	)
}

func (s *server) ListDisks(ctx context.Context, r ListDisksRequestObject) (ListDisksResponseObject, error) {
	p := r.Params
	q := store.DiskQuery{Search: or(p.Search, ""), Descending: or(p.Descending, false), Cursor: or(p.Cursor, "")}
	if p.Only != nil {
		q.Only = string(*p.Only)
	}
	if p.Sort != nil {
		q.Sort = string(*p.Sort)
	}
	var err error
	if q.Limit, err = pageSize(p.Limit); err != nil {
		return nil, err
	}
	list, err := s.service.Places.Disks(ctx, r.Pool, q, or(p.Refresh, false))
	return ListDisks200JSONResponse(viewList(list)), err
}

func (s *server) ListStrays(ctx context.Context, r ListStraysRequestObject) (ListStraysResponseObject, error) {
	n, err := pageSize(r.Params.Limit)
	if err != nil {
		return nil, err
	}
	behind, err := base64.RawURLEncoding.DecodeString(or(r.Params.Cursor, ""))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", records.ErrInvalid, store.ErrCursor)
	}
	files, err := s.service.Places.Strays(ctx, r.Pool, string(behind), n)
	out := ListStrays200JSONResponse{Items: append([]spec.PoolFile{}, files...)}
	if len(files) == n {
		next := base64.RawURLEncoding.EncodeToString([]byte(files[n-1].Name))
		out.Next = &next
	}
	return out, err
}

func (s *server) StopLooking(ctx context.Context, r StopLookingRequestObject) (StopLookingResponseObject, error) {
	return StopLooking204Response{}, s.service.Places.StopRefresh(ctx, r.Pool)
}

func (s *server) LookAtDisk(ctx context.Context, r LookAtDiskRequestObject) (LookAtDiskResponseObject, error) {
	p := r.Params
	report, err := s.service.Places.Look(ctx, plan.Place{
		Pool: r.Pool, Path: p.Path, Format: or(p.Format, ""), Snapshot: or(p.Snapshot, ""), ByGeometry: or(p.ByGeometry, false),
	})
	return LookAtDisk200JSONResponse(report), err
}

func (s *server) GetStarts(ctx context.Context, r GetStartsRequestObject) (GetStartsResponseObject, error) {
	out, err := s.service.Places.Starts(
		ctx,
		plan.Place{Pool: r.Pool, Path: r.Params.Path, Format: or(r.Params.Format, ""), Snapshot: or(r.Params.Snapshot, "")},
	)
	return GetStarts200JSONResponse(out), err
}

func (s *server) ListInside(ctx context.Context, r ListInsideRequestObject) (ListInsideResponseObject, error) {
	at, err := spot(r.Params.At)
	if err != nil {
		return nil, err
	}
	p := r.Params
	all, err := s.service.Places.Inside(
		ctx,
		plan.Place{Pool: r.Pool, Path: p.Path, Format: or(p.Format, ""), Snapshot: or(p.Snapshot, "")},
		at,
	)
	return ListInside200JSONResponse{Items: append([]inspect.Found{}, all...)}, err
}

func (s *server) TakeFile(ctx context.Context, r TakeFileRequestObject) (TakeFileResponseObject, error) {
	at, err := spot(r.Params.At)
	if err != nil {
		return nil, err
	}
	p := r.Params
	t, err := s.service.Places.Take(ctx, plan.Place{Pool: r.Pool, Path: p.Path, Format: or(p.Format, ""), Snapshot: or(p.Snapshot, "")}, at)
	if err != nil {
		return nil, err
	}
	name := mime.FormatMediaType("attachment", map[string]string{"filename": path.Base(at.Path)})
	modified := t.Modified.UTC().Format(http.TimeFormat)
	return TakeFile200ApplicationoctetStreamResponse{
		Body: t, ContentLength: t.Size, Headers: TakeFile200ResponseHeaders{ContentDisposition: &name, LastModified: &modified},
	}, nil
}

func spot(text string) (inspect.Spot, error) {
	at, err := inspect.ParseSpot(text)
	if err != nil {
		err = fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	return at, err
}

func (s *server) ListDevices(ctx context.Context, r ListDevicesRequestObject) (ListDevicesResponseObject, error) {
	all, err := s.service.Places.Devices(ctx, or(r.Params.Host, ""))
	return ListDevices200JSONResponse{Items: all}, err
}

func viewKin(k machines.Kin) spec.Kin {
	return spec.Kin{
		Path: k.Path, Pool: known(k.Pool), Base: known(k.Base), Called: known(k.Called), Format: k.Format, Layout: k.Layout, Room: k.Room,
		Machines: append([]string{}, k.Machines...), Problem: k.Problem,
	}
}

func (s *server) GetFamily(ctx context.Context, r GetFamilyRequestObject) (GetFamilyResponseObject, error) {
	family, away, err := s.service.Machines.Family(ctx, plan.Place{Pool: r.Pool, Path: path.Clean(r.Params.Path)})
	return GetFamily200JSONResponse{Items: views(family, viewKin), Away: views(away, viewAway)}, err
}
