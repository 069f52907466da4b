package porters

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/internal/errand"
	"bagaglio/internal/machines"
	"bagaglio/internal/store"

	"github.com/nats-io/nats.go/jetstream"
)

// flow is from whom a job reads now, empty where from nobody, and how fast, in bytes a second.
type flow struct {
	from  string
	speed int64
}

// key is which job of a porter is meant, and which time of it.
type key struct {
	porter     string
	job, epoch int64
}

// running is a job that a porter does.
type running struct {
	task  job.Task
	ctx   context.Context
	ended chan errand.Ended
	tells chan step.Progress // how far it is, in its order
	heard atomic.Int64       // when something came last, Unix time in nanoseconds
	from  map[string]string  // the porters that it reads from, by subjects
	flow  atomic.Pointer[flow]

	guests *machines.Near // nil where no machine is part of it

	mu   sync.Mutex
	turn int64 // which time it is that the porter has begun with the order
	last int64 // number of what was kept last in it

	doing sync.Mutex
	deeds map[int64]deed // answers to what was done on the computers that are read from, by numbers
}

// Do has a porter do a job, and returns what came of it. It ends when the porter says so, or can do no more harm: it was told to stop, or was not heard for
// longer than it may go on.
func (s *Porters) Do(ctx context.Context, porter string, o errand.Order, t job.Task) (receipt.Receipt, error) {
	if _, err := s.CanWork(ctx, porter); err != nil {
		return receipt.Receipt{}, fmt.Errorf("%w: %w", storage.ErrLost, err)
	}
	o.ID, o.Plan, o.Every, o.Hold, o.By, o.Asks, o.Answer, o.Kept, o.Paced = t.ID, t.Plan, t.Every, t.Hold, t.By, t.Asks, t.Answer, t.Records != nil, t.Wait != nil
	r := &running{
		task:  t,
		ctx:   ctx,
		ended: make(chan errand.Ended, 1),
		tells: make(chan step.Progress, mostTold),
		deeds: map[int64]deed{},
		from:  map[string]string{},
	}
	r.heard.Store(time.Now().UnixNano())
	for subject, e := range o.Ends {
		if e.From != nil {
			r.from[subject] = e.From.Porter
		}
	}
	for _, l := range o.Pools {
		if l.From != nil {
			r.from[plan.MachineSubject] = l.From.Porter
		}
	}
	if m := t.Plan.Machine; m != nil {
		ends := t.Ends[plan.MachineSubject]
		r.guests = machines.NewNear(ends.From, ends.To, *m)
		defer r.guests.Close()
	}
	k := key{porter, o.Job, o.Epoch}
	s.mu.Lock()
	s.errands[k] = r
	s.mu.Unlock()
	watching := make(chan struct{})
	go func() {
		for p := range r.tells {
			t.Watch(p)
		}
		close(watching)
	}()
	defer func() {
		s.mu.Lock()
		delete(s.errands, k)
		close(r.tells)
		s.mu.Unlock()
		<-watching
	}()
	if err := s.grant(ctx, porter, o); err != nil {
		return receipt.Receipt{}, err
	}
	if err := s.send(ctx, porter, o); err != nil {
		return receipt.Receipt{}, fmt.Errorf("%w: giving the job to the porter %s: %w", storage.ErrLost, porter, err)
	}
	silent, grants := time.NewTicker(time.Second), time.NewTicker(errand.LeaseFor/2)
	defer silent.Stop()
	defer grants.Stop()
	stopped := ctx.Done()
	for {
		select {
		case e := <-r.ended:
			return e.Receipt, e.Problem.Error()
		case <-stopped:
			stopped = nil
			s.stop(porter, errand.Stopped{Job: o.Job, Epoch: o.Epoch, SetAside: errors.Is(context.Cause(ctx), step.ErrSetAside)})
		case <-grants.C:
			go func() {
				if err := s.grant(ctx, porter, o); err != nil && ctx.Err() == nil {
					s.log.Warn("prolonging a grant", "job", o.Job, "error", err) // it is tried again
				}
			}()
		case <-silent.C:
			if quiet := time.Since(time.Unix(0, r.heard.Load())); quiet > errand.LeaseFor+errand.Margin {
				return receipt.Receipt{}, errors.Join(
					context.Cause(
						ctx,
					),
					fmt.Errorf(
						"%w: the porter %s was not heard for %s, and does no more than that now",
						storage.ErrLost,
						porter,
						quiet.Round(time.Second),
					),
				)
			}
		}
	}
}

// mostTold bounds the reports that wait to be noted: what is not noted is told by the next one.
const mostTold = 64

// told hears how far a job is.
func (s *Porters) told(k key, data []byte) {
	var p step.Progress
	if err := json.Unmarshal(data, &p); err != nil {
		return // another one comes
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.errands[k]
	if r == nil {
		return
	}
	r.heard.Store(time.Now().UnixNano())
	r.flow.Store(&flow{from: r.from[step.Subject(p.Step)], speed: int64(p.Speed)})
	select {
	case r.tells <- p:
	default:
	}
}

// send puts an order into the queue of a porter.
func (s *Porters) send(ctx context.Context, porter string, o errand.Order) error {
	b, err := json.Marshal(o)
	if err != nil {
		return err
	}
	js, err := jetstream.New(s.conn)
	if err == nil {
		_, err = js.Publish(ctx, errand.Work(porter), b, jetstream.WithMsgID(fmt.Sprintf("%d.%d", o.Job, o.Epoch)))
	}
	return err
}

// stop tells a porter to stop a job. One that does not hear it stops when its lease has run out.
func (s *Porters) stop(porter string, what errand.Stopped) {
	b, err := json.Marshal(what)
	if err == nil {
		err = s.conn.Publish(errand.Stop(porter), b)
	}
	if err != nil {
		s.log.Error("telling a porter to stop", "porter", porter, "job", what.Job, "error", err)
	}
}

// answer answers what the porter asks.
func (r *running) answer(what string, data []byte) any {
	r.heard.Store(time.Now().UnixNano())
	ctx := context.WithoutCancel(r.ctx) // what it has done is kept, also of a job that is told to stop
	switch what {
	case errand.Renew:
		return say(struct{}{}, nil)
	case errand.Begin:
		return say(r.begins(), nil)
	case errand.Load:
		j, err := r.task.Records.Load(ctx)
		return say(j, err)
	case errand.Keep:
		return with(data, func(k errand.Kept) (struct{}, error) {
			return struct{}{}, r.once(k.Number, func() error { return r.task.Records.Keep(ctx, k.Journal, k.Mark) })
		})
	case errand.Forget:
		return with(data, func(k errand.Kept) (struct{}, error) {
			return struct{}{}, r.task.Records.Forget(ctx, k.Subject, k.Journal)
		})
	case errand.Marks:
		return with(data, func(a errand.Asked) ([]byte, error) { return r.mark(ctx, a) })
	case errand.Wait:
		return with(data, func(a errand.Asked) (struct{}, error) { return struct{}{}, r.task.Wait(r.ctx, a.Bytes) })
	case errand.Done:
		return with(data, func(e errand.Ended) (struct{}, error) {
			select {
			case r.ended <- e:
			default: // it was said already
			}
			return struct{}{}, nil
		})
	case errand.Files:
		return with(data, r.files)
	case errand.InUse:
		return with(data, r.inUse)
	case errand.Guests:
		return with(data, r.machine)
	case errand.Known, errand.Standing, errand.StandingThere, errand.Users:
		return with(data, func(a errand.Asked) (any, error) { return r.known(what, a) })
	}
	return say(struct{}{}, fmt.Errorf("%q is nothing that can be asked: the porter is of another version", what))
}

// begins begins a turn: numbers of the one before count for nothing. Nothing of that is under way then.
func (r *running) begins() errand.Begun {
	r.doing.Lock()
	defer r.doing.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.turn, r.last, r.deeds = r.turn+1, 0, map[int64]deed{}
	return errand.Begun{Turn: r.turn}
}

// once does what was not done yet under a number.
func (r *running) once(number errand.Number, do func() error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if number.Turn != r.turn {
		return fmt.Errorf("the porter was started again since: %w", store.ErrOutdated)
	}
	if number.N <= r.last {
		return nil
	}
	err := do()
	if err == nil {
		r.last = number.N
	}
	return err
}

// files does something in the folder that a subject is read from. What was asked for before is answered as it was then.
func (r *running) files(d errand.Deed) (f errand.Found, err error) {
	r.doing.Lock()
	defer r.doing.Unlock()
	r.mu.Lock()
	turn := r.turn
	r.mu.Unlock()
	if d.Number.Turn != turn {
		return f, fmt.Errorf("the porter was started again since: %w", store.ErrOutdated)
	}
	if old, done := r.deeds[d.Number.N]; done {
		return old.found, old.err
	}
	folder, err := r.folder(d)
	if err != nil {
		return f, err
	}
	if f, err = d.In(folder); storage.Lost(err) {
		return f, err
	}
	if d.Changes() {
		r.deeds[d.Number.N] = deed{f, err}
	}
	return f, err
}

// folder is where something may be done as the plan says.
func (r *running) folder(d errand.Deed) (storage.Folder, error) {
	if d.Pool != "" {
		folder, m := r.task.Ends[plan.MachineSubject].Pools[d.Pool], r.task.Plan.Machine
		if folder == nil || m == nil {
			return nil, fmt.Errorf("there is no pool %q of disks that move while their machine runs", d.Pool)
		}
		return folder, mayBeside(*m, d)
	}
	ends, ok := r.task.Ends[d.Subject]
	if !ok || ends.Source == nil {
		return nil, fmt.Errorf("there is no %q that is read from another porter", d.Subject)
	}
	body, err := r.task.Plan.Body(d.Subject)
	if err == nil {
		err = may(body, d)
	}
	return ends.Source, err
}

// inUse says what uses a file, as far as the service knows.
func (r *running) inUse(a errand.Asked) (why string, err error) {
	folder := r.task.Ends[a.Subject].Source
	if a.There {
		folder = r.task.Ends[a.Subject].Destination
	}
	if folder == nil || len(a.Files) != 1 {
		return "", nil
	}
	if u, ok := storage.As[storage.Usage](folder); ok {
		if why, err = u.InUse(a.Files[0]); storage.Lost(err) { // the porter has looked at the storage itself
			return "", nil
		}
	}
	return why, err
}

// machine does something with the machine of the job.
func (r *running) machine(c machines.Call) (machines.Found, error) {
	if r.guests == nil {
		return machines.Found{}, errors.New("no machine is part of the job")
	}
	return r.guests.Do(context.WithoutCancel(r.ctx), c) // also what is taken back
}

// mayBeside fails for what is changed beside the old disks of a machine that goes away while it runs, other than what lies there for the work alone.
func mayBeside(m plan.Machine, d errand.Deed) error {
	its := func(name string) bool { return m.Beside(plan.Place{Pool: d.Pool, Path: path.Clean(name)}) }
	if d.Changes() && !its(d.Name) || d.Do == errand.DoRename && !its(d.To) {
		return fmt.Errorf("the plan does not say that %s is changed: %w", d.Name, fs.ErrPermission)
	}
	return nil
}

// may fails for what has nothing to do with a disk: of the source, a move holds what the plan says, and nothing else is changed.
func may(d plan.Disk, deed errand.Deed) error {
	released := disks.Goes(d)
	goes := func(name string) bool { return slices.Contains(released, path.Clean(name)) }
	above := func(name string) bool { // a folder, since something lies in it that goes
		return slices.ContainsFunc(released, func(f string) bool { return strings.HasPrefix(f, path.Clean(name)+"/") })
	}
	held := func(name string) bool { return strings.HasPrefix(path.Clean(name), disks.HeldFolder+"/") }
	ok := true
	switch deed.Do {
	case errand.DoCreate:
		ok = held(deed.Name)
	case errand.DoRemove:
		ok = held(deed.Name) || above(deed.Name)
	case errand.DoRename:
		ok = held(deed.To) && goes(deed.Name) || held(deed.Name) && goes(deed.To)
	}
	if !ok || deed.Do == errand.DoCreate && len(released) == 0 {
		return fmt.Errorf("the plan does not say that %s is changed: %w", deed.Name, fs.ErrPermission)
	}
	return nil
}

// deed is what came of something that was done.
type deed struct {
	found errand.Found
	err   error
}

// mark is one of a step, nil behind the last.
func (r *running) mark(ctx context.Context, a errand.Asked) ([]byte, error) {
	i := 0
	for mark, err := range r.task.Records.Marks(ctx, a.Step) {
		if err != nil || i == a.From {
			return mark, err
		}
		i++
	}
	return nil, nil
}

// known asks anew what the plan of a subject was made with.
func (r *running) known(what string, a errand.Asked) (any, error) {
	if r.task.Known == nil {
		return errand.Facts{}, nil
	}
	k, err := r.task.Known(r.ctx, a.Subject)
	if err != nil {
		return nil, err
	}
	switch {
	case what == errand.Standing && k.Standing != nil:
		return k.Standing(r.ctx, a.Files)
	case what == errand.StandingThere && k.StandingThere != nil:
		return k.StandingThere(r.ctx, a.Files)
	case what == errand.Users && k.Users != nil:
		return k.Users(r.ctx, a.Files)
	}
	return errand.FactsOf(k), nil
}

// with does something with what was sent, and says what came of it.
func with[T, V any](data []byte, do func(T) (V, error)) any {
	var of T
	if err := json.Unmarshal(data, &of); err != nil {
		var none V
		return say(none, fmt.Errorf("what the porter sends cannot be read: %w", err))
	}
	return say(do(of))
}

func say[V any](value V, err error) any {
	return errand.Answer[V]{Value: value, Problem: errand.ProblemOf(err)}
}
