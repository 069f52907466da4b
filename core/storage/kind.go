package storage

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
)

// Server is another computer whose storage is reached, and how it is logged in to.
type Server struct {
	Address    string
	User       string
	Password   string
	Key        []byte // private, PEM
	Passphrase string // of the key
	Agent      bool   // log in with the agent of the user that runs this process
	TrustedKey string // fingerprint of the key that the server has to show, empty for none
	// Dial connects to a server that is not reached by its address; nil for one that is.
	Dial func(context.Context) (net.Conn, error)
}

// Kind is a kind of storage on other computers: what a room offers.
type Kind struct {
	Name string
	// Check says what is wrong with the address and the user of a server, and puts the address into its usual form.
	Check func(s *Server) error
	// Open opens a folder there. ErrLost tells that the server is not to be reached.
	Open func(ctx context.Context, s Server, folder string) (Folder, error)
	// ShownKey asks a server which key it shows, before anything is sent to it. Nil for a kind that knows its servers by other means.
	ShownKey func(ctx context.Context, address string) (string, error)
}

// ErrNoKind is the error for a kind of storage that is not registered.
var ErrNoKind = errors.New("no such kind of host")

var kinds []Kind

// RegisterKind makes a kind known. Each kind's room calls it once, from init.
func RegisterKind(k Kind) { kinds = append(kinds, k) }

// LookupKind returns the kind of that name, or fails with ErrNoKind.
func LookupKind(name string) (Kind, error) {
	i := slices.IndexFunc(kinds, func(k Kind) bool { return k.Name == name })
	if i >= 0 {
		return kinds[i], nil
	}
	var names []string
	for _, k := range kinds {
		names = append(names, k.Name)
	}
	slices.Sort(names)
	return Kind{}, fmt.Errorf("%w: %q; there are %s", ErrNoKind, name, strings.Join(names, ", "))
}

// HostKeyError is the error for a host that shows another key than the one that is trusted.
type HostKeyError struct {
	Address string
	Trusted string // fingerprint, empty when none is trusted yet
	Shown   string
}

func (e *HostKeyError) Error() string {
	if e.Trusted == "" {
		return fmt.Sprintf(
			"the host at %s is not trusted yet: it shows the key %s; compare that with what its keeper says, then trust it",
			e.Address,
			e.Shown,
		)
	}
	return fmt.Sprintf(
		"the key that the host at %s shows, %s, is not the one that was trusted, %s. The host may have been installed anew; or another computer answers in its place, "+
			"which would get to see the password. Nothing was sent. Ask the host's keeper, and trust the new key only when it is theirs",
		e.Address,
		e.Shown,
		e.Trusted,
	)
}
