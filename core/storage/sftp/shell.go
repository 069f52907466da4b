package sftp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"
)

// shell is a POSIX shell on the host that runs small commands one after the other, so that none of them waits for a login.
type shell struct {
	mu      sync.Mutex
	session *ssh.Session
	in      io.Writer
	out     *bufio.Reader
	none    bool // the host runs no commands
}

const (
	// hello and done are lines that only a shell prints.
	hello, done = "bagaglio-shell", "bagaglio-done:"
	// maxSaid is how much of what a command prints is kept, in bytes.
	maxSaid = 64 << 10
	// maxPrinted bounds what a command may print at all.
	maxPrinted = 4 << 20
)

// errNoShell is the error for a host that runs no commands.
var errNoShell = errors.New("the host runs no commands for us")

// shell runs a command and returns what it prints. It fails when the command does.
func (c *client) shell(command string) (said string, err error) {
	s := &c.sh
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.none {
		return "", errNoShell
	}
	err = c.askFor(syncPatience, func() error {
		if s.session == nil {
			if err := s.begin(c.wires[0]); err != nil {
				s.none = true
				return errors.Join(errNoShell, err)
			}
		}
		var code string
		said, code, err = s.do(command)
		if err != nil { // the next command gets another shell
			_ = s.session.Close() // it may be gone
			s.session = nil
			return err
		}
		if code != "0" {
			return fmt.Errorf("the host's command ended with %s", code)
		}
		return nil
	})
	return said, err
}

func (s *shell) begin(conn *ssh.Client) error {
	session, err := newSession(conn)
	if err != nil {
		return err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return err
	}
	if err := session.Start("echo " + hello + "; exec sh"); err != nil {
		return errors.Join(err, session.Close())
	}
	s.in, s.out = in, bufio.NewReaderSize(out, maxSaid)
	if line, err := s.out.ReadSlice('\n'); err != nil || string(line) != hello+"\n" {
		return errors.Join(errors.New("it answered something else"), session.Close())
	}
	s.session = session
	return nil
}

// do runs a command, and returns what it printed and how it ended.
func (s *shell) do(command string) (said, code string, err error) {
	if _, err := fmt.Fprintf(s.in, "( %s ) </dev/null 2>/dev/null; echo %s$?\n", command, done); err != nil {
		return "", "", err
	}
	for read := 0; read < maxPrinted; {
		line, err := s.out.ReadSlice('\n') // of one that is too long, only a part
		read += len(line)
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return "", "", err
		}
		if code, ok := strings.CutPrefix(string(line), done); ok {
			return said, strings.TrimSpace(code), nil
		}
		if len(said) < maxSaid {
			said += string(line)
		}
	}
	return "", "", fmt.Errorf("the host's command prints more than %d bytes", maxPrinted)
}
