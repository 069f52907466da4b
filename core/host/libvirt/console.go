package libvirt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

const (
	// terminal is the kind of serial port that the daemon passes on.
	terminal = "pty"
	// leaveIn is for how long the daemon has time to see that nobody listens any more.
	leaveIn = 5 * time.Second
)

// Listen passes on what a machine writes on its first serial port. It has a connection of its own, since the daemon sends as long as that lasts.
// Somebody else who listens is not sent away: then it fails. It takes its leave before it goes: the daemon may die of a client that does not.
func (h *Host) Listen(ctx context.Context, m host.Machine, w io.Writer) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	now, err := h.Machine(ctx, m.Name)
	if err != nil {
		return err
	}
	is, err := machine.Describe(now.Format, now.Definition)
	if err != nil || len(is.Serials) == 0 || is.Serials[0] != terminal {
		return fmt.Errorf("%w: what %s writes on a serial port leads elsewhere", host.ErrRefused, m.Name)
	}
	conn, err := h.dial(ctx)
	if err != nil {
		return err
	}
	l, ended := libvirt.NewWithDialer(once{conn}), make(chan struct{})
	listening, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		<-listening.Done()
		select {
		case <-ended:
		case <-time.After(leaveIn):
			_ = conn.Close() // it does not answer
		}
	}()
	if err = l.ConnectToURI(h.uri); err == nil {
		err = l.DomainOpenConsoleBidirectional(d, nil, silent{listening}, w, uint32(libvirt.DomainConsoleSafe))
		_ = l.Disconnect() // it may be gone
	}
	close(ended)
	_ = conn.Close() // likewise
	var told libvirt.Error
	switch {
	case ctx.Err() != nil, err == nil:
		return nil
	case errors.As(err, &told):
		return fmt.Errorf("%w: %w", host.ErrRefused, err)
	}
	return fmt.Errorf("%w: %w", host.ErrGone, err)
}

// silent is what is said to a machine: nothing, until nobody listens any more.
type silent struct{ context.Context }

func (s silent) Read([]byte) (int, error) {
	<-s.Done()
	return 0, io.EOF
}
