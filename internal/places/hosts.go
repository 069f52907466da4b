package places

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	_ "bagaglio/core/storage/http"
	_ "bagaglio/core/storage/objects"
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
	// Runs is the kind of what runs machines there, empty for nothing; Socket is where it is reached on the host, or Machines the URL of its API.
	Runs, Socket, Machines *string
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
	h := store.Host{Name: name, Kind: kind, Login: s.vault.Lock(name, []byte("{}"))}
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
	if change.Runs == nil && change.Socket == nil && change.Machines == nil {
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
	if change.Machines != nil {
		now.URL = *change.Machines
	}
	if now.Kind != "" {
		kind, err := host.Lookup(now.Kind)
		if err == nil {
			err = kind.Check(host.Address{Socket: now.Socket, URL: now.URL})
		}
		if err != nil {
			return fmt.Errorf("%w: host %s: %w", records.ErrInvalid, name, err)
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

// forget closes the pools of a host and its disks, to be opened anew.
func (s *Places) forget(ctx context.Context, host string) error {
	pools, err := s.records.Pools(ctx)
	if err != nil {
		return err
	}
	names := []string{plan.DevicesOf(host)}
	for _, p := range pools {
		if p.Host == host {
			names = append(names, p.Name)
		}
	}
	for _, name := range names {
		s.mu.Lock()
		f, ok := s.folders[name]
		delete(s.folders, name)
		s.mu.Unlock()
		if ok {
			_ = f.Close() // it may be cut off already
		}
		s.spaces.forget(name)
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
		h.Login = s.vault.Lock(h.Name, b)
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
	b, err := s.vault.Open(h.Name, h.Login)
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
	return s.forget(ctx, name)
}

func (s *Places) host(ctx context.Context, name string) (store.Host, error) {
	h, err := s.records.Host(ctx, name)
	if err != nil {
		return h, fmt.Errorf("host %q: %w", name, err)
	}
	return h, nil
}
