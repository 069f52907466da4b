// Package libvirt reaches hosts whose machines are run by the open-source virtualisation daemon, over its public protocol.
package libvirt

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bagaglio/core/host"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
)

func init() { host.Register(host.Kind{Name: "libvirt", Format: format, Check: check, Open: Open}) }

// format is that of its definitions.
const format = "domain-xml"

// answerIn is for how long an answer is waited for: the first definition takes seconds, since the daemon asks its emulator what that can do.
const answerIn = 30 * time.Second

// agentIn is for how long an agent is waited for, in seconds.
const agentIn = 2

// Host is a daemon.
type Host struct {
	mu   sync.Mutex // the protocol answers one call at a time
	l    *libvirt.Libvirt
	dead bool

	dial func(context.Context) (net.Conn, error)
	uri  libvirt.ConnectURI
}

// check wants a socket, or an address with TLS.
func check(a host.Address) error {
	switch {
	case a.URL == "" && path.IsAbs(a.Socket):
		return nil
	case a.URL == "" || a.Socket != "":
		return errors.New("name the socket of what runs machines on it, with its whole path (--socket), or its address (--machines tls://HOST)")
	}
	_, err := parseTLS(a.URL)
	return err
}

// Open connects to a daemon.
func Open(ctx context.Context, a host.Address) (host.Host, error) {
	dial := func(ctx context.Context) (net.Conn, error) {
		conn, err := a.Dial(ctx, "unix", a.Socket)
		if err != nil {
			err = fmt.Errorf("%w: connecting to the socket %s: %w", host.ErrGone, a.Socket, err)
		}
		return conn, err
	}
	at := a.Socket
	if a.URL != "" {
		over, err := parseTLS(a.URL)
		if err != nil {
			return nil, err
		}
		at, dial = over.address, over.dial
	}
	var err error
	for _, uri := range []libvirt.ConnectURI{libvirt.QEMUSystem, libvirt.QEMUSession} { // of the system, or of a user
		var conn net.Conn
		if conn, err = dial(ctx); err != nil {
			return nil, err
		}
		h := &Host{l: libvirt.NewWithDialer(once{conn}), dial: dial, uri: uri}
		if err = h.call(ctx, func() error { return h.l.ConnectToURI(uri) }); err == nil {
			return h, nil
		}
		_ = conn.Close() // the library may have done so
		if ctx.Err() != nil {
			break
		}
	}
	return nil, fmt.Errorf("greeting the daemon at %s: %w", at, err)
}

// once is a dialer that gives the connection which there is.
type once struct{ net.Conn }

func (o once) Dial() (net.Conn, error) { return o.Conn, nil }

// Close ends the connection.
func (h *Host) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.dead {
		return nil
	}
	return h.l.Disconnect()
}

// call makes a call to the daemon, and gives it up when it takes too long or ctx ends: the connection is of no use then.
func (h *Host) call(ctx context.Context, do func() error) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.dead {
		return host.ErrGone
	}
	ctx, cancel := context.WithTimeoutCause(ctx, answerIn, fmt.Errorf("%w: it did not answer within %s", host.ErrGone, answerIn))
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- do() }()
	select {
	case err := <-done:
		return h.explain(err)
	case <-ctx.Done():
		h.dead = true
		return context.Cause(ctx)
	}
}

// explain tells errors apart.
func (h *Host) explain(err error) error {
	var told libvirt.Error
	switch {
	case err == nil:
		return nil
	case libvirt.IsNotFound(err):
		return fmt.Errorf("%w: %w", host.ErrNoMachine, err)
	case errors.As(err, &told):
		return fmt.Errorf("%w: %w", host.ErrRefused, err)
	}
	h.dead = true
	return fmt.Errorf("%w: %w", host.ErrGone, err)
}

// Machines lists all machines, by their names.
func (h *Host) Machines(ctx context.Context) (machines []host.Machine, err error) {
	err = h.call(ctx, func() error {
		domains, _, err := h.l.ConnectListAllDomains(1, 0)
		if err != nil {
			return err
		}
		for _, d := range domains {
			m, err := h.machine(d)
			if libvirt.IsNotFound(err) { // it was forgotten meanwhile
				continue
			}
			if err != nil {
				return err
			}
			machines = append(machines, m)
		}
		return nil
	})
	slices.SortFunc(machines, func(a, b host.Machine) int { return strings.Compare(a.Name, b.Name) })
	return machines, err
}

// Machine returns the one of a name.
func (h *Host) Machine(ctx context.Context, name string) (m host.Machine, err error) {
	err = h.call(ctx, func() error {
		d, err := h.l.DomainLookupByName(name)
		if err == nil {
			m, err = h.machine(d)
		}
		return err
	})
	return m, err
}

// states are those of the protocol (virDomainState).
var states = map[libvirt.DomainState]host.State{
	libvirt.DomainRunning:     host.Running,
	libvirt.DomainBlocked:     host.Running,
	libvirt.DomainPaused:      host.Suspended,
	libvirt.DomainShutdown:    host.Running, // it is on its way
	libvirt.DomainShutoff:     host.Off,
	libvirt.DomainCrashed:     host.Crashed,
	libvirt.DomainPmsuspended: host.Suspended,
}

// machine asks what is known of a machine.
func (h *Host) machine(d libvirt.Domain) (host.Machine, error) {
	m := host.Machine{Name: d.Name, UUID: uuid.UUID(d.UUID).String(), State: host.Unknown, Format: format}
	state, why, err := h.l.DomainGetState(d, 0)
	if err != nil {
		return m, err
	}
	m.Halted = libvirt.DomainState(state) == libvirt.DomainPaused && slices.Contains(haltedFor, libvirt.DomainPausedReason(why))
	if s, ok := states[libvirt.DomainState(state)]; ok {
		m.State = s
	}
	if m.State == host.Off {
		saved, err := h.l.DomainHasManagedSaveImage(d, 0)
		if err != nil {
			return m, err
		}
		if saved == 1 {
			m.State = host.Saved
		}
	}
	with, err := h.l.DomainGetAutostart(d)
	if err != nil {
		return m, err
	}
	m.WithHost = with == 1
	text, err := h.l.DomainGetXMLDesc(d, libvirt.DomainXMLInactive) // as it is stored, without secrets
	m.Definition = []byte(text)
	if err != nil || m.State == host.Off {
		return m, err
	}
	if text, err = h.l.DomainGetXMLDesc(d, 0); err != nil {
		return m, err
	}
	if m.State == host.Saved {
		saved, err := h.l.DomainManagedSaveGetXMLDesc(d, 0)
		if err == nil { // otherwise it has gone on meanwhile
			text = saved
		}
	}
	m.Live = []byte(text)
	return m, nil
}

// domain is how the protocol names a machine.
func domain(m host.Machine) (d libvirt.Domain, err error) {
	id, err := hex.DecodeString(strings.ReplaceAll(m.UUID, "-", ""))
	if err != nil || len(id) != len(d.UUID) {
		return d, fmt.Errorf("%w: %q is no UUID", host.ErrNoMachine, m.UUID)
	}
	d.Name = m.Name
	copy(d.UUID[:], id)
	return d, nil
}

// act does something to a machine, unless it is in one of the states already.
func (h *Host) act(ctx context.Context, m host.Machine, already []host.State, do func(libvirt.Domain) error) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	return h.call(ctx, func() error {
		now, err := h.machine(d)
		if err != nil || slices.Contains(already, now.State) {
			return err
		}
		if err = do(d); err == nil {
			return nil
		}
		if now, lookErr := h.machine(d); lookErr == nil && slices.Contains(already, now.State) { // it came to be so meanwhile
			return nil
		}
		return err
	})
}

// Start switches a machine on, or lets it go on where it was saved or suspended.
func (h *Host) Start(ctx context.Context, m host.Machine) error {
	return h.act(ctx, m, []host.State{host.Running}, func(d libvirt.Domain) error {
		if now, err := h.machine(d); err != nil || now.State == host.Suspended {
			return errors.Join(err, h.l.DomainResume(d))
		}
		return h.l.DomainCreate(d)
	})
}

// ShutDown asks the guest to end.
func (h *Host) ShutDown(ctx context.Context, m host.Machine) error {
	return h.act(ctx, m, []host.State{host.Off, host.Saved}, h.l.DomainShutdown)
}

// CutOff takes the power away.
func (h *Host) CutOff(ctx context.Context, m host.Machine) error {
	return h.act(ctx, m, []host.State{host.Off, host.Saved}, h.l.DomainDestroy)
}

// Signs tells what the emulator counts, and whether the agent in the guest answers, where it has one.
func (h *Host) Signs(ctx context.Context, m host.Machine) (s host.Signs, err error) {
	d, err := domain(m)
	if err != nil {
		return s, err
	}
	err = h.call(ctx, func() error {
		_, read, _, written, _, err := h.l.DomainBlockStats(d, "") // of all disks
		s.Read, s.Written = max(0, read), max(0, written)
		return err
	})
	if err != nil {
		return s, err
	}
	agentErr := h.call(ctx, func() error {
		_, err := h.l.QEMUDomainAgentCommand(d, `{"execute":"guest-ping"}`, agentIn, 0)
		return err
	})
	if errors.Is(agentErr, host.ErrGone) {
		return s, agentErr
	}
	s.Agent = agentErr == nil
	return s, nil
}

// Define makes a machine known, or changes the one that has its identity.
func (h *Host) Define(ctx context.Context, definition []byte) (m host.Machine, err error) {
	err = h.call(ctx, func() error {
		d, err := h.l.DomainDefineXML(string(definition))
		if err == nil {
			m, err = h.machine(d)
		}
		return err
	})
	return m, err
}

// Forget drops a machine that is off, with the variables of its firmware.
func (h *Host) Forget(ctx context.Context, m host.Machine) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	err = h.call(ctx, func() error {
		now, err := h.machine(d)
		if err == nil && now.State != host.Off { // the daemon would forget it, and let it run on
			err = libvirt.Error{Code: uint32(libvirt.ErrOperationInvalid), Message: fmt.Sprintf("it is %s", now.State)}
		}
		if err != nil {
			return err
		}
		// What it lists of snapshots goes with it; those inside of images stay there.
		return h.l.DomainUndefineFlags(d, libvirt.DomainUndefineKeepNvram|libvirt.DomainUndefineSnapshotsMetadata)
	})
	if errors.Is(err, host.ErrNoMachine) { // it is forgotten already
		return nil
	}
	return err
}
