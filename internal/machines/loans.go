package machines

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/nbd"
	"bagaglio/core/step"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// loans are disks that are served to hosts for machines which are started there before their disks are. It is kept what is served where, so that it is served again after this
// process was started anew.
type loans struct {
	machines *Machines
	log      *slog.Logger

	mu    sync.Mutex
	stops map[string]func() // by IDs: ends serving, and returns when that has ended
}

// loan is what is kept of one.
type loan struct {
	On      string `json:"on"` // the host
	Machine string `json:"machine"`
	Disks   []lent `json:"disks"`
}

type lent struct {
	step.Loan
	Name    string `json:"name"`    // of the export, which nobody else knows
	Address string `json:"address"` // on the host's own computer
}

// loanPrefix is how names of settings begin that keep a loan.
const loanPrefix = "loan/"

// mostReaders is how many connections a host may have to a disk that is lent: a new one is there before an old one that was cut is noticed.
const mostReaders = 8

// serveAfter is how long is waited before a disk is served again whose line was cut.
const serveAfter = 2 * time.Second

// lender lends to a host.
type lender struct {
	*loans
	on string
}

// Lender serves disks to a host.
func (m *Machines) Lender(on string) step.Lender { return lender{m.loans, on} }

// Lend serves disks until they are given back.
func (l lender) Lend(ctx context.Context, id, machine string, disks []step.Loan) (map[string]host.Export, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	x, err := l.recall(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		x, err = loan{On: l.on, Machine: machine}, nil
		for _, d := range disks {
			x.Disks = append(x.Disks, lent{Loan: d, Name: uuid.NewString()})
		}
	}
	if err == nil && l.stops[id] == nil {
		err = l.begin(ctx, id, x)
	}
	if err != nil {
		return nil, err
	}
	out := map[string]host.Export{}
	for _, d := range x.Disks {
		out[d.Slot] = host.Export{Address: d.Address, Name: d.Name}
	}
	return out, nil
}

func (l *loans) recall(ctx context.Context, id string) (x loan, err error) {
	text, err := l.machines.records.Setting(ctx, loanPrefix+id)
	if err == nil {
		err = json.Unmarshal([]byte(text), &x)
	}
	return x, err
}

// begin serves a loan, and keeps where.
func (l *loans) begin(ctx context.Context, id string, x loan) error {
	served, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	end := func() { stop(); all.Wait() }
	for i := range x.Disks {
		d := &x.Disks[i]
		first, err := l.machines.places.Listen(ctx, x.On, d.Address)
		if err != nil {
			end()
			return err
		}
		d.Address = first.Addr().String()
		all.Go(func() { l.serve(served, x, *d, first) })
	}
	all.Go(func() { l.goOn(served, x) })
	text, err := json.Marshal(x)
	if err == nil {
		err = l.machines.records.SetSetting(ctx, loanPrefix+id, string(text))
	}
	if err != nil {
		end()
		return err
	}
	l.stops[id] = end
	return nil
}

// serve serves a disk until ctx ends: where the line to the host is cut, again when it is back.
func (l *loans) serve(ctx context.Context, x loan, d lent, on net.Listener) {
	for {
		err := l.serveOnce(ctx, d, on)
		for ctx.Err() == nil {
			l.log.Warn("a disk that a machine is started from is not served now", "disk", d.At.String(), "host", x.On, "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(serveAfter):
			}
			if on, err = l.machines.places.Listen(ctx, x.On, d.Address); err == nil {
				break
			}
		}
		if ctx.Err() != nil {
			return
		}
	}
}

func (l *loans) serveOnce(ctx context.Context, d lent, on net.Listener) error {
	m := l.machines
	folder, err := m.places.Folder(ctx, d.At.Pool)
	if err != nil {
		return errors.Join(err, on.Close())
	}
	r, err := d.At.Origin(folder).Open(ctx, d.Format)
	if err != nil {
		return errors.Join(err, on.Close())
	}
	server := &nbd.Server{Disk: r, Name: d.Name, Hidden: true, Clients: mostReaders}
	return errors.Join(server.Serve(ctx, on), r.Close())
}

// goOn lets a guest go on whenever its host has halted it, since it could not read, until ctx ends.
func (l *loans) goOn(ctx context.Context, x loan) {
	on := l.machines.Guests(x.On)
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(serveAfter):
		}
		m, err := on.Machine(ctx, x.Machine)
		if err == nil && m.Halted {
			err = on.Resume(ctx, m)
		}
		if err != nil && !errors.Is(err, host.ErrNoMachine) && ctx.Err() == nil {
			l.log.Warn("letting a machine go on that could not read its disks", "machine", x.On+":"+x.Machine, "error", err)
		}
	}
}

// Return ends a loan.
func (l *loans) Return(ctx context.Context, id string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if stop := l.stops[id]; stop != nil {
		stop()
		delete(l.stops, id)
	}
	return l.machines.records.DropSetting(ctx, loanPrefix+id)
}

// again serves what was lent by an earlier process, where it was served then, unless its job has done so by now.
func (l *loans) again(ctx context.Context, name, text string) error {
	var x loan
	if err := json.Unmarshal([]byte(text), &x); err != nil {
		return err
	}
	id := strings.TrimPrefix(name, loanPrefix)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.stops[id] == nil {
		if err := l.begin(ctx, id, x); err != nil {
			return fmt.Errorf("serving the disks of %s:%s: %w", x.On, x.Machine, err)
		}
	}
	return nil
}

// close serves nothing any more. What is lent stays so.
func (l *loans) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, stop := range l.stops {
		stop()
		delete(l.stops, id)
	}
}
