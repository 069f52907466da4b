// Package sftp keeps the files of a pool on another computer, by the SSH file transfer protocol (draft-ietf-secsh-filexfer-02, with the
// extensions of OpenSSH where the host offers them).
package sftp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"bagaglio/core/storage"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Login says how to reach a host, and how to log in. All ways that are filled in are tried: agent, key, password.
type Login struct {
	Address    string // host:port
	User       string
	Password   string
	Key        []byte // private, PEM (RFC 4716, RFC 7468)
	Passphrase string // of the key
	Agent      string // path of the socket of an SSH agent
	// Patience is for how long the host may say nothing while it is asked something, 0 for the usual time.
	Patience time.Duration
	// Dial connects to a host that is not reached by its address; nil for one that is.
	Dial func(context.Context) (net.Conn, error)
	// HostKey is the fingerprint of the host's public key, SHA256:…; a host that shows another one is refused, and so is any host when
	// it is empty.
	HostKey string
}

// reachIn is for how long reaching a host and logging in may take.
const reachIn = 15 * time.Second

// ShownKey returns the fingerprint of the key that the host at an address shows. Nobody is logged in.
func ShownKey(ctx context.Context, address string) (string, error) {
	_, err := Login{Address: address, User: "nobody"}.dial(ctx)
	var shown *storage.HostKeyError
	if errors.As(err, &shown) {
		return shown.Shown, nil
	}
	return "", err
}

// dial reaches the host, logs in, and asks for file transfer.
func (l Login) dial(ctx context.Context) (*client, error) {
	e := &ear{}
	first, err := l.connect(ctx, e)
	if err != nil {
		return nil, err
	}
	if l.Patience == 0 {
		l.Patience = patience
	}
	c, err := newClient(first, e, l.Patience)
	if err != nil {
		return nil, err
	}
	if c.packet == largePacket {
		if second, err := l.connect(ctx, e); err == nil { // a host that allows only one is slower over a long way
			c.join(second)
		}
		if !c.alive() { // the first has ended meanwhile, and did not know of the second
			_ = c.close()
		}
	}
	_ = c.ask(c.addLanes) // likewise
	return c, nil
}

// connect reaches the host and logs in.
func (l Login) connect(ctx context.Context, e *ear) (*ssh.Client, error) {
	auth, closeAgent, err := l.auth()
	if err != nil {
		return nil, err
	}
	defer closeAgent()
	dial := l.Dial
	if dial == nil {
		dial = func(ctx context.Context) (net.Conn, error) {
			return (&net.Dialer{Timeout: reachIn}).DialContext(ctx, "tcp", l.Address)
		}
	}
	raw, err := dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w: reaching %s: %w", storage.ErrLost, l.Address, err)
	}
	conn := e.listen(raw)
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	defer stop()
	_ = raw.SetDeadline(time.Now().Add(reachIn)) // never fails on a TCP connection
	var refused *storage.HostKeyError
	config := &ssh.ClientConfig{User: l.User, Auth: auth, HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if shown := ssh.FingerprintSHA256(key); shown != l.HostKey {
			refused = &storage.HostKeyError{Address: l.Address, Trusted: l.HostKey, Shown: shown}
			return refused
		}
		return nil
	}}
	sshConn, channels, requests, err := ssh.NewClientConn(conn, l.Address, config)
	if err != nil {
		_ = raw.Close() // the first error says more
		if refused != nil {
			return nil, refused
		}
		return nil, l.explain(err)
	}
	_ = raw.SetDeadline(time.Time{})
	return ssh.NewClient(sshConn, channels, requests), nil
}

// explain tells what did not work of logging in.
func (l Login) explain(err error) error {
	var lost net.Error
	if errors.As(err, &lost) && lost.Timeout() {
		return fmt.Errorf("%w: %s did not answer within %s", storage.ErrLost, l.Address, reachIn)
	}
	if l.Dial != nil { // over a connection that is somebody's already, and that has ended
		return fmt.Errorf("%w: reaching %s: %w", storage.ErrLost, l.Address, err)
	}
	if l.Password == "" && l.Key == nil && l.Agent == "" {
		return fmt.Errorf("logging in to %s as %s: there is no password, key or agent to log in with: %w", l.Address, l.User, err)
	}
	return fmt.Errorf("logging in to %s as %s: %w", l.Address, l.User, err)
}

// auth are the ways to log in. The agent is needed until that is done.
func (l Login) auth() (methods []ssh.AuthMethod, done func(), err error) {
	done = func() {}
	if l.Agent != "" {
		conn, err := net.Dial("unix", l.Agent)
		if err != nil {
			return nil, done, fmt.Errorf("reaching the SSH agent: %w; start it, or log in with a key or a password", err)
		}
		done = func() { _ = conn.Close() }
		methods = append(methods, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
	}
	if l.Key != nil {
		signer, err := l.signer()
		if err != nil {
			return nil, done, err
		}
		methods = append(methods, ssh.PublicKeys(signer))
	}
	if l.Password != "" {
		methods = append(
			methods,
			ssh.Password(l.Password),
			ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = l.Password
				}
				return answers, nil
			}),
		)
	}
	return methods, done, nil
}

func (l Login) signer() (ssh.Signer, error) {
	var signer ssh.Signer
	var err error
	if l.Passphrase != "" {
		signer, err = ssh.ParsePrivateKeyWithPassphrase(l.Key, []byte(l.Passphrase))
	} else {
		signer, err = ssh.ParsePrivateKey(l.Key)
	}
	var missing *ssh.PassphraseMissingError
	if errors.As(err, &missing) {
		return nil, errors.New("the private key has a passphrase: give it too")
	}
	if err != nil {
		return nil, fmt.Errorf("reading the private key: %w", err) // which never says what is in it
	}
	return signer, nil
}

// AgentSocket is that of the SSH agent of whoever runs this process, empty without one.
func AgentSocket() string { return os.Getenv("SSH_AUTH_SOCK") }
