// Package arrivals takes files into pools that come in pieces over the API (core/upload).
package arrivals

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"bagaglio/core/storage"
	"bagaglio/core/upload"
	"bagaglio/internal/places"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// State is how far a file has come.
type State string

// The states. What is not on its storage as it came is Arriving again after it was Comparing.
const (
	Arriving  State = "arriving"
	Comparing State = "comparing"
	Arrived   State = "arrived"
)

// idle is after which time the files of an upload that nobody goes on with are closed.
const idle = 20 * time.Second

// shownFor is for how long it is told of a file that it has arrived.
const shownFor = time.Hour

// Arrival is a file that comes, or has come.
type Arrival struct {
	upload.About
	Pool     string
	State    State
	Here     []upload.Sum // zero for what is not here
	Compared int64        // bytes, while it is Comparing
	Problem  string       // of the last time that it was compared
}

// Places are where files come to.
type Places interface {
	Record(ctx context.Context, name string) (store.Pool, error)
	Open(ctx context.Context, r store.Pool) (storage.Folder, error)
	Space(r store.Pool) (storage.Space, error)
	Touch(pools ...string)
}

// Arrivals are the uploads of all pools. Make them with [New].
type Arrivals struct {
	places  Places
	records *records.Records
	ctx     context.Context // of what is compared
	stop    context.CancelFunc
	busy    sync.WaitGroup

	mu   sync.Mutex
	open map[string]*entry // by pool and ID
}

// entry is an upload that somebody uses, or used a short time ago. Its fields are those of who holds Arrivals.mu.
type entry struct {
	uses     int
	upload   *upload.Upload
	state    State
	compared int64
	problem  string
	closing  *time.Timer
}

// New returns them. The caller closes them.
func New(r *records.Records, p *places.Places) *Arrivals {
	a := &Arrivals{places: p, records: r, open: map[string]*entry{}}
	a.ctx, a.stop = context.WithCancel(context.Background())
	return a
}

// Close ends what is being compared, which can be ended again later. Pieces that came stay.
func (a *Arrivals) Close() {
	a.stop()
	a.busy.Wait()
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, e := range a.open {
		_ = e.upload.Rest() // what came is noted
	}
	clear(a.open)
}

// Wanted is a file that somebody wants to send.
type Wanted struct {
	Key  string // the same one goes on with what was begun, where the size is the same; empty for the path
	Path string // empty for a file that stays where it arrives, for a job
	Size int64  // bytes
	Room int64  // bytes that it takes, where that is known to be less than its size; otherwise 0
	By   string
}

// Begin begins an upload, or goes on with the one that has its key.
func (a *Arrivals) Begin(ctx context.Context, pool string, w Wanted) (Arrival, error) {
	record, folder, err := a.folder(ctx, pool)
	if err != nil {
		return Arrival{}, err
	}
	about := upload.About{
		ID:    uuid.NewString(),
		Key:   w.Key,
		Path:  w.Path,
		Size:  w.Size,
		By:    w.By,
		Begun: time.Now().UTC().Truncate(time.Second),
	}
	if about.Key == "" {
		about.Key = w.Path
	}
	begun, err := upload.List(folder)
	if err != nil {
		return Arrival{}, err
	}
	for _, b := range begun {
		if b.Key == about.Key && b.Path == about.Path && b.Size == about.Size {
			return a.goOn(ctx, pool, b.ID)
		}
	}
	needs := w.Size
	if w.Room > 0 {
		needs = min(w.Room, w.Size)
	}
	if space, err := a.places.Space(record); err == nil && space.Free >= 0 && needs > space.Free {
		return Arrival{}, fmt.Errorf(
			"%w: the file takes %d bytes and %s has %d free: make room there first",
			records.ErrState,
			needs,
			pool,
			space.Free,
		)
	}
	u, err := upload.Begin(folder, about)
	if err != nil {
		return Arrival{}, invalid(err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	e := &entry{upload: u, state: Arriving}
	a.open[pool+"/"+about.ID] = e
	a.closeLater(pool+"/"+about.ID, e)
	return e.view(pool), nil
}

// goOn takes up an upload that was begun; one that has arrived without a name can be ended again, by whoever knows what it should be.
func (a *Arrivals) goOn(ctx context.Context, pool, id string) (Arrival, error) {
	err := a.use(ctx, pool, id, func(e *entry) error {
		a.mu.Lock()
		defer a.mu.Unlock()
		if e.state == Arrived && e.upload.Path == "" {
			e.state = Arriving
		}
		return nil
	})
	if err != nil {
		return Arrival{}, err
	}
	return a.Get(ctx, pool, id)
}

// invalid says of errors that whoever asks can do something about them.
func invalid(err error) error {
	for _, theirs := range []error{storage.ErrName, storage.ErrOutside, upload.ErrRefused, upload.ErrPiece, upload.ErrOther} {
		if errors.Is(err, theirs) {
			return fmt.Errorf("%w: %w", records.ErrInvalid, err)
		}
	}
	var at *fs.PathError
	switch {
	case errors.Is(err, fs.ErrExist) && errors.As(err, &at):
		return fmt.Errorf(
			"%w: %s is there already, and nothing is replaced: give it another name, or remove that first",
			records.ErrState,
			at.Path,
		)
	case errors.Is(err, upload.ErrLacks):
		return fmt.Errorf("%w: %w", records.ErrState, err)
	}
	return err
}

func (a *Arrivals) folder(ctx context.Context, pool string) (store.Pool, storage.Folder, error) {
	record, err := a.places.Record(ctx, pool)
	if err != nil {
		return record, nil, err
	}
	if record.Volumes != "" {
		return record, nil, fmt.Errorf(
			"%w: %s has volumes and no files: upload into a pool of files, and copy from there",
			records.ErrInvalid,
			pool,
		)
	}
	folder, err := a.places.Open(ctx, record)
	return record, folder, err
}

// use calls do with an upload, which is opened for that.
func (a *Arrivals) use(ctx context.Context, pool, id string, do func(*entry) error) error {
	_, folder, err := a.folder(ctx, pool)
	if err != nil {
		return err
	}
	key := pool + "/" + id
	a.mu.Lock()
	e := a.open[key]
	if e == nil {
		u, err := upload.Open(folder, id)
		if err != nil {
			a.mu.Unlock()
			if errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("upload %q: %w", id, store.ErrNotFound)
			}
			return err
		}
		e = &entry{upload: u, state: Arriving}
		if u.Arrived() {
			e.state = Arrived
		}
		a.open[key] = e
	}
	if e.closing != nil {
		e.closing.Stop()
	}
	e.uses++
	a.mu.Unlock()
	err = do(e)
	a.mu.Lock()
	defer a.mu.Unlock()
	e.uses--
	a.closeLater(key, e)
	return invalid(err)
}

// closeLater closes what nobody uses by then. a.mu is held.
func (a *Arrivals) closeLater(key string, e *entry) {
	if e.uses > 0 {
		return
	}
	after := idle
	if e.state == Arrived {
		after = shownFor
	}
	e.closing = time.AfterFunc(after, func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		if e.uses > 0 || a.open[key] != e {
			return
		}
		delete(a.open, key)
		_ = e.upload.Rest() // likewise
	})
}

// view shows what is known of it. Arrivals.mu is held.
func (e *entry) view(pool string) Arrival {
	return Arrival{About: e.upload.About, Pool: pool, State: e.state, Here: e.upload.Here(), Compared: e.compared, Problem: e.problem}
}

// Get tells how far an upload is.
func (a *Arrivals) Get(ctx context.Context, pool, id string) (out Arrival, err error) {
	err = a.use(ctx, pool, id, func(e *entry) error {
		a.mu.Lock()
		out = e.view(pool)
		alone := e.uses == 1
		a.mu.Unlock()
		if alone { // somebody may want to read what is there
			return e.upload.Rest()
		}
		return nil
	})
	return out, err
}

// List returns the uploads of a pool that have not ended, the oldest first.
func (a *Arrivals) List(ctx context.Context, pool string) ([]Arrival, error) {
	_, folder, err := a.folder(ctx, pool)
	if err != nil {
		return nil, err
	}
	all, err := upload.List(folder)
	out := []Arrival{}
	for _, about := range all {
		if got, err := a.Get(ctx, pool, about.ID); err == nil {
			out = append(out, got)
		}
	}
	return out, err
}

// Put takes a piece.
func (a *Arrivals) Put(ctx context.Context, pool, id string, piece int, content []byte, sum upload.Sum) error {
	return a.use(ctx, pool, id, func(e *entry) error {
		a.mu.Lock()
		state := e.state
		a.mu.Unlock()
		if state != Arriving {
			return fmt.Errorf("%w: no piece is taken any more: the upload is %s", records.ErrState, state)
		}
		return e.upload.Put(piece, content, sum)
	})
}

// End has what came compared with what was sent, in the background; then it gets its name.
func (a *Arrivals) End(ctx context.Context, pool, id string, root upload.Sum) (out Arrival, err error) {
	err = a.use(ctx, pool, id, func(e *entry) error {
		a.mu.Lock()
		defer a.mu.Unlock()
		if e.state == Arriving {
			e.state, e.compared, e.problem = Comparing, 0, ""
			e.uses++
			a.busy.Go(func() { a.compare(pool, e, root) })
		}
		out = e.view(pool)
		return nil
	})
	return out, err
}

func (a *Arrivals) compare(pool string, e *entry, root upload.Sum) {
	err := e.upload.End(a.ctx, root, func(n int64) {
		a.mu.Lock()
		defer a.mu.Unlock()
		e.compared += n
	})
	about := e.upload.About
	result := fmt.Sprintf("%d bytes, digest of the pieces %x, read back from the storage", about.Size, root)
	if err != nil {
		result = err.Error()
	}
	if a.ctx.Err() == nil {
		a.records.Note(about.By, "", "uploaded", pool+":"+about.Path, result)
	}
	a.places.Touch(pool)
	a.mu.Lock()
	defer a.mu.Unlock()
	e.state = Arrived
	if err != nil {
		e.state, e.problem = Arriving, err.Error()
	}
	e.uses--
	a.closeLater(pool+"/"+about.ID, e)
}

// Drop gives an upload up, or removes what stayed where it has arrived.
func (a *Arrivals) Drop(ctx context.Context, pool, id string) error {
	return a.use(ctx, pool, id, func(e *entry) error {
		a.mu.Lock()
		state := e.state
		if state != Comparing {
			delete(a.open, pool+"/"+id)
		}
		a.mu.Unlock()
		switch {
		case state == Comparing:
			return fmt.Errorf("%w: what came is being compared: wait for that", records.ErrState)
		case state == Arrived && e.upload.Path != "": // it has its name
			return nil
		}
		return e.upload.Drop()
	})
}
