package standin

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"

	"bagaglio/internal/door"
)

// headersIn is for how long the head of a request is waited for.
const headersIn = 10 * time.Second

// Options say how a stand-in is run.
type Options struct {
	State  string // the folder with its inventory and key
	Folder string // that the disks of its machines lie in
	Traits Traits
	Listen string // address of its API; port 0 takes a free one
	// Files is the address of its files, for those whose public keys the file Authorized has. Without that they are not reached.
	Files, Authorized string
}

// Started is where a stand-in is reached.
type Started struct {
	URL     string // of its API
	Files   string // address, empty where they are not reached
	HostKey string // fingerprint
}

// Run runs a stand-in until ctx ends. It tells when it has started.
func Run(ctx context.Context, o Options, started func(Started)) error {
	h, err := Open(o.State, o.Folder, o.Traits)
	if err != nil {
		return err
	}
	defer h.Close()
	var s Started
	if o.Authorized != "" {
		way, err := door.Open(o.State, o.Authorized)
		if err != nil {
			return err
		}
		way.Commands = o.Traits.Commands
		l, err := net.Listen("tcp", o.Files)
		if err != nil {
			return err
		}
		defer l.Close()
		go func() { _ = way.Serve(l) }() // until the listener is closed
		s.Files, s.HostKey = l.Addr().String(), way.Fingerprint
	}
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return err
	}
	s.URL = "http://" + l.Addr().String()
	server := &http.Server{Handler: h.Handler(), ReadHeaderTimeout: headersIn}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() }) // it ends
	defer stop()
	started(s)
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
