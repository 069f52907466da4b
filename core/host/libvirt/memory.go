package libvirt

import (
	"context"
	"fmt"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

// Save writes the memory of a machine to a file.
func (h *Host) Save(ctx context.Context, m host.Machine, file string) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	var done chan error // of what this call began
	for {
		ended, err := hasEnded(done)
		if err != nil {
			return h.explain(err)
		}
		off, busy := false, false
		err = h.call(ctx, func() error {
			now, err := h.machine(d)
			if err != nil {
				return err
			}
			if off = now.State == host.Off; off {
				_, err = h.l.DomainSaveImageGetXMLDesc(file, 0) // which fails for one that is not whole
				return err
			}
			kind, _, _, _, _, _, _, _, _, _, _, _, err := h.l.DomainGetJobInfo(d)
			busy = err != nil ||
				libvirt.DomainJobType(kind) != libvirt.DomainJobNone // an earlier call may be saving it, or it came to be off just now
			return nil
		})
		switch {
		case err != nil || off:
			return err
		case ended:
			return h.explain(refused("it was saved, and is not off"))
		case done == nil && !busy:
			done = make(chan error, 1)
			go func() { done <- h.l.DomainSaveFlags(d, file, nil, 0) }() // others are answered meanwhile
		}
		if err := h.waits(ctx); err != nil {
			return err
		}
	}
}

// hasEnded tells whether what was begun has.
func hasEnded(done chan error) (bool, error) {
	select {
	case err := <-done:
		return err == nil, err
	default:
		return false, nil
	}
}

func (h *Host) waits(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(followEvery):
		return nil
	}
}

// Restore has a machine go on from a file.
func (h *Host) Restore(ctx context.Context, m host.Machine, file string, is machine.Machine) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	var text []byte
	err = h.call(ctx, func() error {
		now, err := h.machine(d)
		if err == nil && now.State != host.Off {
			err = refused("it is %s", now.State)
		}
		if err != nil {
			return err
		}
		then, err := h.l.DomainSaveImageGetXMLDesc(file, uint32(libvirt.DomainSaveImageXMLSecure))
		if err == nil {
			text, err = machine.Become([]byte(then), format, format, is)
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("reading whose memory is in %s: %w", file, err)
	}
	done := make(chan error, 1)
	go func() {
		done <- h.l.DomainRestoreFlags(file, libvirt.OptString{string(text)}, uint32(libvirt.DomainSaveRunning))
	}()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case err := <-done:
		return h.explain(err)
	}
}
