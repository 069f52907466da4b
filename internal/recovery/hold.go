package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"bagaglio/core/storage/local"

	"filippo.io/age"
	"github.com/google/uuid"
)

// Held is the right of a service to its records, until it is lost or let go of.
type Held struct {
	Term  int64
	place *Place
	me    Holder
	lost  chan error // why it was lost, once
	end   context.CancelFunc
	ended sync.WaitGroup

	mu       sync.Mutex
	revision uint64
	until    time.Time // that it holds them for sure
}

// Hold takes the records in a state folder, or those in the engine where the folder has none and there is a key. It waits for one that held them and is not heard any more.
func (p *Place) Hold(ctx context.Context, o Options, key age.Identity) (*Held, error) {
	m, err := readMember(o.State)
	if err != nil {
		return nil, fmt.Errorf("reading who this service is: %w", err)
	}
	_, err = os.Stat(filepath.Join(o.State, recordsFile))
	has := err == nil
	h, revision, err := p.holder(ctx)
	switch {
	case err != nil:
		return nil, err
	case revision > 0 && has && (m.Term < h.Term || m.ID != h.ID && m.Term == h.Term):
		return nil, isOld(h, o.State)
	case revision > 0 && !has && key == nil:
		return nil, fmt.Errorf(
			"the engine has the records of a service, which %s holds: give the recovery key to take over, or another engine",
			h.Name,
		)
	case revision == 0 && !has && key != nil:
		return nil, errors.New("the engine has no records that could be taken over")
	}
	if m.ID == "" {
		m.ID = uuid.NewString()
	}
	takes := !has && key != nil
	if revision > 0 && h.Run != "" { // it may run still, also from a copy of this folder
		if revision, err = p.silent(ctx, revision, o); err != nil {
			return nil, err
		}
	}
	if takes {
		m.Term = h.Term + 1
	}
	m.Term = max(m.Term, 1)
	name, _ := os.Hostname() // which is for people alone
	held := &Held{Term: m.Term, place: p, me: Holder{Term: m.Term, ID: m.ID, Run: uuid.NewString(), Name: name}, lost: make(chan error, 1)}
	held.me.At = time.Now()
	held.until = held.me.At.Add(leaseFor)
	if held.revision, err = p.put(ctx, held.me, revision); err != nil {
		return nil, fmt.Errorf("taking the records: %w", err)
	}
	if takes {
		found, err := p.Restore(ctx, key, o.State)
		if err != nil {
			return nil, err
		}
		o.Log.Warn("took over the records of another service", "from", h.Name, "as of", found.At, "term", m.Term)
	}
	b, err := json.Marshal(m)
	if err == nil {
		err = local.WriteFile(filepath.Join(o.State, memberFile), b)
	}
	if err != nil {
		return nil, err
	}
	renewing, end := context.WithCancel(context.WithoutCancel(ctx))
	held.end = end
	held.ended.Go(func() { held.renew(renewing) })
	return held, nil
}

// silent waits until whoever holds the records was not heard for as long as it may hold them, by the clock of this computer.
func (p *Place) silent(ctx context.Context, revision uint64, o Options) (uint64, error) {
	o.Log.Info("waiting until whoever held the records does so no more", "for", leaseFor+margin)
	for last := time.Now(); time.Since(last) < leaseFor+margin; {
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(time.Second):
		}
		h, now, err := p.holder(ctx)
		if err != nil {
			return 0, err
		}
		if now != revision {
			o.Log.Warn("the service that holds the records is there: stop it, to take over", "service", h.Name)
			revision, last = now, time.Now()
		}
	}
	return revision, nil
}

// renew makes the service heard until it ends. When it was not heard for too long, or somebody else holds the records, they are lost.
func (h *Held) renew(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(renewEvery):
		}
		asked := time.Now()
		asking, cancel := context.WithDeadline(ctx, h.holdsUntil())
		me := h.me
		me.At = asked
		h.mu.Lock()
		revision, err := h.place.put(asking, me, h.revision)
		if err == nil {
			h.revision, h.until = revision, asked.Add(leaseFor)
		}
		h.mu.Unlock()
		cancel()
		if ctx.Err() != nil {
			return
		}
		if errors.Is(err, ErrTakenOver) { // or what we said last did arrive, and nobody told us so
			if now, revision, lookErr := h.place.holder(ctx); lookErr == nil && now.Run == h.me.Run {
				h.mu.Lock()
				h.revision = revision
				h.mu.Unlock()
				err = nil
			}
		}
		if errors.Is(err, ErrTakenOver) || !time.Now().Before(h.holdsUntil()) {
			h.lose(fmt.Errorf("this service does not hold its records any more: %w", err))
			return
		}
	}
}

func (h *Held) holdsUntil() time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.until
}

// Holds fails when the service was not heard for so long that another one may have its records.
func (h *Held) Holds() error {
	if !time.Now().Before(h.holdsUntil()) {
		return ErrTakenOver
	}
	return nil
}

func (h *Held) lose(err error) {
	select {
	case h.lost <- err:
	default: // it is lost already
	}
}

// Lost tells once why the records were lost. Whoever holds them ends at once then, and writes nothing more.
func (h *Held) Lost() <-chan error { return h.lost }

// Close lets go of them: the next one need not wait.
func (h *Held) Close() {
	h.end()
	h.ended.Wait()
	ctx, cancel := context.WithTimeout(context.Background(), callIn)
	defer cancel()
	free := h.me
	free.Run, free.At = "", time.Now()
	_, _ = h.place.put(ctx, free, h.revision) // where that does not arrive, the next one waits
}
