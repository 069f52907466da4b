// Package porters knows the computers near storage that work for the service: who is invited and joins, how they are reached, and what they do. They connect to the service,
// which never connects to them.
package porters

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/storage/sftp"
	"bagaglio/internal/authority"
	"bagaglio/internal/engine"
	"bagaglio/internal/errand"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/nats-io/nats.go"
)

// InvitedFor is for how long an invitation is good.
const InvitedFor = 24 * time.Hour

var porterName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Porters are those of a service.
type Porters struct {
	records *records.Records
	places  *places.Places
	log     *slog.Logger
	options Options

	starting  sync.Mutex
	authority *authority.Authority
	engine    *engine.Engine
	conn      *nats.Conn
	listener  io.Closer

	mu      sync.Mutex
	address string                            // that it listens at
	lines   map[string]chan *line             // that wait to be used, by porters
	open    map[string]map[io.Closer]struct{} // connections, likewise
	errands map[key]*running
	pairs   map[pair]reached
	reached func(porter string) // is told that a porter has connected
}

// Porter is one as it is shown.
type Porter struct {
	store.Porter
	Connected bool
	Is        errand.Said
	Outdated  bool    // it is of another version than the service
	Jobs      []int64 // that it does now
}

// Options say how porters are reached.
type Options struct {
	State   string // the folder for what they need
	Listen  string // address that they connect to, empty for none
	Version string // of the service
}

// Open makes those ready that have joined earlier. Nobody is listened to, and nothing is started, before the first is invited.
func Open(ctx context.Context, r *records.Records, p *places.Places, o Options, log *slog.Logger) (*Porters, error) {
	s := &Porters{
		records: r, places: p, log: log, options: o,
		lines: map[string]chan *line{}, open: map[string]map[io.Closer]struct{}{}, errands: map[key]*running{}, pairs: map[pair]reached{},
	}
	p.ReachPorters(s.Dial)
	all, err := r.Porters(ctx)
	if err != nil || len(all) == 0 || o.Listen == "" {
		return s, err
	}
	return s, s.start()
}

// WhenConnected has somebody be told when a porter has connected.
func (s *Porters) WhenConnected(told func(porter string)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.reached = told
}

// start starts the engine and listens, unless that has been done.
func (s *Porters) start() (err error) {
	s.starting.Lock()
	defer s.starting.Unlock()
	if s.listener != nil {
		return nil
	}
	if s.options.Listen == "" {
		return fmt.Errorf("%w: the service listens to no porters: start it with --porters ADDRESS", records.ErrState)
	}
	folder := filepath.Join(s.options.State, "porters")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	if s.authority == nil {
		if s.authority, err = authority.Open(folder); err != nil {
			return err
		}
	}
	if s.engine == nil {
		if err := s.startEngine(folder); err != nil {
			return err
		}
	}
	return s.listen()
}

// Invite makes an invitation for a porter of a name, whose host gets that name too.
func (s *Porters) Invite(ctx context.Context, name string) (Invitation, error) {
	if !porterName.MatchString(name) || name == places.LocalHost {
		return Invitation{}, fmt.Errorf(
			"%w: the porter's name %q may have small letters, digits and hyphens only, at most 63, and is not %s",
			records.ErrInvalid,
			name,
			places.LocalHost,
		)
	}
	if h, err := s.places.Host(ctx, name); err == nil && h.Kind != sftp.Porter {
		return Invitation{}, fmt.Errorf("%s is a host already, which is reached otherwise: the name is %w", name, store.ErrTaken)
	}
	if err := s.start(); err != nil {
		return Invitation{}, err
	}
	secret, err := newSecret()
	if err != nil {
		return Invitation{}, err
	}
	now := time.Now()
	if err := s.records.InvitePorter(ctx, name, hashOf(secret), now); err != nil {
		return Invitation{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return Invitation{
		Porter:    name,
		Secret:    secret,
		Authority: string(s.authority.PEM()),
		Listens:   s.address,
		Expires:   now.Add(InvitedFor),
	}, nil
}

// Invitation is what a porter joins with, once.
type Invitation struct {
	Porter    string    `json:"porter"`
	Secret    string    `json:"secret"`
	Authority string    `json:"authority"` // in PEM: what the service is known by
	Listens   string    `json:"listens"`   // the address that the service listens at
	Expires   time.Time `json:"expires"`
}

func newSecret() (string, error) {
	b := make([]byte, 32)
	_, err := rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b), err
}

func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// List returns all, by their names.
func (s *Porters) List(ctx context.Context) ([]Porter, error) {
	rows, err := s.records.Porters(ctx)
	all := make([]Porter, len(rows))
	for i, p := range rows {
		all[i] = s.now(p)
	}
	return all, err
}

// Porter returns one, or store.ErrNotFound.
func (s *Porters) Porter(ctx context.Context, name string) (Porter, error) {
	p, err := s.records.Porter(ctx, name)
	if err != nil {
		return Porter{}, fmt.Errorf("porter %q: %w", name, err)
	}
	return s.now(p), nil
}

// now is a porter with what is known of it at present.
func (s *Porters) now(p store.Porter) Porter {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := Porter{Porter: p, Connected: len(s.open[p.Name]) > 0, Jobs: []int64{}}
	_ = json.Unmarshal([]byte(p.Said), &out.Is) // what another version said, or nothing
	out.Outdated = out.Is.Version != "" && out.Is.Version != s.options.Version
	for k := range s.errands {
		if k.porter == p.Name {
			out.Jobs = append(out.Jobs, k.job)
		}
	}
	slices.Sort(out.Jobs)
	return out
}

// Pause has a porter be given no more work, or again. What it does goes on.
func (s *Porters) Pause(ctx context.Context, name string, paused bool) (Porter, error) {
	if err := s.records.PausePorter(ctx, name, paused); err != nil {
		return Porter{}, fmt.Errorf("porter %q: %w", name, err)
	}
	return s.Porter(ctx, name)
}

// Revoke lets a porter in no more. Its jobs stop where they are, and its host stays as long as it has pools.
func (s *Porters) Revoke(ctx context.Context, name string) error {
	if err := s.records.RemovePorter(ctx, name); err != nil {
		return fmt.Errorf("porter %q: %w", name, err)
	}
	s.mu.Lock()
	all := s.open[name]
	delete(s.open, name)
	delete(s.lines, name)
	maps.DeleteFunc(s.pairs, func(p pair, _ reached) bool { return p.reader == name || p.from.Porter == name })
	s.mu.Unlock()
	for c := range all {
		_ = c.Close() // it may have gone already
	}
	return nil
}

// Any tells whether some have joined, or may.
func (s *Porters) Any(ctx context.Context) bool {
	all, err := s.records.Porters(ctx)
	return err == nil && len(all) > 0
}

// CanWork returns how many jobs a porter does now, and fails for one that can be given no work: with storage.ErrLost for one that is not there.
func (s *Porters) CanWork(ctx context.Context, name string) (jobs int, err error) {
	p, err := s.Porter(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return 0, fmt.Errorf("%w: there is no porter %s", storage.ErrLost, name)
	case err != nil:
		return 0, err
	case !p.Connected:
		return 0, fmt.Errorf("%w: the porter %s is not connected", storage.ErrLost, name)
	case p.Paused:
		return 0, fmt.Errorf("the porter %s is paused", name)
	}
	return len(p.Jobs), nil
}

// Close ends everything. What porters do goes on when the service is started again.
func (s *Porters) Close() {
	s.mu.Lock()
	all := s.open
	s.open = map[string]map[io.Closer]struct{}{}
	s.mu.Unlock()
	if s.listener != nil {
		_ = s.listener.Close() // nobody waits for it any more
	}
	for _, of := range all {
		for c := range of {
			_ = c.Close() // likewise
		}
	}
	if s.conn != nil {
		s.conn.Close()
	}
	if s.engine != nil {
		s.engine.Close()
	}
}
