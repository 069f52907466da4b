// Package machines knows the machines of hosts that run them: which there are, what they are, and how they are switched.
package machines

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/catalog"
	"bagaglio/core/host"
	_ "bagaglio/core/host/all"
	"bagaglio/core/machine"
	_ "bagaglio/core/machine/all"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Machines are those of all hosts.
type Machines struct {
	records *records.Records
	places  *places.Places

	answers answers

	mu   sync.Mutex
	open map[string]*opened // by hosts

	trying sync.Mutex // held while a machine that runs is made ready for a trial
	loans  *loans
	log    *slog.Logger
}

// opened is a host that is connected.
type opened struct {
	runs store.Runs // as it was connected
	host.Host
}

// New returns them. The caller closes it.
func New(r *records.Records, p *places.Places, log *slog.Logger) *Machines {
	m := &Machines{records: r, places: p, answers: answers{of: map[string]answer{}}, open: map[string]*opened{}, log: log}
	m.loans = &loans{machines: m, log: log, stops: map[string]func(){}}
	return m
}

// Machine is one of a host.
type Machine struct {
	Host string
	host.Machine
	Is      machine.Machine
	Problem error // why its definition cannot be read; then Is says nothing
	Disks   []Disk
	// Variables are those of its firmware, where they lie in a pool.
	Variables Disk
}

// Disk is a disk of a machine, with the place in a pool where it lies, if there is one, and what is on record of it there.
type Disk struct {
	machine.Disk
	InPool, Path string
	Unpacks      int64         // how much it holds at most, where it is compressed in a package
	Snapshot     string        // inside of its image that is meant, not the present state
	Removable    bool          // that pool is on a drive which can be unplugged
	Known        *catalog.Disk // nil where nothing is
}

// Away is a host that could not be asked.
type Away struct {
	Host string
	Why  error
}

// on connects to a host, unless it is connected.
func (m *Machines) on(ctx context.Context, name string) (host.Host, error) {
	h, err := m.places.Host(ctx, name)
	if err != nil {
		return nil, err
	}
	if h.Runs.Kind == "" {
		return nil, fmt.Errorf(
			"%w: nothing that runs machines is known of the host %s: say what does (bagaglio host change %s --runs KIND --socket PATH, or --machines URL)",
			records.ErrState,
			name,
			name,
		)
	}
	m.mu.Lock()
	o := m.open[name]
	m.mu.Unlock()
	if o != nil && o.runs == h.Runs {
		return o.Host, nil
	}
	kind, err := host.Lookup(h.Runs.Kind)
	if err != nil {
		return nil, err
	}
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		return m.places.Dial(ctx, name, network, address)
	}
	connected, err := kind.Open(ctx, host.Address{Socket: h.Runs.Socket, URL: h.Runs.URL, Dial: dial})
	if err != nil {
		return nil, fmt.Errorf("host %s: %w", name, err)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if other := m.open[name]; other != nil {
		_ = other.Close() // it was another one, or somebody was faster
	}
	m.open[name] = &opened{h.Runs, connected}
	return connected, nil
}

// ask does something with a host. A connection that was lost meanwhile is made again, once.
func (m *Machines) ask(ctx context.Context, name string, do func(host.Host) error) error {
	for again := false; ; again = true {
		h, err := m.on(ctx, name)
		if err != nil {
			return err
		}
		err = do(h)
		if !errors.Is(err, host.ErrGone) {
			return err
		}
		m.mu.Lock()
		delete(m.open, name)
		m.mu.Unlock()
		_ = h.Close() // it is gone
		if again || ctx.Err() != nil {
			return fmt.Errorf("host %s: %w", name, err)
		}
	}
}

// List returns the machines of a host, or of all hosts when name is empty: then those that cannot be asked are told.
func (m *Machines) List(ctx context.Context, name string) (all []Machine, away []Away, err error) {
	if name != "" {
		all, err = m.of(ctx, name)
		return all, nil, err
	}
	hosts, err := m.records.Running(ctx)
	if err != nil {
		return nil, nil, err
	}
	var mu sync.Mutex
	var group sync.WaitGroup
	for _, h := range hosts {
		group.Go(func() {
			found, err := m.of(ctx, h.Host)
			mu.Lock()
			defer mu.Unlock()
			if all = append(all, found...); err != nil {
				away = append(away, Away{h.Host, err})
			}
		})
	}
	group.Wait()
	slices.SortFunc(all, func(a, b Machine) int { return strings.Compare(a.Host+":"+a.Name, b.Host+":"+b.Name) })
	slices.SortFunc(away, func(a, b Away) int { return strings.Compare(a.Host, b.Host) })
	return all, away, ctx.Err()
}

func (m *Machines) of(ctx context.Context, name string) (out []Machine, err error) {
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return nil, err
	}
	err = m.ask(ctx, name, func(h host.Host) error {
		found, err := h.Machines(ctx)
		out = nil
		for _, x := range found {
			out = append(out, describe(ctx, h, name, x, pools))
		}
		return err
	})
	return out, errors.Join(err, m.know(ctx, out))
}

// know adds what is on record of disks in pools, asking once for each pool.
func (m *Machines) know(ctx context.Context, all []Machine) error {
	paths := map[string][]string{}
	for _, x := range all {
		for _, d := range x.Disks {
			if d.InPool != "" {
				paths[d.InPool] = append(paths[d.InPool], d.Path)
			}
		}
	}
	for pool, of := range paths {
		known, err := m.records.DisksAt(ctx, pool, of)
		if err != nil {
			return err
		}
		for _, x := range all {
			for i, d := range x.Disks {
				if disk, ok := known[d.Path]; ok && d.InPool == pool {
					x.Disks[i].Known = &disk
				}
			}
		}
	}
	return nil
}

// file is that of a disk on its host, empty where it is none: one that is named, or that of a volume.
func file(ctx context.Context, h host.Host, d machine.Disk) (string, error) {
	v, ok := h.(host.Volumer)
	if !ok || d.File != "" || d.Volume == "" {
		return d.File, nil
	}
	path, err := v.Volume(ctx, d.Pool, d.Volume)
	return storage.Printable(path), err
}

// describe is a machine with what it is, and where its disks lie.
func describe(ctx context.Context, h host.Host, on string, x host.Machine, pools []store.Pool) Machine {
	x.Name = storage.Printable(x.Name)
	out := Machine{Host: on, Machine: x}
	if out.Is, out.Problem = machine.Describe(x.Format, x.Definition); out.Problem != nil {
		return out
	}
	out.Is.WithHost = out.Is.WithHost || x.WithHost
	for _, d := range out.Is.Disks {
		at, _ := file(ctx, h, d) // of a volume that is not found, nothing is known
		out.Disks = append(out.Disks, lying(d, on, at, pools))
	}
	out.Variables = lying(machine.Disk{File: out.Is.Variables}, on, out.Is.Variables, pools)
	return out
}

// lying is a disk whose file is at a path of a host, with the place in a pool, of pools in each other in the inner one.
func lying(d machine.Disk, on, at string, pools []store.Pool) Disk {
	disk := Disk{Disk: d}
	lies, longest := path.Clean(at), -1
	for _, p := range pools {
		rest, ok := p.Ground().Name(lies)
		if ok && p.Host == on && len(p.Folder) > longest {
			disk.InPool, disk.Path, longest = p.Name, rest, len(p.Folder)
			disk.Removable = p.Facts != nil && p.Facts.Removable
		}
	}
	return disk
}

// Lying is where a disk of a host lies; a place without a path is outside of all pools.
func (m *Machines) Lying(ctx context.Context, on string, d machine.Disk) (at plan.Place, err error) {
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return at, err
	}
	err = m.ask(ctx, on, func(h host.Host) error {
		name, err := file(ctx, h, d)
		lies := lying(d, on, name, pools)
		at = plan.Place{Pool: lies.InPool, Path: lies.Path}
		return err
	})
	return at, err
}

// Show returns one machine.
func (m *Machines) Show(ctx context.Context, on, name string) (Machine, error) {
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return Machine{}, err
	}
	var out Machine
	err = m.ask(ctx, on, func(h host.Host) error {
		found, err := h.Machine(ctx, name)
		if err == nil {
			out = describe(ctx, h, on, found, pools)
		}
		return err
	})
	if errors.Is(err, host.ErrNoMachine) {
		err = fmt.Errorf("machine %s:%s: %w", on, name, store.ErrNotFound)
	}
	if err != nil {
		return Machine{}, err
	}
	all := []Machine{out}
	err = m.know(ctx, all)
	return all[0], err
}

// can is what a host can do, or an error that says that it cannot.
func can[A any](h host.Host, what string) (A, error) {
	a, ok := h.(A)
	if !ok {
		return a, fmt.Errorf("this kind of host does not %s: %w", what, errors.ErrUnsupported)
	}
	return a, nil
}

// Start switches a machine on.
func (m *Machines) Start(ctx context.Context, on, name string) (Machine, error) {
	return m.act(ctx, on, name, func(h host.Host, x host.Machine) error {
		power, err := can[host.Power](h, "switch machines")
		if err != nil {
			return err
		}
		return power.Start(ctx, x)
	})
}

// lookEvery is how often a machine is looked at that is to end.
const lookEvery = 500 * time.Millisecond

// Stop asks a machine to end, and waits for that so long. Where it does not end by then it is cut off, if that is wanted.
func (m *Machines) Stop(ctx context.Context, on, name string, within time.Duration, cutOff bool) (Machine, error) {
	return m.act(ctx, on, name, func(h host.Host, x host.Machine) error {
		power, err := can[host.Power](h, "switch machines")
		if err != nil {
			return err
		}
		for until := time.Now().Add(within); ; {
			if err := power.ShutDown(ctx, x); err != nil { // again and again: a guest that is starting does not listen yet
				return err
			}
			now, err := h.Machine(ctx, x.Name)
			if err != nil || now.State == host.Off || now.State == host.Saved {
				return err
			}
			if time.Now().After(until) {
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(lookEvery):
			}
		}
		if !cutOff {
			return fmt.Errorf("%w: %s did not end within %s: it goes on running; cut it off if that has to be", records.ErrState, name, within)
		}
		return power.CutOff(ctx, x)
	})
}

// act does something to a machine, and returns it as it is then.
func (m *Machines) act(ctx context.Context, on, name string, do func(host.Host, host.Machine) error) (Machine, error) {
	x, err := m.Show(ctx, on, name)
	if err != nil {
		return Machine{}, err
	}
	err = m.ask(ctx, on, func(h host.Host) error { return do(h, x.Machine) })
	m.forget(on)
	if err != nil {
		return x, fmt.Errorf("machine %s:%s: %w", on, name, err)
	}
	return m.Show(ctx, on, name)
}

// Screen returns what a machine shows, as PNG.
func (m *Machines) Screen(ctx context.Context, on, name string) (picture []byte, err error) {
	x, err := m.Show(ctx, on, name)
	if err != nil {
		return nil, err
	}
	if x.State != host.Running && x.State != host.Suspended {
		return nil, fmt.Errorf("%w: machine %s:%s is %s and shows nothing", records.ErrState, on, name, x.State)
	}
	err = m.ask(ctx, on, func(h host.Host) error {
		screen, err := can[host.Screener](h, "show screens")
		if err == nil {
			picture, err = screen.Screen(ctx, x.Machine)
		}
		return err
	})
	return picture, err
}

// Close ends all connections. Machines go on.
func (m *Machines) Close() {
	m.loans.close()
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, o := range m.open {
		_ = o.Close() // it may be gone
	}
	m.open = map[string]*opened{}
}
