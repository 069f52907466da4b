// Package door lets others reach this computer over SSH: its files by SFTP, and where that is wanted its sockets and the commands of its shell.
package door

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// mostSessions are how many a connection has at a time, of files, sockets and commands.
const mostSessions = 64

// Door lets in who may enter. They may do what the user may that runs this process.
type Door struct {
	config *ssh.ServerConfig
	// Fingerprint is that of its host key.
	Fingerprint string
	// Sockets lets them reach sockets of the computer too, and Commands has them run commands of its shell.
	Sockets, Commands bool
}

// Open reads the public keys of who may enter, one a line, and its own key in the folder state, which is made where there is none.
func Open(state, authorized string) (*Door, error) {
	text, err := os.ReadFile(authorized)
	if err != nil {
		return nil, fmt.Errorf("reading the keys of who may enter: %w", err)
	}
	known := map[string]bool{}
	for len(text) > 0 {
		key, _, _, rest, err := ssh.ParseAuthorizedKey(text)
		if err != nil {
			break // nothing but empty lines is left
		}
		known[string(key.Marshal())], text = true, rest
	}
	if len(known) == 0 {
		return nil, fmt.Errorf("%s has no public key: nobody could enter", authorized)
	}
	return open(state, &ssh.ServerConfig{
		PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if !known[string(key.Marshal())] {
				return nil, errors.New("an unknown key")
			}
			return &ssh.Permissions{}, nil
		},
	})
}

// OpenInside opens one for connections over which both sides have shown who they are already: nobody shows a key there.
func OpenInside(state string) (*Door, error) {
	return open(state, &ssh.ServerConfig{NoClientAuth: true})
}

func open(state string, config *ssh.ServerConfig) (*Door, error) {
	signer, err := hostKey(filepath.Join(state, "host_key"))
	if err != nil {
		return nil, err
	}
	config.AddHostKey(signer)
	return &Door{Fingerprint: ssh.FingerprintSHA256(signer.PublicKey()), config: config}, nil
}

func hostKey(name string) (ssh.Signer, error) {
	text, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(private, "")
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(block)
		if err := os.WriteFile(name, text, 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKey(text)
}

// Serve lets in whoever comes until the listener is closed.
func (d *Door) Serve(l net.Listener) error {
	for {
		conn, err := l.Accept()
		if err != nil {
			return err
		}
		go d.ServeConn(conn)
	}
}

// ServeConn lets in who is at the other end of a connection, until one of both closes it.
func (d *Door) ServeConn(conn net.Conn) {
	defer conn.Close()
	_, channels, requests, err := ssh.NewServerConn(conn, d.config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	free := make(chan struct{}, mostSessions)
	for c := range channels {
		select {
		case free <- struct{}{}:
			go func() {
				d.serve(c)
				<-free
			}()
		default:
			_ = c.Reject(ssh.ResourceShortage, "there are too many at a time") // it is gone otherwise
		}
	}
}

// serve serves a channel until one of both sides closes it.
func (d *Door) serve(c ssh.NewChannel) {
	switch {
	case d.Sockets && c.ChannelType() == "direct-streamlocal@openssh.com":
		toSocket(c)
	case c.ChannelType() != "session":
		_ = c.Reject(ssh.UnknownChannelType, "files only") // it is gone otherwise
	default:
		if channel, requests, err := c.Accept(); err == nil {
			d.session(channel, requests)
		}
	}
}

// toSocket connects a channel with a socket (OpenSSH, PROTOCOL, 2.4).
func toSocket(c ssh.NewChannel) {
	var to struct {
		Path, Reserved string
		More           uint32
	}
	if err := ssh.Unmarshal(c.ExtraData(), &to); err != nil {
		_ = c.Reject(ssh.ConnectionFailed, err.Error()) // it is gone otherwise
		return
	}
	socket, err := net.Dial("unix", to.Path)
	if err != nil {
		_ = c.Reject(ssh.ConnectionFailed, err.Error()) // likewise
		return
	}
	channel, requests, err := c.Accept()
	if err != nil {
		_ = socket.Close() // nobody is there
		return
	}
	go ssh.DiscardRequests(requests)
	go func() {
		_, _ = io.Copy(socket, channel) // until one of both ends
		_ = socket.Close()
	}()
	_, _ = io.Copy(channel, socket)
	_ = channel.Close()
}

// session serves a channel: files, or one command (RFC 4254, section 6.5).
func (d *Door) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for r := range requests {
		var wants struct{ Word string }
		err := ssh.Unmarshal(r.Payload, &wants)
		files := err == nil && r.Type == "subsystem" && wants.Word == "sftp"
		command := err == nil && r.Type == "exec" && d.Commands
		_ = r.Reply(files || command, nil) // likewise
		switch {
		case command:
			go ssh.DiscardRequests(requests)
			run(channel, wants.Word)
			return
		case files:
			if s, err := sftp.NewServer(channel); err == nil {
				_ = s.Serve() // until it has gone
			}
			return
		}
	}
}

// run runs a command, and says how it ended (RFC 4254, section 6.10).
func run(channel ssh.Channel, command string) {
	cmd := exec.Command("sh", "-c", command)
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = channel, channel.Stderr(), time.Second
	in, err := cmd.StdinPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err == nil {
		go func() {
			_, _ = io.Copy(in, channel) // until one of both ends
			_ = in.Close()
		}()
		_ = cmd.Wait() // its state says how it ended
	}
	code := uint32(1)
	if cmd.ProcessState != nil {
		code = uint32(max(1, cmd.ProcessState.ExitCode()))
		if cmd.ProcessState.Success() {
			code = 0
		}
	}
	_ = channel.CloseWrite() // the other side may have gone
	_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code}))
}
