// Package exports serves disks for reading over the open block protocol (core/nbd), for whoever can read from that.
package exports

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/nbd"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/machines"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// Wanted is how a disk is to be served: at a socket of this computer, or at an address.
type Wanted struct {
	Socket string
	Listen string
	// Certificate and Key are those of TLS, as PEM, and Clients the certificates of those who sign certificates of clients that may connect; nil for none.
	Certificate, Key, Clients []byte
	// InTheClear allows connections from elsewhere that are not encrypted.
	InTheClear bool
}

// Listener waits for clients as is wanted. Who does not encrypt waits on this computer only, unless it is said.
func (w Wanted) Listener(ctx context.Context) (net.Listener, error) {
	var c net.ListenConfig
	switch {
	case (w.Socket == "") == (w.Listen == ""):
		return nil, fmt.Errorf("%w: a disk is served at a socket or at an address: name one of them", records.ErrInvalid)
	case w.Socket != "" && !filepath.IsAbs(w.Socket):
		return nil, fmt.Errorf("%w: a socket has a whole path, and %q has none", records.ErrInvalid, w.Socket)
	case w.Socket != "":
		if _, err := os.Lstat(w.Socket); err == nil { // whose it is nobody knows
			return nil, fmt.Errorf(
				"%w: %s is there already: remove it, where nobody waits there any more, or name another one",
				records.ErrInvalid,
				w.Socket,
			)
		}
		l, err := c.Listen(ctx, "unix", w.Socket)
		if err != nil {
			err = fmt.Errorf("%w: %w", records.ErrInvalid, err)
		}
		return l, err
	}
	host, _, err := net.SplitHostPort(w.Listen)
	if err != nil {
		return nil, fmt.Errorf("%w: %q is no address: name it like 127.0.0.1:10809", records.ErrInvalid, w.Listen)
	}
	ip := net.ParseIP(host)
	if here := host == "localhost" || ip != nil && ip.IsLoopback(); !here && w.Certificate == nil && !w.InTheClear {
		return nil, fmt.Errorf(
			"%w: whoever reaches %s could read the disk, and read along: give a certificate, or say that this is meant (in the clear)",
			records.ErrInvalid,
			w.Listen,
		)
	}
	l, err := c.Listen(ctx, "tcp", w.Listen)
	if err != nil {
		err = fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	return l, err
}

// TLS is how connections are encrypted, nil where they are not.
func (w Wanted) TLS() (*tls.Config, error) {
	if w.Certificate == nil {
		return nil, nil
	}
	cert, err := tls.X509KeyPair(w.Certificate, w.Key)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	out := &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	if w.Clients != nil {
		out.ClientCAs, out.ClientAuth = x509.NewCertPool(), tls.RequireAndVerifyClientCert
		if !out.ClientCAs.AppendCertsFromPEM(w.Clients) {
			return nil, fmt.Errorf("%w: there are no certificates for clients", records.ErrInvalid)
		}
	}
	return out, nil
}

// Export is a disk that is served.
type Export struct {
	ID    string
	Disk  plan.Place
	At    string // the socket, or the address
	Size  int64
	Since time.Time
	// Clients are those that are connected now.
	Clients []nbd.Client
	Ended   error // why it is not served any more
}

type export struct {
	Export

	server *nbd.Server
	lease  string // what its file is called in leases
	reader disk.Reader
	stop   context.CancelFunc
	done   chan struct{}
}

// Exports are those of the service.
type Exports struct {
	records *records.Records
	places  *places.Places
	guests  *machines.Machines

	mu  sync.Mutex
	all map[string]*export
}

// New returns none yet. The caller closes it.
func New(r *records.Records, p *places.Places, m *machines.Machines) *Exports {
	return &Exports{records: r, places: p, guests: m, all: map[string]*export{}}
}

// Open serves a disk from now on.
func (e *Exports) Open(ctx context.Context, at plan.Place, w Wanted) (Export, error) {
	lease, err := e.leaseOf(ctx, at)
	if err != nil {
		return Export{}, err
	}
	r, err := e.reader(ctx, at)
	if err != nil {
		return Export{}, err
	}
	encrypt, err := w.TLS()
	var l net.Listener
	if err == nil && w.Socket != "" {
		err = e.places.Apart(filepath.Dir(w.Socket))
	}
	if err == nil {
		l, err = w.Listener(ctx)
	}
	if err != nil {
		return Export{}, errors.Join(err, r.Close())
	}
	served, stop := context.WithCancel(context.WithoutCancel(ctx))
	x := &export{
		Export: Export{ID: uuid.NewString(), Disk: at, At: l.Addr().String(), Size: r.Size(), Since: time.Now()},
		server: &nbd.Server{Disk: r, Name: nbd.ExportName, TLS: encrypt}, lease: lease, reader: r, stop: stop, done: make(chan struct{}),
	}
	e.mu.Lock()
	e.all[x.ID] = x
	e.mu.Unlock()
	go func() {
		defer close(x.done)
		err := errors.Join(x.server.Serve(served, l), r.Close())
		e.mu.Lock()
		defer e.mu.Unlock()
		x.Ended = err
	}()
	return x.Export, nil
}

// leaseOf is what the file of a disk is called in leases. It fails where a job that runs writes to it.
func (e *Exports) leaseOf(ctx context.Context, at plan.Place) (string, error) {
	record, err := e.places.Record(ctx, at.Pool)
	if err != nil {
		return "", err
	}
	lease := places.LeaseOf(record, at.Path)
	leases, err := e.records.Leases(ctx)
	for _, l := range leases {
		if l.File == lease && l.Writes {
			return "", fmt.Errorf("%w: %w: serve it when that has ended", records.ErrState, &store.LeasedError{Lease: l})
		}
	}
	return lease, err
}

// Serves is where a file is served, by what it is called in leases; empty where it is not.
func (e *Exports) Serves(lease string) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, x := range e.all {
		if x.lease == lease && x.Ended == nil {
			return x.At
		}
	}
	return ""
}

// reader opens a disk that nobody writes to.
func (e *Exports) reader(ctx context.Context, at plan.Place) (disk.Reader, error) {
	record, err := e.places.Record(ctx, at.Pool)
	if err != nil {
		return nil, err
	}
	folder, err := e.places.Open(ctx, record)
	if err != nil {
		return nil, err
	}
	if folder, err = e.guests.Watched(ctx, record, folder, false); err != nil {
		return nil, err
	}
	format, err := e.places.FormatOf(ctx, folder, at)
	if err != nil {
		return nil, err
	}
	r, err := at.Origin(folder).Open(ctx, format)
	if err != nil {
		return nil, err
	}
	if u, ok := storage.As[storage.Usage](folder); ok {
		for _, name := range r.Describe().Files {
			if why, err := u.InUse(name); err != nil || why != "" {
				return nil, errors.Join(err, fmt.Errorf("%w: %s is in use: %s", records.ErrState, at, why), r.Close())
			}
		}
	}
	return r, nil
}

// List is what is served, the first one first.
func (e *Exports) List() (all []Export) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, x := range e.all {
		now := x.Export
		now.Clients = x.server.Now()
		all = append(all, now)
	}
	slices.SortFunc(all, func(a, b Export) int { return a.Since.Compare(b.Since) })
	return all
}

// Free fails for a machine of which a disk is served: its guest would change that under whoever reads it.
func (e *Exports) Free(m machines.Machine) error {
	for _, x := range e.List() {
		for _, d := range m.Disks {
			if x.Ended == nil && d.InPool == x.Disk.Pool && d.Path == x.Disk.Path && !d.ReadOnly {
				return fmt.Errorf(
					"%w: its disk %s is served at %s, and would change under who reads it: end that first",
					records.ErrState,
					x.Disk,
					x.At,
				)
			}
		}
	}
	return nil
}

// Stop serves a disk no longer. Who reads is cut off.
func (e *Exports) Stop(id string) error {
	e.mu.Lock()
	x, ok := e.all[id]
	delete(e.all, id)
	e.mu.Unlock()
	if !ok {
		return fmt.Errorf("export %q: %w", id, store.ErrNotFound)
	}
	x.stop()
	<-x.done
	return nil
}

// Close serves nothing any more.
func (e *Exports) Close() {
	for _, x := range e.List() {
		_ = e.Stop(x.ID) // somebody else may have stopped it
	}
}
