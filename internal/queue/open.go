// Package queue has jobs wait for their turn and run: in an order, within limits and hours, with leases on what they use; and keeps what came
// of them.
package queue

import (
	"context"
	"log/slog"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/receipt"
	"bagaglio/core/seal"
	"bagaglio/internal/errand"
	"bagaglio/internal/feed"
	"bagaglio/internal/places"
	"bagaglio/internal/planner"
	"bagaglio/internal/records"

	"github.com/google/uuid"
	"golang.org/x/sync/singleflight"
	"golang.org/x/time/rate"
)

// Queue is the jobs of the service.
type Queue struct {
	records *records.Records
	places  *places.Places
	planner *planner.Planner
	log     *slog.Logger
	feed    feed.Feed[Job]
	runner  string // of this process, for claims on jobs
	key     *seal.Key
	chain   *chain
	options Options

	mu       sync.Mutex
	running  map[int64]*run
	counts   map[scope]int     // of those that run
	waits    map[int64]string  // why a job waits
	enough   map[string]string // likewise, of all in pools that have enough to do
	troubles map[int64]trouble
	limits   limits
	closing  bool

	jobs        sync.WaitGroup
	dispatching sync.Mutex
	looked      int64              // for which of those that asked the queue was looked through
	asked       atomic.Int64       // how often that was asked for
	ended       atomic.Int64       // jobs, since somebody began to see to that
	starting    singleflight.Group // of plans
	done        chan struct{}      // closed when the service closes
}

// Options say how jobs run.
type Options struct {
	State string // the folder with the key of receipts, and their head
	// Hold is for how long what is replaced is kept.
	Hold time.Duration
	// Checkpoint is how often a job keeps how far it is.
	Checkpoint time.Duration
	// SecondPerson has a plan that takes data away for good begin only where somebody else has agreed.
	SecondPerson bool
	// Serves is where a file is served to other programs, by what it is called in leases; empty where it is not.
	Serves func(lease string) string
	// Holds fails where another service may have these jobs: nothing more is read for them then. Nil where that cannot be.
	Holds func() error
	// Porters do the jobs that are theirs.
	Porters Porters
}

// Porters have a porter do a job, and return what came of it.
type Porters interface {
	// Any tells whether there are some.
	Any(ctx context.Context) bool
	Do(ctx context.Context, porter string, o errand.Order, t job.Task) (receipt.Receipt, error)
}

// Open takes up the jobs that are on record, sets right what an earlier run left, and begins. The caller closes it.
func Open(ctx context.Context, r *records.Records, p *places.Places, pl *planner.Planner, o Options, log *slog.Logger) (*Queue, error) {
	q := &Queue{
		records: r, places: p, planner: pl, log: log, runner: uuid.NewString(), options: o, done: make(chan struct{}),
		running: map[int64]*run{}, counts: map[scope]int{}, waits: map[int64]string{}, troubles: map[int64]trouble{},
		limits: limits{meters: map[scope]*rate.Limiter{}},
	}
	var err error
	if q.key, err = seal.OpenKey(filepath.Join(o.State, "receipts.jwk")); err != nil {
		return nil, err
	}
	chain, broken, err := openChain(ctx, o.State, q.key, r)
	if broken != nil {
		log.Error("the receipts in the records are not those that were written", "error", broken)
	}
	q.chain = chain
	if err == nil {
		err = q.loadLimits(ctx)
	}
	if err == nil {
		err = q.recover(ctx)
	}
	if err != nil {
		return nil, err
	}
	q.dispatch()
	q.jobs.Go(func() { q.tend(q.done) })
	return q, nil
}

// Quiet is held by whoever needs that no job begins meanwhile.
func (q *Queue) Quiet() sync.Locker { return &q.dispatching }

// Close sets running jobs aside, which go on at the next start.
func (q *Queue) Close() {
	q.dispatching.Lock() // no job is being started now
	q.mu.Lock()
	q.dispatching.Unlock()
	q.closing = true
	for _, r := range q.running {
		r.stop(errStopping)
	}
	q.records.GiveUp() // behind that: what waits for the records gives up, and is set aside
	close(q.done)
	q.mu.Unlock()
	q.jobs.Wait()
	q.feed.Close()
}
