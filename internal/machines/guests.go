package machines

import (
	"context"
	"errors"
	"io"
	"path"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/points"
)

// Guests is a host as the steps of jobs use it: it is connected when it is asked, and again when the connection was lost.
func (m *Machines) Guests(name string) step.Guests { return points.Guests(guests{m, name}) }

type guests struct {
	machines *Machines
	host     string
}

// do does something that a host may not be able to.
func do[A any](ctx context.Context, g guests, what string, f func(A) error) error {
	return g.machines.ask(ctx, g.host, func(h host.Host) error {
		a, err := can[A](h, what)
		if err != nil {
			return err
		}
		return f(a)
	})
}

// changes does likewise, and has what is known of the host's machines asked anew.
func changes[A any](ctx context.Context, g guests, what string, f func(A) error) error {
	defer g.machines.forget(g.host)
	return do(ctx, g, what, f)
}

func (g guests) Machines(ctx context.Context) (all []host.Machine, err error) {
	err = do(ctx, g, "list machines", func(h host.Host) (err error) { all, err = h.Machines(ctx); return err })
	return all, err
}

func (g guests) Machine(ctx context.Context, name string) (m host.Machine, err error) {
	err = do(ctx, g, "list machines", func(h host.Host) (err error) { m, err = h.Machine(ctx, name); return err })
	return m, err
}

func (g guests) Start(ctx context.Context, x host.Machine) error {
	return changes(ctx, g, "switch machines", func(h host.Power) error { return h.Start(ctx, x) })
}

func (g guests) ShutDown(ctx context.Context, x host.Machine) error {
	return changes(ctx, g, "switch machines", func(h host.Power) error { return h.ShutDown(ctx, x) })
}

func (g guests) CutOff(ctx context.Context, x host.Machine) error {
	return changes(ctx, g, "switch machines", func(h host.Power) error { return h.CutOff(ctx, x) })
}

func (g guests) Screen(ctx context.Context, x host.Machine) (picture []byte, err error) {
	err = do(ctx, g, "show screens", func(h host.Screener) (err error) { picture, err = h.Screen(ctx, x); return err })
	return picture, err
}

func (g guests) Signs(ctx context.Context, x host.Machine) (s host.Signs, err error) {
	err = do(ctx, g, "tell what guests do", func(h host.Observer) (err error) { s, err = h.Signs(ctx, x); return err })
	return s, err
}

func (g guests) Suspend(ctx context.Context, x host.Machine) error {
	return changes(ctx, g, "suspend machines", func(h host.Suspender) error { return h.Suspend(ctx, x) })
}

func (g guests) Resume(ctx context.Context, x host.Machine) error {
	return changes(ctx, g, "suspend machines", func(h host.Suspender) error { return h.Resume(ctx, x) })
}

func (g guests) Listen(ctx context.Context, x host.Machine, w io.Writer) error {
	return do(ctx, g, "pass on what machines write", func(h host.Listener) error { return h.Listen(ctx, x, w) })
}

func (g guests) StartWithHost(ctx context.Context, x host.Machine, yes bool) error {
	return do(ctx, g, "start machines with itself", func(h host.Waker) error { return h.StartWithHost(ctx, x, yes) })
}

func (g guests) Questions(ctx context.Context, x host.Machine) (all []host.Question, err error) {
	err = do(ctx, g, "ask", func(h host.Asker) (err error) { all, err = h.Questions(ctx, x); return err })
	return all, err
}

func (g guests) Answer(ctx context.Context, x host.Machine, question, answer string) error {
	return do(ctx, g, "ask", func(h host.Asker) error { return h.Answer(ctx, x, question, answer) })
}

func (g guests) Look(ctx context.Context) error {
	return do(ctx, g, "look for new files", func(h host.Looker) error { return h.Look(ctx) })
}

func (g guests) Define(ctx context.Context, definition []byte) (m host.Machine, err error) {
	err = changes(ctx, g, "take new machines", func(h host.Definer) (err error) { m, err = h.Define(ctx, definition); return err })
	return m, err
}

func (g guests) Forget(ctx context.Context, x host.Machine) error {
	return changes(ctx, g, "forget machines", func(h host.Definer) error { return h.Forget(ctx, x) })
}

func (g guests) Attach(ctx context.Context, x host.Machine, d machine.Disk) error {
	return changes(ctx, g, "give machines disks", func(h host.Attacher) error { return h.Attach(ctx, x, d) })
}

func (g guests) Detach(ctx context.Context, x host.Machine, slot string) error {
	return changes(ctx, g, "take disks from machines", func(h host.Attacher) error { return h.Detach(ctx, x, slot) })
}

func (g guests) Snapshots(ctx context.Context, x host.Machine) (all []host.Snapshot, err error) {
	err = do(ctx, g, "keep states of machines", func(h host.Snapshotter) (err error) { all, err = h.Snapshots(ctx, x); return err })
	return all, err
}

func (g guests) Take(ctx context.Context, x host.Machine, t host.Taking) error {
	return changes(ctx, g, "keep states of machines", func(h host.Snapshotter) error { return h.Take(ctx, x, t) })
}

func (g guests) GoBack(ctx context.Context, x host.Machine, name string) error {
	return changes(ctx, g, "keep states of machines", func(h host.Snapshotter) error { return h.GoBack(ctx, x, name) })
}

func (g guests) Drop(ctx context.Context, x host.Machine, name string) error {
	return changes(ctx, g, "keep states of machines", func(h host.Snapshotter) error { return h.Drop(ctx, x, name) })
}

func (g guests) Adopt(ctx context.Context, x host.Machine, s host.Snapshot) error {
	return changes(ctx, g, "take over states of machines", func(h host.Adopter) error { return h.Adopt(ctx, x, s) })
}

func (g guests) Disown(ctx context.Context, x host.Machine, name string) error {
	return changes(ctx, g, "forget states and leave images as they are", func(h host.Adopter) error { return h.Disown(ctx, x, name) })
}

// Adopts tells whether a host can be told of states inside of images.
func (m *Machines) Adopts(ctx context.Context, on string) (yes bool, err error) {
	err = m.ask(ctx, on, func(h host.Host) error { _, yes = h.(host.Adopter); return nil })
	return yes, err
}

// LayersOn tells whether a host puts images on disks of machines that run.
func (m *Machines) LayersOn(ctx context.Context, on string) (yes bool, err error) {
	err = m.ask(ctx, on, func(h host.Host) error { _, yes = h.(host.Layerer); return nil })
	return yes, err
}

// SavesOn tells whether a host writes what machines have in memory to files.
func (m *Machines) SavesOn(ctx context.Context, on string) (yes bool, err error) {
	err = m.ask(ctx, on, func(h host.Host) error { _, yes = h.(host.Saver); return nil })
	return yes, err
}

func (g guests) Save(ctx context.Context, x host.Machine, file string) error {
	return changes(ctx, g, "write what machines have in memory", func(h host.Saver) error { return h.Save(ctx, x, file) })
}

func (g guests) Restore(ctx context.Context, x host.Machine, file string, is machine.Machine) error {
	return changes(ctx, g, "write what machines have in memory", func(h host.Saver) error { return h.Restore(ctx, x, file, is) })
}

// Networks are those of a host; errors.ErrUnsupported tells that it does not tell.
func (m *Machines) Networks(ctx context.Context, on string) (names []string, err error) {
	err = do(ctx, guests{m, on}, "tell of networks", func(h host.Networker) (err error) { names, err = h.Networks(ctx); return err })
	return names, err
}

// OwnPool is a storage pool of a host's own, with the pool of ours that it is, if it is one.
type OwnPool struct {
	host.Pool
	Ours string
}

// Storage are the storage pools of a host's own; errors.ErrUnsupported tells that it does not tell.
func (m *Machines) Storage(ctx context.Context, on string) (all []OwnPool, err error) {
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return nil, err
	}
	err = do(ctx, guests{m, on}, "tell of storage pools", func(h host.Pooler) error {
		found, err := h.Pools(ctx)
		all = nil
		for _, p := range found {
			p.Name, p.Folder = storage.Printable(p.Name), path.Clean(storage.Printable(p.Folder))
			own := OwnPool{Pool: p}
			for _, ours := range pools {
				if ours.Host == on && path.Clean(ours.Folder) == p.Folder {
					own.Ours = ours.Name
				}
			}
			all = append(all, own)
		}
		return err
	})
	return all, err
}

// Limits are what a host takes of machines; none where it does not tell.
func (m *Machines) Limits(ctx context.Context, on string) (l machine.Limits, err error) {
	err = do(ctx, guests{m, on}, "tell what it takes", func(h host.Limiter) (err error) { l, err = h.Limits(ctx); return err })
	if errors.Is(err, errors.ErrUnsupported) {
		err = nil
	}
	return l, err
}

// Wakes tells whether a host starts machines whenever it starts itself.
func (m *Machines) Wakes(ctx context.Context, on string) (yes bool, err error) {
	err = m.ask(ctx, on, func(h host.Host) error { _, yes = h.(host.Waker); return nil })
	return yes, err
}

// Close does nothing: the connection is everybody's.
func (guests) Close() error { return nil }

// Format is that of the definitions of a host.
func (m *Machines) Format(ctx context.Context, on string) (string, error) {
	if _, err := m.on(ctx, on); err != nil {
		return "", err
	}
	h, err := m.places.Host(ctx, on)
	if err != nil {
		return "", err
	}
	kind, err := host.Lookup(h.Runs.Kind)
	return kind.Format, err
}

func (g guests) Cover(ctx context.Context, x host.Machine, layers map[string]string, atRest bool) (halted time.Duration, err error) {
	err = changes(ctx, g, "put images on disks that are in use", func(h host.Layerer) (err error) {
		halted, err = h.Cover(ctx, x, layers, atRest)
		return err
	})
	return halted, err
}

func (g guests) Merge(ctx context.Context, x host.Machine, slot, into string) (halted time.Duration, err error) {
	err = changes(
		ctx,
		g,
		"merge images that are in use",
		func(h host.Layerer) (err error) { halted, err = h.Merge(ctx, x, slot, into); return err },
	)
	return halted, err
}

func (g guests) Borrow(ctx context.Context, definition []byte, disks map[string]host.Export) (m host.Machine, err error) {
	err = changes(
		ctx,
		g,
		"have machines read disks from elsewhere",
		func(h host.Borrower) (err error) { m, err = h.Borrow(ctx, definition, disks); return err },
	)
	return m, err
}

func (g guests) Fold(ctx context.Context, x host.Machine, slot, from, into string) error {
	return changes(ctx, g, "merge images that are in use", func(h host.Layerer) error { return h.Fold(ctx, x, slot, from, into) })
}

func (g guests) Mirror(ctx context.Context, x host.Machine, slot string, to machine.Disk) (halted time.Duration, err error) {
	err = changes(
		ctx,
		g,
		"mirror images that are in use",
		func(h host.Layerer) (err error) { halted, err = h.Mirror(ctx, x, slot, to); return err },
	)
	return halted, err
}

func (g guests) GiveUp(ctx context.Context, x host.Machine, slot string) error {
	return changes(ctx, g, "mirror images that are in use", func(h host.Layerer) error { return h.GiveUp(ctx, x, slot) })
}

func (g guests) Layers(ctx context.Context, x host.Machine, slot string) (files []string, err error) {
	err = do(
		ctx,
		g,
		"tell what disks that are in use are stored in",
		func(h host.Layerer) (err error) { files, err = h.Layers(ctx, x, slot); return err },
	)
	return files, err
}
