// Package places knows hosts and pools: how they are reached, what they can do, and what lies in them.
package places

import (
	"context"
	"log/slog"
	"net"
	"sync"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/internal/records"
	"bagaglio/internal/rounds"
	"bagaglio/internal/vault"

	"golang.org/x/sync/singleflight"
)

// Places are the hosts and pools of the service.
type Places struct {
	records *records.Records
	log     *slog.Logger
	vault   *vault.Vault
	kept    *local.Kept // the state folder
	mark    string      // a file by which the state folder of any service is known
	secrets string
	hold    time.Duration

	mu      sync.Mutex
	folders map[string]storage.Folder // open pools by name
	opening singleflight.Group        // of pools by name

	spaces  spaces
	silence silence
	rounds  *rounds.Rounds // through pools
	watcher *rounds.Watcher
	looks   looks
	lists   *lists
	// porter connects to the computer of a porter, over a connection that the porter has made; nil where there are none.
	porter func(ctx context.Context, name string) (net.Conn, error)
}

// ReachPorters has hosts with a porter be reached in that way.
func (s *Places) ReachPorters(dial func(ctx context.Context, name string) (net.Conn, error)) {
	s.porter = dial
}

// Options say how places are used.
type Options struct {
	State string // the state folder, which is no place
	Mark  string // a file by which the state folder of any service is known
	// Secrets is the folder with files that hosts may be logged in to with, empty for none.
	Secrets string
	// Hold is for how long what is replaced is kept.
	Hold time.Duration
}

// Open takes up the places that are on record.
func Open(r *records.Records, v *vault.Vault, o Options, log *slog.Logger) (*Places, error) {
	s := &Places{
		records: r, log: log, vault: v, kept: local.Keep(o.State), mark: o.Mark, secrets: o.Secrets, hold: o.Hold,
		folders: map[string]storage.Folder{},
		lists:   newLists(),
		looks:   looks{far: map[string]far{}, touched: map[string]time.Time{}},
	}
	s.rounds = rounds.New(s.lookThrough)
	s.watcher = rounds.Watch(s.rounds)
	return s, nil
}

// LetGo closes a pool, so that its storage can be taken away, unless somebody still uses it. It is opened again by whoever needs it next.
func (s *Places) LetGo(pool string, used bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, ok := s.folders[pool]
	delete(s.folders, pool)
	if ok && !used { // otherwise the last job that ends lets go of it
		_ = f.Close()
	}
}

// closeIn is for how long the end of the service waits for looks through pools.
const closeIn = 5 * time.Second

// Close closes all pools.
func (s *Places) Close() error {
	err := s.watcher.Close()
	s.mu.Lock()
	folders := s.folders
	s.folders = map[string]storage.Folder{}
	s.mu.Unlock()
	for _, f := range folders {
		if err := f.Close(); err != nil {
			s.log.Warn("closing a pool", "error", err)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), closeIn)
	defer cancel()
	go func() {
		s.rounds.Close()
		cancel()
	}()
	<-ctx.Done() // a host does not answer: what is found there is kept nowhere
	return err
}
