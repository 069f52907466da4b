package storage

import (
	"context"
	"net"
)

// Dialer is a folder whose host lets us reach what listens on it, through the connection that is there already.
type Dialer interface {
	// Dial connects to a socket on the host: of the network "unix", its path.
	Dial(ctx context.Context, network, address string) (net.Conn, error)
	// Listen waits for connections on the host, at an address of its own.
	Listen(ctx context.Context, network, address string) (net.Listener, error)
}
