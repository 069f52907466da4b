package api

import (
	"context"

	spec "bagaglio/api"
	"bagaglio/internal/find"
)

func viewHit(h find.Hit) spec.Named {
	out := spec.Named{Kind: spec.NamedKind(h.Kind), Name: h.Name, Note: known(h.Note), Host: known(h.Host)}
	if h.Kind == find.Disk {
		out.Place = &h.Place
	}
	return out
}

func (s *server) Find(ctx context.Context, r FindRequestObject) (FindResponseObject, error) {
	f := find.Finder{Records: s.service.Records, Places: s.service.Places, Machines: s.service.Machines}
	found, err := f.Find(ctx, r.Params.Text)
	return Find200JSONResponse{Items: views(found.Hits, viewHit), More: found.More, Away: known(found.Away)}, err
}
