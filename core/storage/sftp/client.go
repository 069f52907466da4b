package sftp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
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
	// lanes are how many channels to the host carry a file side by side, one of them to sync it: each lets 2 MiB wait for an answer, which over a long way is less
	// than the line could carry (RFC 4254, section 5.2).
	lanes = 5
	// inFlight is how many requests of a file may wait for their answers, so that the way to the host does not set the speed, and
	// onItsWay how many bytes of all files may.
	inFlight, onItsWay = 64, (lanes - 1) * 2 << 20

	// patience is for how long a host may say nothing while it is asked something, and syncPatience while it writes to its storage.
	patience, syncPatience = 60 * time.Second, 20 * time.Minute
)

// heard is a connection that notes when something came in last.
type heard struct {
	net.Conn
	in    *bufio.Reader
	at    atomic.Int64 // Unix time in nanoseconds
	bytes atomic.Int64 // that came in
}

// listen reads as much at once as a part of a file has: SSH itself asks for little, and each time costs.
func listen(c net.Conn) *heard { return &heard{Conn: c, in: bufio.NewReaderSize(c, partSize)} }

func (h *heard) Read(p []byte) (int, error) {
	n, err := h.in.Read(p)
	h.at.Store(time.Now().UnixNano())
	h.bytes.Add(int64(n))
	return n, err
}

// client is one connection to a host.
type client struct {
	ssh      *ssh.Client
	sftp     *sftp.Client   // the first of the lanes
	lanes    []*sftp.Client // at least one
	conn     *heard
	patience time.Duration
	gone     chan struct{} // closed with the connection
	onItsWay *semaphore.Weighted

	sh shell

	mu    sync.Mutex
	open  map[*asked]struct{}
	fault string // why the host was given up
}

// asked is something that the host was asked.
type asked struct {
	since    time.Time
	patience time.Duration
	most     int64 // bytes that may have come in until it is answered, 0 for any
}

func newClient(s *ssh.Client, conn *heard, patience time.Duration) (*client, error) {
	c := &client{ssh: s, conn: conn, patience: patience, gone: make(chan struct{}), onItsWay: semaphore.NewWeighted(onItsWay), open: map[*asked]struct{}{}}
	go c.watch()
	go func() {
		_ = s.Wait() // whatever ended it
		close(c.gone)
	}()
	packet := smallPacket
	err := c.ask(func() (err error) {
		c.sftp, err = sftp.NewClient(s, options(packet)...)
		if err != nil {
			return err
		}
		if _, ok := c.sftp.HasExtension("limits@openssh.com"); ok {
			packet = largePacket
			if err = c.sftp.Close(); err == nil || errors.Is(err, io.EOF) {
				c.sftp, err = sftp.NewClient(s, options(packet)...)
			}
		}
		return err
	})
	if err != nil {
		_ = s.Close() // the first error says more
		return nil, fmt.Errorf("asking for file transfer: %w; the host has to offer the sftp subsystem", err)
	}
	c.lanes = []*sftp.Client{c.sftp}
	_ = c.ask(func() error { return c.addLanes(packet) }) // a host that allows only one channel is slower over a long way
	return c, nil
}

// addLanes opens the other channels, as many as the host allows.
func (c *client) addLanes(packet int) error {
	for len(c.lanes) < lanes {
		lane, err := sftp.NewClient(c.ssh, options(packet)...)
		if err != nil {
			return err
		}
		c.lanes = append(c.lanes, lane)
	}
	return nil
}

func options(packet int) []sftp.ClientOption {
	return []sftp.ClientOption{sftp.MaxPacketUnchecked(packet), sftp.MaxConcurrentRequestsPerFile(inFlight), sftp.UseConcurrentReads(true), sftp.UseConcurrentWrites(true)}
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

// askList is for what is read into memory as a whole. It bounds all that comes in meanwhile, of which lists are the least.
func (c *client) askList(do func() error) error {
	return c.wait(&asked{since: time.Now(), patience: c.patience, most: c.conn.bytes.Load() + maxList}, do)
}

// maxList bounds what a host may send as one list, in bytes, with what else comes in meanwhile.
const maxList = 1 << 30

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
				_ = c.conn.Close() // whoever waits gets an error
				return
			}
		}
	}
}

func (c *client) givenUp(now time.Time) bool {
	last := time.Unix(0, c.conn.at.Load())
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
		case a.most > 0 && c.conn.bytes.Load() > a.most:
			c.fault = "the host sends a list that does not end"
		}
	}
	return c.fault != ""
}

func (c *client) close() error {
	err := c.ssh.Close()
	if errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// plain gives errors of the protocol the meaning that those of storage have. The messages are the host's: what cannot be shown is dropped.
func plain(err error) error {
	var status *sftp.StatusError
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission), errors.Is(err, fs.ErrExist):
		return err
	case errors.Is(err, sftp.ErrSSHFxConnectionLost), errors.Is(err, sftp.ErrSSHFxNoConnection), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, net.ErrClosed), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, os.ErrClosed):
		return fmt.Errorf("%w: the connection to the host was cut (%w)", storage.ErrLost, err)
	case errors.As(err, &status):
		return fmt.Errorf("the host says: %s", storage.Printable(err.Error()))
	}
	return err
}
