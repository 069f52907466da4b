package cli

import (
	"context"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/nbd"
	"bagaglio/core/plan"
	"bagaglio/internal/exports"
)

// serveHere serves a disk in this process.
func (a *app) serveHere(ctx context.Context, p plan.Place, n api.NewExport) error {
	folder, name, err := (&spot{within: a.within}).source(p)
	if err != nil {
		return err
	}
	defer folder.Close()
	r, err := disk.Open(ctx, folder, name, p.Format)
	if err != nil {
		return err
	}
	defer r.Close()
	w := exports.Wanted{
		Socket: deref(n.Socket), Listen: deref(n.Listen), InTheClear: n.InTheClear != nil && *n.InTheClear,
		Certificate: bytesOf(n.Certificate), Key: bytesOf(n.Key), Clients: bytesOf(n.Clients),
	}
	encrypt, err := w.TLS()
	if err != nil {
		return usageError{err}
	}
	l, err := w.Listener(ctx)
	if err != nil {
		return usageError{err}
	}
	server := &nbd.Server{Disk: r, Name: nbd.ExportName, TLS: encrypt}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(ctx, l) }()
	if err := a.serves(
		api.Export{Disk: p, At: l.Addr().String(), Size: r.Size(), Since: time.Now(), Clients: []api.ExportClient{}},
	); err != nil {
		return err
	}
	err = a.tellReaders(ctx, func() ([]nbd.Client, error) { return server.Now(), nil })
	if ctx.Err() != nil {
		err = <-ended
	}
	return err
}

func bytesOf(text *string) []byte {
	if text == nil {
		return nil
	}
	return []byte(*text)
}
