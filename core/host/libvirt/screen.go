package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"bagaglio/core/host"

	"github.com/digitalocean/go-libvirt"
)

const (
	// maxScreen bounds a picture, in bytes.
	maxScreen = 32 << 20
	// screenIn is for how long a picture is waited for, and screenTimes how often it is asked for.
	screenIn, screenTimes = 4 * time.Second, 3
	// endsIn is for how long the end of the answer is waited for, behind the picture.
	endsIn = time.Minute
)

// errSilent is the error for a daemon that says nothing more of a picture.
var errSilent = fmt.Errorf("%w: it sends no whole picture within %s", host.ErrRefused, screenIn)

// Screen returns the present picture, which is asked for again where none comes.
func (h *Host) Screen(ctx context.Context, m host.Machine) (picture []byte, err error) {
	d, err := domain(m)
	if err != nil {
		return nil, err
	}
	for range screenTimes {
		if picture, err = h.screen(ctx, d); !errors.Is(err, errSilent) {
			break
		}
	}
	return picture, err
}

// screen asks for a picture. The library tells of an error in the last answer although the picture is whole, or waits for that answer without
// end: what counts is the picture, and a connection is used for no other one. It is left open until that answer has come: the daemon may die of a
// client that goes in the middle of it.
func (h *Host) screen(ctx context.Context, d libvirt.Domain) ([]byte, error) {
	conn, err := h.dial(ctx)
	if err != nil {
		return nil, err
	}
	l := libvirt.NewWithDialer(once{conn})
	picture := &whole{done: make(chan struct{})}
	ctx, cancel := context.WithTimeoutCause(ctx, screenIn, errSilent)
	defer cancel()
	end, ended := make(chan error, 1), make(chan struct{})
	go func() {
		err := l.ConnectToURI(h.uri)
		if err == nil {
			_, err = l.DomainScreenshot(d, picture, 0, 0)
		}
		end <- err
		close(ended)
	}()
	go func() {
		select {
		case <-ended:
			_ = l.Disconnect() // it may be gone
		case <-time.After(endsIn):
		}
		_ = conn.Close() // likewise
	}()
	select {
	case <-picture.done:
		return picture.Bytes(), nil
	case err = <-end:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	select {
	case <-picture.done: // both at once
		return picture.Bytes(), nil
	default:
	}
	var told libvirt.Error
	var network net.Error
	switch {
	case errors.As(err, &told), err == nil:
		return nil, fmt.Errorf("%w: what it sent is no whole picture: %w", host.ErrRefused, errors.Join(err))
	case errors.As(err, &network):
		return nil, fmt.Errorf("%w: %w", host.ErrGone, err)
	}
	return nil, fmt.Errorf("%w: %w", host.ErrRefused, err)
}

// whole takes a picture, and tells when it has all of it. What comes then is not of it.
type whole struct {
	bytes.Buffer
	done chan struct{}
	is   bool
}

func (w *whole) Write(p []byte) (int, error) {
	if w.is {
		return len(p), nil
	}
	if w.Len()+len(p) > maxScreen {
		return 0, fmt.Errorf("the picture is longer than %d bytes", maxScreen)
	}
	n, err := w.Buffer.Write(p)
	if isPNG(w.Bytes()) {
		w.is = true
		close(w.done)
	}
	return n, err
}

// isPNG tells whether a picture begins and ends as one (PNG, 5.2 and 11.2.5).
func isPNG(b []byte) bool {
	return bytes.HasPrefix(b, []byte("\x89PNG\r\n\x1a\n")) && bytes.HasSuffix(b, []byte("IEND\xaeB`\x82"))
}
