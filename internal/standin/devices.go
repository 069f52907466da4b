package standin

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
)

// Suspend halts a machine that runs.
func (h *Host) Suspend(m Which) (Entry, error) {
	return h.do(m, func(g *guest) error {
		switch g.State {
		case host.Suspended:
		case host.Running:
			g.start.writes.halt()
			g.State = host.Suspended
		default:
			return fmt.Errorf("%w: it is %s", errState, g.State)
		}
		return nil
	})
}

// Resume lets one go on that is suspended.
func (h *Host) Resume(m Which) (Entry, error) {
	return h.do(m, func(g *guest) error {
		switch g.State {
		case host.Running:
		case host.Suspended:
			g.start.writes.goOn()
			g.State = host.Running
		default:
			return fmt.Errorf("%w: it is %s", errState, g.State)
		}
		return nil
	})
}

// Attach gives a machine a disk, also while it runs.
func (h *Host) Attach(ctx context.Context, m Which, d machine.Disk) (Entry, error) {
	return h.do(m, func(g *guest) error {
		is := g.is
		if d.Slot == "" {
			d.Slot = machine.FreeSlot(d.Bus, slices.Concat(is.Disks, is.Drives)...)
		}
		is.Disks = append(slices.Clone(is.Disks), d)
		if err := h.traits.refuses(is); err != nil {
			return fmt.Errorf("%w: %w", errRefused, err)
		}
		if err := errors.Join(h.lies(is), h.forms(is)); err != nil {
			return err
		}
		if g.start != nil {
			if err := h.attach(ctx, g.start, d, false, is); err != nil {
				return fmt.Errorf("%w: %w", errRefused, err)
			}
		}
		return g.become(is)
	})
}

// Detach takes one away. A guest that starts from it does not let go.
func (h *Host) Detach(ctx context.Context, m Which, slot string) (Entry, error) {
	return h.do(m, func(g *guest) error {
		is := g.is
		i := slices.IndexFunc(is.Disks, func(d machine.Disk) bool { return d.Slot == slot })
		switch {
		case i < 0:
			return fmt.Errorf("%w: it has no disk %s", errRefused, slot)
		case g.start != nil && i == 0:
			return fmt.Errorf("%w: its guest does not let go of the disk that it started from", errRefused)
		}
		if g.start != nil {
			names, err := h.filesOf(ctx, is.Disks[i])
			if err != nil {
				return err
			}
			g.start.unlock(names)
		}
		is.Disks = slices.Delete(slices.Clone(is.Disks), i, i+1)
		return g.become(is)
	})
}

// become changes the definition.
func (g *guest) become(is machine.Machine) error {
	text, err := machine.Become([]byte(g.Definition), own.Name, own.Name, is)
	if err == nil {
		g.Definition, g.is = string(text), is
	}
	return err
}
