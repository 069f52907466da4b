package machines

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path"
	"strings"
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/propose"
	"bagaglio/core/nbd"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step/machines"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// TryFor is for how long a machine is tried out that does not come up, where nothing else is said.
const TryFor = 2 * time.Minute

// Trial is what is to be tried out: whether a machine, or one around a disk that came alone, would start on a host.
type Trial struct {
	Machine string     // HOST:NAME, empty for a disk
	Disk    plan.Place // of a pool of any host
	On      string     // the host
	Pool    string     // of that host, for what the guest writes meanwhile; empty for the one with the most room
	Network string     // that its cards are connected to; empty for none, when it has no cards
	Bus     string     // of its disks, and Firmware, where they are to be others
	Firm    string
	Within  time.Duration // zero for TryFor
}

// Tried is what was seen.
type Tried struct {
	receipt.Machine

	Is   machine.Machine // as it was started
	Took time.Duration
	Read int64 // bytes of its disks, over the network
}

// part is a disk that is served meanwhile.
type part struct {
	slot   string
	reader disk.Reader
	server *nbd.Server
	listen net.Listener
	over   plan.Place
}

// Try starts a machine on a host from its disks where they lie, which are only read, sees whether it comes up, and ends it. What it writes is thrown away, and no
// machine is left.
func (m *Machines) Try(ctx context.Context, t Trial) (out Tried, err error) {
	begun := time.Now()
	is, disks, runs, err := m.toTry(ctx, t)
	if err != nil {
		return out, err
	}
	still, err := m.still(ctx, runs)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, still.end(context.WithoutCancel(ctx))) }()
	pool, err := m.roomFor(ctx, t)
	if err != nil {
		return out, err
	}
	served, stop := context.WithCancel(ctx)
	var parts []*part
	var ended []chan error
	defer func() {
		stop()
		for _, e := range ended {
			err = errors.Join(err, <-e)
		}
		for _, p := range parts {
			err = errors.Join(err, m.unserve(context.WithoutCancel(ctx), p))
		}
	}()
	exports := map[string]host.Export{}
	for i, d := range disks {
		slot := is.Disks[i].Slot
		p := &part{slot: slot, over: plan.Place{Pool: pool.Name, Path: fmt.Sprintf(".trial-%s-%s.qcow2", is.UUID[:8], slot)}}
		parts = append(parts, p)
		if err := m.serveOne(ctx, t.On, d, p, runs == nil); err != nil {
			return out, fmt.Errorf("serving %s for the trial: %w", d, err)
		}
		e := make(chan error, 1)
		ended = append(ended, e)
		go func() { e <- p.server.Serve(served, p.listen) }()
		if err := m.makeOver(ctx, pool, p); err != nil {
			return out, err
		}
		exports[slot] = host.Export{Address: p.listen.Addr().String(), Name: p.server.Name, Over: pool.Ground().Path(p.over.Path)}
	}
	var started host.Machine
	var end func(context.Context) error
	err = do(
		ctx,
		guests{m, t.On},
		"try machines out",
		func(h host.Trier) (err error) { started, end, err = h.Try(ctx, is, exports); return err },
	)
	if errors.Is(err, errors.ErrUnsupported) {
		err = fmt.Errorf("%w: %w", records.ErrState, err)
	}
	if err != nil {
		return out, err
	}
	defer m.forget(t.On)
	seen, err := machines.See(ctx, m.Guests(t.On), started, within(t))
	for _, p := range parts {
		for _, c := range p.server.Now() {
			out.Read += c.Bytes
		}
	}
	if out.Machine, out.Is, out.Took = seen, is, time.Since(begun); still.why != "" {
		out.Evidence = append(out.Evidence, still.why)
	}
	return out, errors.Join(err, end(context.WithoutCancel(ctx)), m.keepTried(context.WithoutCancel(ctx), t, seen, err))
}

func within(t Trial) time.Duration {
	if t.Within > 0 {
		return t.Within
	}
	return TryFor
}

// toTry is the machine as it is tried out, and where its disks lie; runs is the machine itself where that runs.
func (m *Machines) toTry(ctx context.Context, t Trial) (is machine.Machine, disks []plan.Place, runs *Machine, err error) {
	if t.Machine == "" {
		if is, err = m.around(ctx, t); err != nil {
			return is, nil, nil, err
		}
		disks = []plan.Place{t.Disk}
	} else {
		on, name, err := plan.HostAndName(t.Machine)
		if err != nil {
			return is, nil, nil, fmt.Errorf("%w: %w", records.ErrInvalid, err)
		}
		x, err := m.Show(ctx, on, name)
		if err == nil {
			err = x.Problem
		}
		if err != nil {
			return is, nil, nil, err
		}
		if x.State != host.Off {
			runs = &x
		}
		is = x.Is
		for _, d := range x.Disks {
			if d.InPool == "" {
				return is, nil, nil, fmt.Errorf(
					"%w: its disk %s (%s) lies outside of all pools: make its folder one",
					records.ErrState,
					d.Slot,
					d.Lies(),
				)
			}
			disks = append(disks, plan.Place{Pool: d.InPool, Path: d.Path, Format: d.Format})
		}
	}
	is.Name, is.UUID, is.Variables, is.Drives, is.WithHost = is.Name+"-trial-"+uuid.NewString()[:4], uuid.NewString(), "", nil, false
	is.Serials, is.Channels, is.Notes = []string{"pty"}, nil, "It is tried out, and not to be kept."
	if t.Firm != "" {
		is.Firmware, is.SecureBoot = t.Firm, false
	}
	for i := range is.Disks {
		is.Disks[i].Pool, is.Disks[i].Volume, is.Disks[i].Remote = "", "", ""
		if t.Bus != "" {
			is.Disks[i].Bus, is.Disks[i].Slot = t.Bus, ""
		}
	}
	is = is.Slotted()
	if t.Network == "" {
		is.Networks = nil
	}
	for i := range is.Networks {
		is.Networks[i].Kind, is.Networks[i].Network, is.Networks[i].MAC = "network", t.Network, ""
	}
	return is, disks, runs, nil
}

// around is a machine around a disk that came alone.
func (m *Machines) around(ctx context.Context, t Trial) (is machine.Machine, err error) {
	folder, err := m.places.Folder(ctx, t.Disk.Pool)
	if err != nil {
		return is, err
	}
	name := strings.TrimSuffix(path.Base(t.Disk.Path), path.Ext(t.Disk.Path))
	f := propose.Facts{Name: name, UUID: uuid.NewString(), Disk: machine.Disk{File: t.Disk.Path}}
	if err := lookInside(ctx, folder, t.Disk.Path, t.Disk.Format, &f); err != nil {
		return is, err
	}
	if f.Limits, err = m.Limits(ctx, t.On); err != nil {
		return is, err
	}
	f.Limits.Formats, f.Limits.Layouts = nil, nil // it is not written there
	is, _ = propose.Machine(f)
	return is, nil
}

// roomFor is the pool of the host for what is written meanwhile.
func (m *Machines) roomFor(ctx context.Context, t Trial) (best store.Pool, err error) {
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return best, err
	}
	most := int64(-1)
	for _, p := range pools {
		if p.Host != t.On || t.Pool != "" && p.Name != t.Pool {
			continue
		}
		folder, err := m.places.Open(ctx, p)
		if err != nil {
			continue // another one may do
		}
		space, err := folder.Space()
		if err == nil && !space.ReadOnly && space.Free > most {
			best, most = p, space.Free
		}
	}
	if most < 0 {
		return best, fmt.Errorf("%w: the host %s has no pool that what is written meanwhile could go to: add one", records.ErrState, t.On)
	}
	return best, nil
}

// serveOne opens a disk, and a listener that the host can reach.
func (m *Machines) serveOne(ctx context.Context, on string, d plan.Place, p *part, rests bool) error {
	record, err := m.records.Pool(ctx, d.Pool)
	if err != nil {
		return err
	}
	folder, err := m.places.Open(ctx, record)
	if err != nil {
		return err
	}
	if folder, err = m.Watched(ctx, record, folder, false); err != nil {
		return err
	}
	format, err := m.places.FormatOf(ctx, folder, d)
	if err != nil {
		return err
	}
	if p.reader, err = d.Origin(folder).Open(ctx, format); err != nil {
		return err
	}
	if u, ok := storage.As[storage.Usage](folder); ok && rests {
		for _, name := range p.reader.Describe().Files {
			if why, err := u.InUse(name); err != nil || why != "" {
				return errors.Join(err, fmt.Errorf("%w: %s is in use: %s", records.ErrState, name, why))
			}
		}
	}
	// Others of the host's computer may reach it too: it is opened by who knows its name, which is one.
	p.server = &nbd.Server{Disk: p.reader, Name: uuid.NewString(), Hidden: true, Clients: 1}
	p.listen, err = m.places.Listen(ctx, on, "")
	return err
}

// makeOver makes the image that what is written goes to.
func (m *Machines) makeOver(ctx context.Context, pool store.Pool, p *part) error {
	folder, err := m.places.Open(ctx, pool)
	if err != nil {
		return err
	}
	qcow2, err := disk.Lookup("qcow2")
	if err != nil {
		return err
	}
	made, err := qcow2.Create(disk.Target{Folder: folder, Name: p.over.Path, Size: p.reader.Size(), Layout: "thin"})
	if err == nil {
		err = errors.Join(made.Commit(ctx), made.Close())
	}
	if err != nil {
		return fmt.Errorf("making room for what is written meanwhile: %w", err)
	}
	if o, ok := storage.As[storage.Owner](folder); ok && (pool.Rules.Owner != "" || pool.Rules.Mode != "") {
		return o.Own(p.over.Path, pool.Rules.Owner, pool.Rules.Mode)
	}
	return nil
}

// unserve closes what was opened for a disk, and removes what was written.
func (m *Machines) unserve(ctx context.Context, p *part) (err error) {
	if p.listen != nil {
		_ = p.listen.Close() // the server may have closed it
	}
	if p.reader != nil {
		err = p.reader.Close()
	}
	folder, folderErr := m.places.Folder(ctx, p.over.Pool)
	if folderErr != nil {
		return errors.Join(err, folderErr)
	}
	if gone := folder.Remove(p.over.Path); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, fmt.Errorf("removing what was written meanwhile: %w", gone))
	}
	return err
}
