package places

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/storage/sftp"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// Dial connects to a socket on a host: of this computer at once, of another one through the connection that files come over.
func (s *Places) Dial(ctx context.Context, name, network, address string) (net.Conn, error) {
	if name == LocalHost {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	folder, err := s.reach(ctx, name, "/")
	if err != nil {
		return nil, err
	}
	d, ok := storage.As[storage.Dialer](folder)
	if !ok {
		return nil, errors.Join(
			fmt.Errorf("%w: nothing can be reached through the host %s: it has to be one with SSH", records.ErrInvalid, name),
			folder.Close(),
		)
	}
	conn, err := d.Dial(ctx, network, address)
	if err != nil {
		return nil, errors.Join(err, folder.Close())
	}
	return through{conn, folder}, nil
}

// Listen waits for connections that programs on a host make to an address of its own computer, empty for any. The caller closes the listener.
func (s *Places) Listen(ctx context.Context, name, own string) (net.Listener, error) {
	if own == "" {
		own = "127.0.0.1:0"
	}
	h, err := s.Host(ctx, name)
	if err != nil {
		return nil, err
	}
	if name == LocalHost || isHere(h.Address) {
		return (&net.ListenConfig{}).Listen(ctx, "tcp", own)
	}
	folder, err := s.reach(ctx, name, "/")
	if err != nil {
		return nil, err
	}
	d, ok := storage.As[storage.Dialer](folder)
	if !ok {
		return nil, errors.Join(
			fmt.Errorf("%w: the host %s cannot reach this computer: it has to be one with SSH", records.ErrInvalid, name),
			folder.Close(),
		)
	}
	l, err := d.Listen(ctx, "tcp", own)
	if err != nil {
		return nil, errors.Join(err, folder.Close())
	}
	return heard{l, folder}, nil
}

// Apart fails for a folder of this computer that is the service's own, or lies in that.
func (s *Places) Apart(folder string) error {
	f, err := local.OpenApart(folder, s.kept)
	if err != nil {
		return fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	return f.Close()
}

// isHere tells whether the address of a host is this computer's own.
func isHere(address string) bool {
	name, _, err := net.SplitHostPort(address)
	if err != nil {
		name = address
	}
	ip := net.ParseIP(name)
	return name == "localhost" || ip != nil && ip.IsLoopback()
}

// heard is a listener that ends with what its connections come through.
type heard struct {
	net.Listener
	folder storage.Folder
}

func (h heard) Close() error { return errors.Join(h.Listener.Close(), h.folder.Close()) }

// through is a connection that ends with the one that it goes through.
type through struct {
	net.Conn
	folder storage.Folder
}

func (t through) Close() error { return errors.Join(t.Conn.Close(), t.folder.Close()) }

// reach opens a folder on a host.
func (s *Places) reach(ctx context.Context, host, folder string) (storage.Folder, error) {
	if host == LocalHost {
		return local.OpenApart(folder, s.kept)
	}
	h, err := s.host(ctx, host)
	if err != nil {
		return nil, err
	}
	login, err := s.login(h)
	if err != nil {
		return nil, err
	}
	password, errPassword := s.fetch(h, given(login.Password))
	key, errKey := s.fetch(h, given(login.Key))
	passphrase, errPhrase := s.fetch(h, given(login.Passphrase))
	if err := errors.Join(errPassword, errKey, errPhrase); err != nil {
		return nil, err
	}
	kind, err := storage.LookupKind(h.Kind)
	if err != nil {
		return nil, err
	}
	server := storage.Server{
		Address:    h.Address,
		User:       h.User,
		Password:   password,
		Passphrase: passphrase,
		TrustedKey: h.TrustedKey,
		Agent:      login.Agent != nil && *login.Agent,
	}
	if key != "" {
		server.Key = []byte(key + "\n")
	}
	if h.Kind == sftp.Porter {
		server.Dial = func(ctx context.Context) (net.Conn, error) { return s.porter(ctx, h.Name) }
	}
	if err := s.silence.of(h.Address); err != nil {
		return nil, err
	}
	asked := time.Now()
	opened, err := kind.Open(ctx, server, folder)
	if ctx.Err() == nil { // otherwise nobody waited for its answer
		s.silence.note(h.Address, asked, err)
	}
	return opened, err
}

// Trial is what came of trying something out.
type Trial struct {
	Worked bool
	Steps  []storage.Tried
	Facts  *storage.Facts // of a pool
}

// TestHost tries a host out.
func (s *Places) TestHost(ctx context.Context, name string) (Trial, error) {
	t := Trial{Worked: true, Steps: []storage.Tried{}}
	tell := teller(&t)
	h := store.Host{Name: LocalHost, Kind: KindLocal}
	if name != LocalHost {
		var err error
		if h, err = s.host(ctx, name); err != nil {
			return t, err
		}
		s.silence.forget(h.Address)
	}
	folder := s.tryToReach(ctx, h, "/", tell)
	if folder == nil {
		return t, nil
	}
	return t, folder.Close()
}

// teller notes the steps of a trial.
func teller(t *Trial) func(storage.Tried) {
	return func(step storage.Tried) {
		t.Steps = append(t.Steps, step)
		t.Worked = t.Worked && step.Worked
	}
}

// tryToReach reaches a folder on a host, step by step, and returns nil when that does not work.
func (s *Places) tryToReach(ctx context.Context, h store.Host, dir string, tell func(storage.Tried)) storage.Folder {
	step, kind := "open", storage.Kind{}
	if h.Kind != KindLocal {
		var err error
		if kind, err = storage.LookupKind(h.Kind); err != nil {
			tell(storage.Tried{Name: "reach", Said: err.Error()})
			return nil
		}
		step = "reach"
	}
	if kind.ShownKey != nil {
		step = "log in"
		start := time.Now()
		shown, err := kind.ShownKey(ctx, h.Address)
		said := "it shows the key " + shown
		if err == nil && shown != h.TrustedKey {
			err = &storage.HostKeyError{Address: h.Address, Trusted: h.TrustedKey, Shown: shown}
		}
		if err != nil {
			said = err.Error()
		}
		tell(storage.Tried{Name: "reach", Worked: err == nil, Said: said, Seconds: time.Since(start).Seconds()})
		if err != nil {
			return nil
		}
	}
	start := time.Now()
	folder, err := s.reach(ctx, h.Name, dir)
	if err == nil && h.Kind != KindLocal && kind.ShownKey == nil { // it says nothing until it is asked
		_, err = folder.Stat(".")
	}
	said := "the folder " + dir + " opens"
	if err != nil {
		said = err.Error()
	}
	tell(storage.Tried{Name: step, Worked: err == nil, Said: said, Seconds: time.Since(start).Seconds()})
	if err != nil {
		return nil
	}
	return folder
}

// Answers has a host be asked again that did not answer: it does now.
func (s *Places) Answers(host string) { s.silence.forget(host) }

// HasPorter tells whether a host is reached through its porter; one that is not known is not.
func (s *Places) HasPorter(ctx context.Context, host string) (bool, error) {
	h, err := s.records.Host(ctx, host)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil && h.Kind == sftp.Porter, err
}
