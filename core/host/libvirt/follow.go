package libvirt

import (
	"context"
	"fmt"

	"bagaglio/core/host"

	"github.com/digitalocean/go-libvirt"
)

// Follow has the daemon tell when machines are defined, forgotten, switched on or off. It has a connection of its own.
func (h *Host) Follow(ctx context.Context, changed func()) error {
	conn, err := h.dial(ctx)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() }) // nobody listens any more
	defer stop()
	l := libvirt.NewWithDialer(once{conn})
	err = l.ConnectToURI(h.uri)
	var events <-chan libvirt.DomainEventLifecycleMsg
	if err == nil {
		events, err = l.LifecycleEvents(ctx)
	}
	if err != nil {
		_ = conn.Close() // it is of no use
		if ctx.Err() != nil {
			return nil
		}
		return fmt.Errorf("%w: asking to be told of changes: %w", host.ErrGone, err)
	}
	for range events {
		changed()
	}
	if ctx.Err() != nil {
		return nil
	}
	return fmt.Errorf("%w: it tells of no changes any more", host.ErrGone)
}
