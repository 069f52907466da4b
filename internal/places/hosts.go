package places

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/storage"
	_ "bagaglio/core/storage/http"
	"bagaglio/core/storage/local"
	_ "bagaglio/core/storage/sftp"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// KindLocal is the kind of the service's own computer. The others are registered (core/storage).
const KindLocal = "local"

// LocalHost is the service's own computer.
const LocalHost = "local"

// Host is one as it is shown. What it is logged in to with is not told, only of which sorts that is.
type Host struct {
	store.Host
	LogsInWith []string   // SortAgent, SortKey, SortPassword
	Runs       store.Runs // what runs machines there; the zero value for nothing
}

// Sorts of what a host is logged in to with.
const (
	SortAgent    = "agent"
	SortKey      = "key"
	SortPassword = "password"
)

// Login is what a host is logged in to with, as it was given: a secret may be the name of a file or variable.
type Login struct {
	Agent      *bool   `json:"agent,omitempty"`
	Key        *string `json:"key,omitempty"`
	Passphrase *string `json:"passphrase,omitempty"`
	Password   *string `json:"password,omitempty"`
}

// HostChange changes how a host is reached, or which key is trusted. Nil leaves one as it is.
type HostChange struct {
	Address, User, TrustedKey *string
	Login                     *Login
	// Runs is the kind of what runs machines there, empty for nothing, and Socket where it is reached on the host.
	Runs, Socket *string
}

// AddHost adds a host. One with SSH is trusted only when the key that it shows is named.
func (s *Places) AddHost(ctx context.Context, name, kind string, change HostChange) (Host, error) {
	if !placeName.MatchString(name) || name == LocalHost {
		return Host{}, fmt.Errorf(
			"%w: the host's name %q may have small letters, digits and hyphens only, at most 63, begins with a letter or digit, and is not %s",
			records.ErrInvalid,
			name,
			LocalHost,
		)
	}
	h := store.Host{Name: name, Kind: kind, Login: s.vault.lock(name, []byte("{}"))}
	if err := s.apply(ctx, &h, change); err != nil {
		return Host{}, err
	}
	if err := s.records.AddHost(ctx, h, time.Now()); err != nil {
		return Host{}, err
	}
	if err := s.setRuns(ctx, name, change); err != nil {
		return Host{}, err
	}
	return s.Host(ctx, name)
}

// setRuns changes what runs machines on a host.
func (s *Places) setRuns(ctx context.Context, name string, change HostChange) error {
	if change.Runs == nil && change.Socket == nil {
		return nil
	}
	now, err := s.runs(ctx, name)
	if err != nil {
		return err
	}
	if change.Runs != nil {
		now.Kind = *change.Runs
	}
	if change.Socket != nil {
		now.Socket = *change.Socket
	}
	if now.Kind != "" {
		if _, err := host.Lookup(now.Kind); err != nil {
			return fmt.Errorf("%w: %w", records.ErrInvalid, err)
		}
		if !filepath.IsAbs(now.Socket) {
			return fmt.Errorf("%w: name the socket of what runs machines on %s, with its whole path", records.ErrInvalid, name)
		}
	}
	return s.records.SetRuns(ctx, now)
}

// runs is what runs machines on a host.
func (s *Places) runs(ctx context.Context, name string) (store.Runs, error) {
	all, err := s.records.Running(ctx)
	for _, r := range all {
		if r.Host == name {
			return r, nil
		}
	}
	return store.Runs{Host: name}, err
}

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

// through is a connection that ends with the one that it goes through.
type through struct {
	net.Conn
	folder storage.Folder
}

func (t through) Close() error { return errors.Join(t.Conn.Close(), t.folder.Close()) }

// ChangeHost changes how a host is reached, or which key is trusted. Its pools are opened anew.
func (s *Places) ChangeHost(ctx context.Context, name string, change HostChange) (Host, error) {
	if name == LocalHost {
		if change.Address != nil || change.User != nil || change.TrustedKey != nil || change.Login != nil {
			return Host{}, fmt.Errorf("%w: of the service's own computer only what runs machines there can be changed", records.ErrInvalid)
		}
		if err := s.setRuns(ctx, name, change); err != nil {
			return Host{}, err
		}
		return s.Host(ctx, name)
	}
	h, err := s.host(ctx, name)
	if err != nil {
		return Host{}, err
	}
	if err := s.apply(ctx, &h, change); err != nil {
		return Host{}, err
	}
	if err := s.records.ChangeHost(ctx, h); err != nil {
		return Host{}, err
	}
	if err := s.setRuns(ctx, name, change); err != nil {
		return Host{}, err
	}
	v, err := s.Host(ctx, name)
	return v, errors.Join(err, s.forget(ctx, name))
}

// forget closes the pools of a host, to be opened anew.
func (s *Places) forget(ctx context.Context, host string) error {
	pools, err := s.records.Pools(ctx)
	if err != nil {
		return err
	}
	for _, p := range pools {
		if p.Host == host {
			s.mu.Lock()
			f, ok := s.folders[p.Name]
			delete(s.folders, p.Name)
			s.mu.Unlock()
			if ok {
				_ = f.Close() // it may be cut off already
			}
			s.spaces.forget(p.Name)
		}
	}
	return nil
}

// apply checks a change and makes it in a record.
func (s *Places) apply(ctx context.Context, h *store.Host, change HostChange) error {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: "+format, append([]any{records.ErrInvalid}, args...)...)
	}
	if change.User != nil {
		h.User = *change.User
	}
	if change.Login != nil {
		b, err := json.Marshal(change.Login)
		if err != nil {
			return err
		}
		h.Login = s.vault.lock(h.Name, b)
	}
	if change.TrustedKey != nil {
		h.TrustedKey = *change.TrustedKey
	}
	if change.Address != nil {
		before := *h
		h.Address = *change.Address
		if change.Login == nil && len(h.Login) > 0 && before.Address != "" && serverOf(before) != serverOf(*h) {
			login, err := s.login(before)
			if err == nil && given(login.Password) != "" {
				err = wrong("it is another computer: give the password again, which is not sent there unasked")
			}
			if err != nil {
				return err
			}
		}
	}
	kind, err := storage.LookupKind(h.Kind)
	if err != nil {
		return wrong("%v", err)
	}
	server := storage.Server{Address: h.Address, User: h.User, TrustedKey: h.TrustedKey}
	if err := kind.Check(&server); err != nil {
		return wrong("%v", err)
	}
	h.Address = server.Address
	if kind.ShownKey == nil {
		return nil
	}
	if change.TrustedKey == nil && change.Address == nil {
		return nil
	}
	shown, err := kind.ShownKey(ctx, h.Address)
	if err != nil {
		return fmt.Errorf("asking the host for its key: %w", err)
	}
	if h.ShownKey = shown; h.TrustedKey != "" && shown != h.TrustedKey {
		return fmt.Errorf("%w: %w", records.ErrState, &storage.HostKeyError{Address: h.Address, Trusted: h.TrustedKey, Shown: shown})
	}
	return nil
}

// Hosts returns all hosts, the service's own computer first.
func (s *Places) Hosts(ctx context.Context) ([]Host, error) {
	all, err := s.records.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	out := []Host{{Host: store.Host{Name: LocalHost, Kind: KindLocal}}}
	for _, h := range all {
		out = append(out, s.viewHost(h))
	}
	for i, h := range out {
		if out[i].Runs, err = s.runs(ctx, h.Name); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Host returns one host.
func (s *Places) Host(ctx context.Context, name string) (Host, error) {
	all, err := s.Hosts(ctx)
	for _, h := range all {
		if h.Name == name {
			return h, nil
		}
	}
	if err == nil {
		err = fmt.Errorf("host %q: %w", name, store.ErrNotFound)
	}
	return Host{}, err
}

func (s *Places) viewHost(h store.Host) Host {
	v := Host{Host: h}
	login, err := s.login(h)
	if err != nil {
		return v // with nothing: what it was cannot be read any more
	}
	if login.Agent != nil && *login.Agent {
		v.LogsInWith = append(v.LogsInWith, SortAgent)
	}
	if given(login.Key) != "" {
		v.LogsInWith = append(v.LogsInWith, SortKey)
	}
	if given(login.Password) != "" {
		v.LogsInWith = append(v.LogsInWith, SortPassword)
	}
	return v
}

// given is a text that may be absent.
func given(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// login is what a host is logged in to with, as it was given.
func (s *Places) login(h store.Host) (l Login, err error) {
	b, err := s.vault.open(h.Name, h.Login)
	if err != nil {
		return l, err
	}
	return l, json.Unmarshal(b, &l)
}

// RemoveHost forgets a host that has no pools.
func (s *Places) RemoveHost(ctx context.Context, name string) error {
	pools, err := s.records.Pools(ctx)
	if err != nil {
		return err
	}
	for _, p := range pools {
		if p.Host == name {
			return fmt.Errorf("%w: the pool %s lies on the host %s: forget it first", records.ErrState, p.Name, name)
		}
	}
	if err := s.records.RemoveHost(ctx, name); err != nil {
		return fmt.Errorf("host %q: %w", name, err)
	}
	return nil
}

func (s *Places) host(ctx context.Context, name string) (store.Host, error) {
	h, err := s.records.Host(ctx, name)
	if err != nil {
		return h, fmt.Errorf("host %q: %w", name, err)
	}
	return h, nil
}

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
	return kind.Open(ctx, server, folder)
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
