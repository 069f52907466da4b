package sftp

import (
	"context"
	"fmt"
	"net"

	"bagaglio/core/storage"
)

// Dial connects to a socket on the host, through the connection that files come over.
func (f *Folder) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := f.client(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", storage.ErrLost, err)
	}
	conn, err := c.wires[0].DialContext(ctx, network, address)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s on the host: %w", address, err)
	}
	return conn, nil
}

// Listen waits for connections on the host, which come through the connection that files come over.
func (f *Folder) Listen(ctx context.Context, network, address string) (net.Listener, error) {
	c, err := f.client(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", storage.ErrLost, err)
	}
	l, err := c.wires[0].Listen(network, address)
	if err != nil {
		return nil, fmt.Errorf("waiting for connections on the host: %w", err)
	}
	return l, nil
}

var _ storage.Dialer = (*Folder)(nil)
