package sftp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"bagaglio/core/storage"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/semaphore"
)

const (
	// smallPacket is what every server takes; largePacket is for one that says by limits@openssh.com what it takes, which is 255 KiB and
	// the packet's head (OpenSSH, PROTOCOL, 4.8): five of them carry a part of a file.
	smallPacket, largePacket = 32 << 10, 208 << 10
	// lanes are how many channels to the host carry a file side by side, one of them to sync it: each lets 2 MiB wait for an answer, which
	// over a long way is less than the line could carry (RFC 4254, section 5.2).
	lanes = 5
	// inFlight is how many requests of a file may wait for their answers, so that the way to the host does not set the speed, and
	// onItsWay how many bytes of all files may.
	inFlight, onItsWay = 64, (lanes - 1) * 2 << 20

	// patience is for how long a host may say nothing while it is asked something, and syncPatience while it writes to its storage.
	patience, syncPatience = 60 * time.Second, 20 * time.Minute
)

// ear notes what comes in, on all connections to a host.
type ear struct {
	at    atomic.Int64 // when something came last, Unix time in nanoseconds
	bytes atomic.Int64
}

// heard is a connection that tells an ear. It reads as much at once as a part of a file has: SSH itself asks for little, and each time
// costs.
type heard struct {
	net.Conn
	in *bufio.Reader
	*ear
}

func (e *ear) listen(c net.Conn) *heard { return &heard{c, bufio.NewReaderSize(c, partSize), e} }

func (h *heard) Read(p []byte) (int, error) {
	n, err := h.in.Read(p)
	h.at.Store(time.Now().UnixNano())
	h.bytes.Add(int64(n))
	return n, err
}

// client is what connects us with a host. When one of its connections ends, all do.
type client struct {
	*ear
	wires    []*ssh.Client  // one, or two where the host takes much at once: the kernel lets only so much of each wait for an answer
	sftp     *sftp.Client   // the first of the lanes
	lanes    []*sftp.Client // at least one
	packet   int            // the length of the largest packet
	patience time.Duration
	gone     chan struct{} // closed with the connection
	onItsWay *semaphore.Weighted

	sh    shell
	lists listing

	mu    sync.Mutex
	open  map[*asked]struct{}
	fault string // why the host was given up
	ended sync.Once
}

// asked is something that the host was asked.
type asked struct {
	since    time.Time
	patience time.Duration
	most     int64     // bytes that may have come in until it is answered, 0 for any
	until    time.Time // when it has to be answered; the zero time for whenever
}

// newClient asks for file transfer on a connection.
func newClient(wire *ssh.Client, e *ear, patience time.Duration) (*client, error) {
	c := &client{
		ear:      e,
		patience: patience,
		packet:   smallPacket,
		gone:     make(chan struct{}),
		onItsWay: semaphore.NewWeighted(onItsWay),
		open:     map[*asked]struct{}{},
	}
	c.join(wire)
	go c.watch()
	err := c.ask(func() (err error) {
		c.sftp, err = transfer(wire, whole, c.packet)
		if err != nil {
			return err
		}
		if _, ok := c.sftp.HasExtension("limits@openssh.com"); ok {
			c.packet = largePacket
			if err = c.sftp.Close(); err == nil || errors.Is(err, io.EOF) {
				c.sftp, err = transfer(wire, whole, c.packet)
			}
		}
		return err
	})
	if err != nil {
		_ = c.close() // the first error says more
		return nil, fmt.Errorf("asking for file transfer: %w; the host has to offer the sftp subsystem", err)
	}
	c.add(c.sftp)
	return c, nil
}

// join takes a connection in.
func (c *client) join(wire *ssh.Client) {
	c.mu.Lock()
	c.wires = append(c.wires, wire)
	c.mu.Unlock()
	go func() {
		_ = wire.Wait() // whatever ended it
		c.ended.Do(func() { close(c.gone) })
		_ = c.close() // what is left of it is of no use
	}()
}

// addLanes opens the other channels, as many as the host allows, by turns on each connection.
func (c *client) addLanes() error {
	for len(c.lanes) < lanes {
		lane, err := transfer(c.wires[len(c.lanes)%len(c.wires)], whole, c.packet)
		if err != nil {
			return err
		}
		c.add(lane)
	}
	return nil
}

// add takes a channel into use. Without one of them the connection is of no use: it is made again.
func (c *client) add(lane *sftp.Client) {
	c.lanes = append(c.lanes, lane)
	go func() {
		_ = lane.Wait() // whatever ended it
		_ = c.close()
	}()
}

// newSession begins a channel of a connection. Only the host itself says that it allows no more: any other error is that the line was cut.
func newSession(wire *ssh.Client) (*ssh.Session, error) {
	session, err := wire.NewSession()
	var refused *ssh.OpenChannelError
	if err != nil && !errors.As(err, &refused) {
		err = fmt.Errorf("%w: the connection to the host was cut (%w)", storage.ErrLost, err)
	}
	return session, err
}

// transfer begins file transfer on a channel of its own, in packets of so many bytes. What comes is read through in.
func transfer(wire *ssh.Client, in func(io.Reader) io.Reader, packet int) (*sftp.Client, error) {
	session, err := newSession(wire)
	if err != nil {
		return nil, err
	}
	to, errTo := session.StdinPipe()
	from, errFrom := session.StdoutPipe()
	if err = errors.Join(errTo, errFrom); err == nil {
		err = session.RequestSubsystem("sftp")
	}
	var c *sftp.Client
	if err == nil {
		c, err = sftp.NewClientPipe(
			in(from),
			asking{to},
			sftp.MaxPacketUnchecked(packet),
			sftp.MaxConcurrentRequestsPerFile(inFlight),
			sftp.UseConcurrentReads(true),
			sftp.UseConcurrentWrites(true),
		)
	}
	if err != nil {
		_ = session.Close() // the first error says more
		return nil, err
	}
	return c, nil
}

func whole(r io.Reader) io.Reader { return r }

// asking is the side of a channel on which the host is asked. One that has ended says io.EOF, which would be taken for the end of a file or of a list.
type asking struct{ io.WriteCloser }

func (a asking) Write(p []byte) (int, error) {
	n, err := a.WriteCloser.Write(p)
	if errors.Is(err, io.EOF) {
		err = sftp.ErrSSHFxConnectionLost
	}
	return n, err
}

// alive tells whether the connection stands.
func (c *client) alive() bool {
	select {
	case <-c.gone:
		return false
	default:
		return true
	}
}

// ask does something that waits for the host, which is given up when it says nothing for too long.
func (c *client) ask(do func() error) error { return c.askFor(c.patience, do) }

// askFor is for what may take longer.
func (c *client) askFor(patience time.Duration, do func() error) error {
	return c.wait(&asked{since: time.Now(), patience: patience}, do)
}

func (c *client) wait(a *asked, do func() error) error {
	c.mu.Lock()
	c.open[a] = struct{}{}
	c.mu.Unlock()
	err := do()
	c.mu.Lock()
	delete(c.open, a)
	fault := c.fault
	c.mu.Unlock()
	if err != nil && fault != "" {
		return fmt.Errorf("%w: %s", storage.ErrLost, fault)
	}
	return plain(err)
}

// watch cuts the connection to a host that says nothing, or far too much.
func (c *client) watch() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-c.gone:
			return
		case now := <-tick.C:
			if c.givenUp(now) {
				_ = c.close() // whoever waits gets an error
				return
			}
		}
	}
}

func (c *client) givenUp(now time.Time) bool {
	last := time.Unix(0, c.at.Load())
	c.mu.Lock()
	defer c.mu.Unlock()
	for a := range c.open {
		since := a.since
		if last.After(since) {
			since = last
		}
		switch {
		case now.Sub(since) > a.patience:
			c.fault = fmt.Sprintf("the host said nothing for %s", a.patience)
		case a.most > 0 && c.bytes.Load() > a.most:
			c.fault = "the host sends a list that does not end"
		case !a.until.IsZero() && now.After(a.until):
			c.fault = fmt.Sprintf("the host was not done with a list after %s", listFor)
		}
	}
	return c.fault != ""
}

func (c *client) close() error {
	c.mu.Lock()
	wires := slices.Clone(c.wires)
	c.mu.Unlock()
	var all error
	for _, wire := range wires {
		if err := wire.Close(); !errors.Is(err, net.ErrClosed) && !errors.Is(err, io.EOF) {
			all = errors.Join(all, err)
		}
	}
	return all
}

// plain gives errors of the protocol the meaning that those of storage have. The messages are the host's: what cannot be shown is dropped.
func plain(err error) error {
	var status *sftp.StatusError
	var unended *ssh.ExitMissingError // nobody said how a program ended
	switch {
	case err == nil, errors.Is(err, storage.ErrLost),
		errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission), errors.Is(err, fs.ErrExist):
		return err
	case errors.Is(err, sftp.ErrSSHFxConnectionLost),
		errors.Is(err, sftp.ErrSSHFxNoConnection),
		errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, net.ErrClosed),
		errors.Is(err, syscall.ECONNRESET),
		errors.Is(err, syscall.EPIPE),
		errors.As(err, &unended),
		errors.Is(err, os.ErrClosed):
		return fmt.Errorf("%w: the connection to the host was cut (%w)", storage.ErrLost, err)
	case errors.As(err, &status):
		return fmt.Errorf("the host says: %s", storage.Printable(err.Error()))
	}
	return err
}
