package sftp

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"bagaglio/core/storage"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

const (
	// maxList bounds what a host may send as one list, in bytes: an entry takes about 200 (OpenSSH). Lists are read into memory as a whole.
	maxList = 48 << 20
	// maxInAll bounds what may come in meanwhile, in bytes, where a list has no channel of its own: that is looked at each second.
	maxInAll = 1 << 30
	// listFor bounds how long it may take for one.
	listFor = 5 * time.Minute
)

// listing reads lists, through a channel of its own, so that what else comes in does not count.
type listing struct {
	mu   sync.Mutex
	sftp *sftp.Client
	in   *counted
}

// counted fails when more is read than may come.
type counted struct {
	io.Reader
	left int
}

var errEndless = fmt.Errorf("the host sends a list of more than %d bytes: has the folder no end, or too many files in it", maxList)

func (c *counted) Read(p []byte) (int, error) {
	if c.left <= 0 {
		return 0, errEndless
	}
	n, err := c.Reader.Read(p[:min(len(p), c.left)])
	c.left -= n
	return n, err
}

// readDir returns what lies in a folder.
func (c *client) readDir(full string) (found []os.FileInfo, err error) {
	l := &c.lists
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.sftp == nil {
		err = c.ask(func() error { return l.begin(c.wires[0]) })
	}
	now := time.Now()
	asks := &asked{since: now, patience: c.patience, until: now.Add(listFor)}
	if err != nil { // the host allows no more channels
		asks.most = c.bytes.Load() + maxInAll
		err = c.wait(asks, func() (err error) {
			found, err = c.sftp.ReadDir(full)
			return err
		})
		return found, err
	}
	l.in.left = maxList
	err = c.wait(asks, func() (err error) {
		found, err = l.sftp.ReadDir(full)
		return err
	})
	if l.in.left <= 0 {
		err = errEndless
	}
	if errors.Is(err, errEndless) || errors.Is(err, storage.ErrLost) { // the next list gets another one
		_ = l.sftp.Close() // it may be gone
		l.sftp, found = nil, nil
	}
	return found, err
}

func (l *listing) begin(wire *ssh.Client) (err error) {
	l.sftp, err = transfer(wire, func(r io.Reader) io.Reader {
		l.in = &counted{r, maxList}
		return l.in
	}, smallPacket)
	return err
}
