package api

import (
	"context"

	spec "bagaglio/api"
	"bagaglio/core/nbd"
	"bagaglio/core/plan"
	"bagaglio/internal/exports"
)

func viewExport(x exports.Export) spec.Export {
	v := spec.Export{Id: x.ID, Disk: x.Disk, At: x.At, Size: x.Size, Since: x.Since}
	v.Clients = views(x.Clients, func(c nbd.Client) spec.ExportClient {
		return spec.ExportClient{Address: c.Address, Since: c.Since, Requests: c.Requests, Bytes: c.Bytes}
	})
	if x.Ended != nil {
		v.Problem = known(x.Ended.Error())
	}
	return v
}

func (s *server) ListExports(context.Context, ListExportsRequestObject) (ListExportsResponseObject, error) {
	return ListExports200JSONResponse{Items: views(s.service.Exports.List(), viewExport)}, nil
}

func (s *server) OpenExport(ctx context.Context, r OpenExportRequestObject) (OpenExportResponseObject, error) {
	pem := func(text *string) []byte {
		if text == nil {
			return nil
		}
		return []byte(*text)
	}
	b := r.Body
	if err := s.gate.requested(ctx, plan.Request{Source: b.Disk}); err != nil {
		return nil, err
	}
	x, err := s.service.Exports.Open(ctx, b.Disk, exports.Wanted{
		Socket: or(b.Socket, ""), Listen: or(b.Listen, ""), Certificate: pem(b.Certificate), Key: pem(b.Key), Clients: pem(b.Clients),
		InTheClear: or(b.InTheClear, false),
	})
	return OpenExport201JSONResponse(viewExport(x)), err
}

func (s *server) CloseExport(ctx context.Context, r CloseExportRequestObject) (CloseExportResponseObject, error) {
	for _, x := range s.service.Exports.List() {
		if x.ID == r.Export {
			if err := s.gate.requested(ctx, plan.Request{Source: x.Disk}); err != nil {
				return nil, err
			}
		}
	}
	err := s.service.Exports.Stop(r.Export)
	s.service.Queue.Look()
	return CloseExport204Response{}, err
}
