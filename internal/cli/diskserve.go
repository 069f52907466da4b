package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/nbd"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

// tellEvery is how often it is told who reads.
const tellEvery = 2 * time.Second

func (a *app) disk() *cobra.Command {
	c := &cobra.Command{Use: "disk", Short: "Serve disks to other programs", Args: exactly(0)}
	c.AddCommand(a.diskServe())
	return c
}

func (a *app) diskServe() *cobra.Command {
	var flags plan.Place
	var socket, listen, certificate, key, clients string
	var clear bool
	c := &cobra.Command{
		Use:   "serve DISK",
		Short: "Serve a disk for reading over the open block protocol (NBD), until it is interrupted",
		Long: `Serves what a guest sees on a disk, in whatever form that is stored, for reading over the open block protocol (NBD), as the export "disk", at a socket or at an address of the
service's computer, and tells who reads how much. It ends when it is interrupted; who reads is cut off then. A disk that a machine uses is not served.`,
		Example: `  bagaglio disk serve harbour:tide-board/tide-board.vmdk --socket /run/tide-board.sock
  bagaglio disk serve ./gate-kiosk.vhdx --listen 127.0.0.1:10809`,
		Args:              exactly(1),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := source(args[0], flags)
			if err != nil {
				return err
			}
			n := api.NewExport{Disk: p, Socket: given(socket), Listen: given(listen), InTheClear: &clear}
			if socket != "" {
				if socket, err = filepath.Abs(socket); err != nil {
					return err
				}
				n.Socket = &socket
			}
			for _, f := range []struct {
				name string
				into **string
			}{{certificate, &n.Certificate}, {key, &n.Key}, {clients, &n.Clients}} {
				if f.name == "" {
					continue
				}
				text, err := os.ReadFile(f.name)
				if err != nil {
					return err
				}
				*f.into = given(string(text))
			}
			if p.Pool == "" {
				return a.serveHere(cmd.Context(), p, n)
			}
			service, err := a.dial()
			if err != nil {
				return err
			}
			return a.serveThere(cmd.Context(), service, n)
		},
	}
	a.sourceFlags(c.Flags(), &flags)
	f := c.Flags()
	f.StringVar(&socket, "socket", "", "the path of a socket on the service's computer")
	f.StringVar(&listen, "listen", "", "an address there, such as 127.0.0.1:10809")
	f.StringVar(&certificate, "certificate", "", "a file with the certificate for TLS, as PEM")
	f.StringVar(&key, "key", "", "a file with its key")
	f.StringVar(&clients, "clients", "", "a file with the certificates of those who sign those of clients that may connect")
	f.BoolVar(&clear, "in-the-clear", false, "allow connections from elsewhere that are not encrypted")
	a.jsonFlag(c)
	return c
}

// serveThere has the service serve a disk, until it is interrupted.
func (a *app) serveThere(ctx context.Context, service *client.Service, n api.NewExport) error {
	x, err := service.OpenExport(ctx, n)
	if err != nil {
		return err
	}
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = service.CloseExport(ending, x.Id) // the service may be gone, and with it the export
	}()
	if err := a.serves(x); err != nil {
		return err
	}
	return a.tellReaders(ctx, func() ([]nbd.Client, error) {
		all, err := service.Exports(ctx)
		for _, now := range all {
			if now.Id == x.Id {
				if now.Problem != nil {
					return nil, fmt.Errorf("%s", *now.Problem)
				}
				var out []nbd.Client
				for _, c := range now.Clients {
					out = append(out, nbd.Client{Address: c.Address, Since: c.Since, Requests: c.Requests, Bytes: c.Bytes})
				}
				return out, nil
			}
		}
		if err == nil {
			err = fmt.Errorf("%s is not served any more", x.At)
		}
		return nil, err
	})
}

// serves says where a disk is served.
func (a *app) serves(x api.Export) error {
	if a.json {
		return a.printJSON(x)
	}
	a.remark(
		"%s is served for reading at %s, as the export %s, with %s. Interrupt it to end that.",
		x.Disk,
		x.At,
		nbd.ExportName,
		size(x.Size),
	)
	return nil
}

// tellReaders tells who reads, as long as that changes.
func (a *app) tellReaders(ctx context.Context, now func() ([]nbd.Client, error)) error {
	read := map[string]int64{}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(tellEvery):
		}
		all, err := now()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		for _, c := range all {
			key := c.Address + c.Since.String()
			if n := c.Bytes - read[key]; n > 0 {
				read[key] = c.Bytes
				a.remark("  %s reads %s/s, %s so far", c.Address, size(n/int64(tellEvery/time.Second)), size(c.Bytes))
			}
		}
	}
}
