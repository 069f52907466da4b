// Package host says what a host can do that runs machines: small interfaces, most of them optional and found by type assertion. Kinds of hosts
// are in rooms of their own below this one, and register themselves.
package host

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"bagaglio/core/machine"
)

// State is that of a machine.
type State string

// The states. One that is Saved is off, and its memory is kept to go on with.
const (
	Off       State = "off"
	Running   State = "running"
	Suspended State = "suspended"
	Saved     State = "saved"
	Crashed   State = "crashed"
	Unknown   State = "unknown"
)

// Machine is one that a host knows.
type Machine struct {
	Name  string
	UUID  string
	State State
	// Format is that of its definition, see core/machine, and Definition its text.
	Format     string
	Definition []byte
	// Live is the text of what runs or is saved at present, which may have other disks than what is stored. Nil for a machine that is off.
	Live []byte
	// Halted tells that its host has suspended it since it could not read or write: it goes on with Resume, when it can again.
	Halted bool
	// WithHost tells that it is started whenever its host starts.
	WithHost bool
}

var (
	// ErrNoMachine is the error for a machine that the host does not know.
	ErrNoMachine = errors.New("the host has no such machine")
	// ErrGone is the error for a host that is not to be reached.
	ErrGone = errors.New("the host is not to be reached")
	// ErrRefused is the error for what the host does not do, with its own words.
	ErrRefused = errors.New("the host refuses")
)

// Host is a host that runs machines. It is safe for concurrent use.
type Host interface {
	// Machines lists all machines, by their names.
	Machines(ctx context.Context) ([]Machine, error)
	// Machine returns the one of a name, or fails with ErrNoMachine.
	Machine(ctx context.Context, name string) (Machine, error)
	// Close ends the connection. What runs there goes on.
	Close() error
}

// Power is a host that switches machines on and off. Each looks first: what is so already is no error.
type Power interface {
	Start(ctx context.Context, m Machine) error
	// ShutDown asks the guest to end, and returns without waiting for that.
	ShutDown(ctx context.Context, m Machine) error
	// CutOff takes the power away, as from a computer whose plug is pulled.
	CutOff(ctx context.Context, m Machine) error
}

// Screener is a host that has pictures of what machines show.
type Screener interface {
	// Screen returns the present picture, as PNG.
	Screen(ctx context.Context, m Machine) ([]byte, error)
}

// Signs are what tells of a guest from outside. What a kind of host does not tell is zero.
type Signs struct {
	Read, Written int64 // of its disks since it was switched on, in bytes
	Agent         bool  // a program inside of it answers
}

// Observer is a host that tells of guests what can be seen from outside.
type Observer interface {
	Signs(ctx context.Context, m Machine) (Signs, error)
}

// Follower is a host that tells when machines come, go, or change what they do.
type Follower interface {
	// Follow calls changed, from one goroutine at a time, until ctx ends, when it returns nil, or the host is gone.
	Follow(ctx context.Context, changed func()) error
}

// Volumer is a host that has storage pools of its own, whose volumes are files.
type Volumer interface {
	// Volume returns the path of the file of a volume, or fails with ErrRefused where there is none.
	Volume(ctx context.Context, pool, volume string) (string, error)
}

// Question is something that a host asks of a machine that is started, before it goes on.
type Question struct {
	ID      string // Identity, or another one
	Text    string
	Answers []string
}

// Identity is the question whether a machine was moved or copied, and these are its answers.
const (
	Identity = "identity"
	Moved    = "moved"
	Copied   = "copied"
)

// Asker is a host that asks.
type Asker interface {
	Questions(ctx context.Context, m Machine) ([]Question, error)
	Answer(ctx context.Context, m Machine, question, answer string) error
}

// Looker is a host that knows new files only after it was told to look.
type Looker interface {
	Look(ctx context.Context) error
}

// Networker is a host that tells of the networks which machines can be connected to.
type Networker interface {
	Networks(ctx context.Context) ([]string, error)
}

// Limiter is a host that tells what it takes of machines.
type Limiter interface {
	Limits(ctx context.Context) (machine.Limits, error)
}

// Waker is a host that starts machines whenever it starts itself.
type Waker interface {
	StartWithHost(ctx context.Context, m Machine, yes bool) error
}

// Definer is a host to which machines can be made known.
type Definer interface {
	// Define makes a machine known, or changes the one that has its identity.
	Define(ctx context.Context, definition []byte) (Machine, error)
	// Forget drops a machine that is off. Its disks stay.
	Forget(ctx context.Context, m Machine) error
}

// Address is where a host is reached. Dial connects to it.
type Address struct {
	Socket string // a path on the host
	URL    string // of an API, as this computer reaches it
	Dial   func(ctx context.Context, network, address string) (net.Conn, error)
}

// Kind is a kind of host: what a room offers.
type Kind struct {
	Name   string
	Format string // of its definitions, see core/machine
	// Check fails for an address that makes no sense for the kind, and says what it takes.
	Check func(a Address) error
	Open  func(ctx context.Context, a Address) (Host, error)
}

var kinds []Kind

// Register makes a kind known. Each kind's room calls it once, from init.
func Register(k Kind) { kinds = append(kinds, k) }

// Lookup returns the kind of that name.
func Lookup(name string) (Kind, error) {
	i := slices.IndexFunc(kinds, func(k Kind) bool { return k.Name == name })
	if i >= 0 {
		return kinds[i], nil
	}
	var names []string
	for _, k := range kinds {
		names = append(names, k.Name)
	}
	slices.Sort(names)
	return Kind{}, fmt.Errorf("machines are not run by %q, but by %s", name, strings.Join(names, ", "))
}
