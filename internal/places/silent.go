package places

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"bagaglio/core/storage"
)

const (
	// slow is how long it takes at least for a host that does not answer to be taken for silent, and silentFor how long it is then not asked again: a
	// plan asks one host many times, and would wait each time.
	slow      = 5 * time.Second
	silentFor = 20 * time.Second
)

// silence is what is known of hosts that did not answer, by their addresses.
type silence struct {
	mu    sync.Mutex
	hosts map[string]silent
}

type silent struct {
	since time.Time
	err   error
}

// of returns why a host is not asked now, nil where it is.
func (s *silence) of(address string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	known, ok := s.hosts[address]
	if !ok || time.Since(known.since) > silentFor {
		return nil
	}
	return fmt.Errorf("%w (%s ago)", known.err, time.Since(known.since).Round(time.Second))
}

// note keeps what came of asking a host.
func (s *silence) note(address string, asked time.Time, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.hosts, address)
	if errors.Is(err, storage.ErrLost) && time.Since(asked) > slow {
		if s.hosts == nil {
			s.hosts = map[string]silent{}
		}
		s.hosts[address] = silent{time.Now(), err}
	}
}

// forget has a host be asked again.
func (s *silence) forget(address string) { s.note(address, time.Now(), nil) }
