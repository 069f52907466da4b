package porter

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"sync"
	"sync/atomic"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/internal/errand"
	"bagaglio/internal/store"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// jobs are those that a porter does now.
type jobs struct {
	sync.Mutex
	sync.WaitGroup
	all map[int64]*doing
}

// doing is a job that is done.
type doing struct {
	epoch int64
	stop  context.CancelCauseFunc
	ended chan struct{}
}

func (j *jobs) start(do func()) { j.Go(do) }
func (j *jobs) wait()           { j.Wait() }

func (j *jobs) count() int {
	j.Lock()
	defer j.Unlock()
	return len(j.all)
}

// begin takes the place of an earlier time of a job, which is stopped first. It fails where a later one was begun already.
func (j *jobs) begin(id int64, d *doing) error {
	for {
		j.Lock()
		old := j.all[id]
		if old == nil {
			j.all[id] = d
			j.Unlock()
			return nil
		}
		j.Unlock()
		if old.epoch >= d.epoch {
			return fmt.Errorf("job %d: %w", id, store.ErrOutdated)
		}
		old.stop(step.ErrSetAside)
		<-old.ended
	}
}

func (j *jobs) end(id int64, d *doing) {
	j.Lock()
	defer j.Unlock()
	delete(j.all, id)
	close(d.ended)
}

// stopped stops a job as the service wants it.
func (p *Porter) stopped(m *nats.Msg) {
	var s errand.Stopped
	if err := json.Unmarshal(m.Data, &s); err != nil {
		p.log.Error("an order to stop that cannot be read", "error", err)
		return
	}
	p.jobs.Lock()
	d := p.jobs.all[s.Job]
	p.jobs.Unlock()
	if d == nil || d.epoch != s.Epoch {
		return
	}
	why := errStopped
	if s.SetAside {
		why = step.ErrSetAside
	}
	d.stop(why)
}

// errStopped is why a job ends that somebody has cancelled.
var errStopped = errors.New("it was cancelled")

// work is one job, as it asks the service about it.
type work struct {
	porter *Porter
	order  errand.Order
	ctx    context.Context
	turn   int64        // which time it is that the order is begun
	kept   atomic.Int64 // number of what was kept last
	// larders are what lies where disks of other porters go to.
	larders []*larder
	deeds   atomic.Int64 // likewise of what was done on another porter's computer
}

// do does a job and tells what came of it.
func (p *Porter) do(ctx context.Context, o errand.Order, m jetstream.Msg) {
	runCtx, stop := context.WithCancelCause(context.WithoutCancel(ctx))
	defer stop(nil)
	defer context.AfterFunc(ctx, func() { stop(step.ErrSetAside) })()
	d := &doing{epoch: o.Epoch, stop: stop, ended: make(chan struct{})}
	if err := p.jobs.begin(o.Job, d); err != nil {
		_ = m.Term() // a later time of it was begun
		return
	}
	defer p.jobs.end(o.Job, d)
	w := &work{porter: p, order: o, ctx: runCtx}
	var begun errand.Begun
	err := ask(w.ctx, w, errand.Begin, struct{}{}, &begun)
	if w.turn = begun.Turn; err != nil {
		p.log.Warn("a job that is not this porter's any more", "job", o.Job, "reason", err)
		_ = m.Ack() // whoever has it goes on
		return
	}
	end := w.keepLease(m, stop)
	p.log.Info("job started", "job", o.Job, "kind", o.Plan.Request.Kind)
	done, err := w.run(runCtx)
	end()
	err = errors.Join(context.Cause(runCtx), err)
	told, cancel := context.WithTimeout(context.WithoutCancel(ctx), errand.LeaseFor)
	defer cancel()
	if askErr := ask(told, w, errand.Done, errand.Ended{Receipt: done, Problem: errand.ProblemOf(err)}, new(struct{})); askErr != nil {
		p.log.Warn("telling how a job ended", "job", o.Job, "error", askErr)
	}
	_ = m.Ack() // the service has it, or somebody else does it by now
	p.log.Info("job ended", "job", o.Job, "outcome", done.Outcome, "reason", done.Reason)
}

// run does what the plan says.
func (w *work) run(ctx context.Context) (receipt.Receipt, error) {
	ends, closeAll, err := w.open()
	if err != nil {
		return receipt.Receipt{Outcome: receipt.Failed, Reason: err.Error()}, err
	}
	defer closeAll()
	o := w.order
	t := job.Task{
		ID: o.ID, Ends: ends, Plan: o.Plan, Every: o.Every, Hold: o.Hold, By: o.By, Asks: o.Asks, Answer: o.Answer,
		Watch: w.tell,
		Known: w.known,
	}
	if o.Kept {
		t.Records = (*remoteRecords)(w)
	}
	if o.Paced {
		t.Wait = w.pace()
	}
	done, err := t.Run(ctx)
	for _, l := range w.larders {
		if remark := l.sparedRemark(); remark != "" {
			done.Remarks = append(done.Remarks, remark)
		}
	}
	return done, err
}

// tell tells how far the job is. What does not arrive is told by the next one.
func (w *work) tell(p step.Progress) {
	if b, err := json.Marshal(p); err == nil {
		_ = w.porter.conn.Publish(errand.Call(w.porter.id.Porter, w.order.Job, w.order.Epoch, errand.Watch), b)
	}
}

// keepLease makes the porter heard as long as it does the job. When it was not heard for as long as the lease lasts, or somebody else has the job, the job is set aside: nothing of it is written any more.
func (w *work) keepLease(m jetstream.Msg, stop context.CancelCauseFunc) (end func()) {
	ctx, cancel := context.WithCancel(w.ctx)
	var both sync.WaitGroup
	both.Go(func() {
		until := time.Now().Add(errand.LeaseFor)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(errand.RenewEvery):
			}
			asked := time.Now()
			asking, done := context.WithDeadline(ctx, until)
			err := ask(asking, w, errand.Renew, struct{}{}, new(struct{}))
			done()
			switch {
			case err == nil:
				until = asked.Add(errand.LeaseFor)
				_ = m.InProgress() // or it comes again, and is known then
			case ctx.Err() != nil:
				return
			case errors.Is(err, store.ErrOutdated) || !time.Now().Before(until):
				w.porter.log.Warn("a job is set aside", "job", w.order.Job, "reason", err)
				stop(step.ErrSetAside)
				return
			}
		}
	})
	return func() { cancel(); both.Wait() }
}

// ask asks the service about the job, and again as long as nobody answers.
func ask[V any](ctx context.Context, w *work, what string, data any, value *V) error {
	b, err := json.Marshal(data)
	if err != nil {
		return err
	}
	subject := errand.Call(w.porter.id.Porter, w.order.Job, w.order.Epoch, what)
	for {
		asking, cancel := context.WithTimeout(ctx, callIn)
		if what == errand.Wait || what == errand.Known ||
			what == errand.Guests { // which take as long as they take, and are not answered over a connection that was cut
			cancel()
			asking, cancel = w.porter.untilCut(ctx)
		}
		m, err := w.porter.conn.RequestWithContext(asking, subject, b)
		cancel()
		if err == nil {
			var a errand.Answer[V]
			if err := json.Unmarshal(m.Data, &a); err != nil {
				return fmt.Errorf("what the service answers cannot be read: %w", err)
			}
			*value = a.Value
			return a.Problem.Error()
		}
		if ctx.Err() != nil {
			return fmt.Errorf("%w: asking the service: %w", storage.ErrLost, context.Cause(ctx))
		}
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
	}
}

// remoteRecords are the records of the job, which the service keeps.
type remoteRecords work

// still sets the job aside where it is somebody else's: nothing that it has done is cleared up then.
func (r *remoteRecords) still(err error) error {
	if errors.Is(err, store.ErrOutdated) {
		w := (*work)(r)
		w.porter.jobs.Lock()
		d := w.porter.jobs.all[w.order.Job]
		w.porter.jobs.Unlock()
		if d != nil && d.epoch == w.order.Epoch {
			d.stop(step.ErrSetAside)
		}
	}
	return err
}

// keep has the service keep something, also of a job that was told to stop: how far it is.
func (r *remoteRecords) keep(what string, k errand.Kept) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.ctx), errand.LeaseFor)
	defer cancel()
	k.Number = errand.Number{Turn: r.turn, N: r.kept.Add(1)}
	return r.still(ask(ctx, (*work)(r), what, k, new(struct{})))
}

func (r *remoteRecords) Load(ctx context.Context) (*step.Journal, error) {
	var j *step.Journal
	err := r.still(ask(ctx, (*work)(r), errand.Load, struct{}{}, &j))
	return j, err
}

func (r *remoteRecords) Keep(_ context.Context, j step.Journal, m *step.Mark) error {
	return r.keep(errand.Keep, errand.Kept{Journal: j, Mark: m})
}

func (r *remoteRecords) Forget(_ context.Context, subject string, j step.Journal) error {
	return r.keep(errand.Forget, errand.Kept{Journal: j, Subject: subject})
}

func (r *remoteRecords) Marks(ctx context.Context, name string) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		for i := 0; ; i++ {
			var mark []byte
			err := r.still(ask(ctx, (*work)(r), errand.Marks, errand.Asked{Step: name, From: i}, &mark))
			if err == nil && mark == nil || !yield(mark, err) || err != nil {
				return
			}
		}
	}
}

// known asks what the plan of a subject was made with, as it is now.
func (w *work) known(ctx context.Context, subject string) (k step.Known, err error) {
	var f errand.Facts
	if err := ask(ctx, w, errand.Known, errand.Asked{Subject: subject}, &f); err != nil {
		return k, err
	}
	k = step.Known{
		Knowledge:  f.Knowledge,
		Speeds:     f.Speeds,
		Rules:      f.Rules,
		Facts:      f.Facts,
		Neighbours: f.Neighbours,
		SourceHost: f.SourceHost,
		Host:       f.Host,
		SourceRoot: f.SourceRoot,
		Root:       f.Root,
	}
	names := func(what string) func(context.Context, []string) ([]string, error) {
		return func(ctx context.Context, files []string) (all []string, err error) {
			err = ask(ctx, w, what, errand.Asked{Subject: subject, Files: files}, &all)
			return all, err
		}
	}
	if f.Standing {
		k.Standing = names(errand.Standing)
	}
	if f.There {
		k.StandingThere = names(errand.StandingThere)
	}
	if f.Users {
		k.Users = func(ctx context.Context, files []string) (all []plan.User, err error) {
			err = ask(ctx, w, errand.Users, errand.Asked{Subject: subject, Files: files}, &all)
			return all, err
		}
	}
	return k, nil
}

// atOnce is how many bytes are asked for at once that may be read.
const atOnce = 16 << 20

// pace waits until the service lets more be read, as its limits say.
func (w *work) pace() func(context.Context, int64) error {
	var mu sync.Mutex
	var may int64
	return func(ctx context.Context, n int64) error {
		mu.Lock()
		defer mu.Unlock()
		for may < n {
			more := max(n-may, atOnce)
			if err := ask(ctx, w, errand.Wait, errand.Asked{Bytes: more}, new(struct{})); err != nil {
				return err
			}
			may += more
		}
		may -= n
		return nil
	}
}
