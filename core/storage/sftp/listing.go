package sftp

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

const (
	// maxList bounds what a host may send as one list, in bytes: an entry takes about 200 (OpenSSH). Lists are read into memory as a whole.
	maxList = 48 << 20
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
	err = c.wait(&asked{since: time.Now(), patience: c.patience, until: time.Now().Add(listFor)}, func() (err error) {
		if l.sftp == nil {
			if err := l.begin(c.wires[0]); err != nil {
				return fmt.Errorf("opening a channel for lists: %w", err)
			}
		}
		l.in.left = maxList
		found, err = l.sftp.ReadDir(full)
		return err
	})
	if l.in != nil && l.in.left <= 0 {
		err = errEndless
	}
	if err != nil && l.sftp != nil && (errors.Is(err, errEndless) || !c.alive()) { // the next list gets another one
		_ = l.sftp.Close() // it may be gone
		l.sftp, found = nil, nil
	}
	return found, err
}

func (l *listing) begin(wire *ssh.Client) error {
	session, err := wire.NewSession()
	if err != nil {
		return err
	}
	in, errIn := session.StdinPipe()
	out, errOut := session.StdoutPipe()
	if err = errors.Join(errIn, errOut); err == nil {
		err = session.RequestSubsystem("sftp")
	}
	if err == nil {
		l.in = &counted{out, maxList}
		l.sftp, err = sftp.NewClientPipe(l.in, in, options(smallPacket)...)
	}
	if err != nil {
		return errors.Join(err, session.Close())
	}
	return nil
}
