package porter

import (
	"context"
	"fmt"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/archive"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/storage/local"
	"bagaglio/internal/errand"
	"bagaglio/internal/machines"
)

// open opens the folders of the subjects.
func (w *work) open() (ends map[string]step.Ends, closeAll func(), err error) {
	o := &opening{work: w, kept: local.Keep(w.porter.id.state)}
	ends = map[string]step.Ends{}
	for subject, e := range w.order.Ends {
		if ends[subject], err = o.subject(subject, e); err != nil {
			o.close()
			return nil, nil, err
		}
	}
	if w.order.Plan.Machine != nil {
		if ends[plan.MachineSubject], err = o.machine(); err != nil {
			o.close()
			return nil, nil, err
		}
	}
	return ends, o.close, nil
}

// opening are the folders of a job that were opened.
type opening struct {
	*work
	kept *local.Kept
	all  []storage.Folder
}

func (o *opening) close() {
	for _, l := range o.larders {
		l.close()
	}
	for _, f := range o.all {
		_ = f.Close() // nothing is written any more
	}
}

// folder opens one of this computer.
func (o *opening) folder(at string) (storage.Folder, error) {
	f, err := local.OpenApart(at, o.kept)
	if err == nil {
		o.all = append(o.all, f)
	}
	return f, err
}

// subject opens the folders of a disk. The service is asked too what uses its files.
func (o *opening) subject(subject string, e errand.Ends) (there step.Ends, err error) {
	body, err := o.order.Plan.Body(subject)
	if err != nil {
		return there, err
	}
	there.Scratch = o.porter.id.state
	if e.Destination != "" {
		if there.Destination, err = o.folder(e.Destination); err != nil {
			return there, err
		}
		there.Destination = asking{there.Destination, usage{there.Destination, o.work, subject, true, false}}
	}
	if there.Source, err = o.source(subject, body, e, there.Destination); err != nil {
		return there, err
	}
	there.Source = asking{there.Source, usage{there.Source, o.work, subject, false, body.Request.Suspended}}
	return there, nil
}

// source opens what a disk is read from: the disks of this computer, or a folder here or at another porter, or an archive in it.
func (o *opening) source(subject string, body plan.Disk, e errand.Ends, to storage.Folder) (storage.Folder, error) {
	switch {
	case body.Request.Source.IsDevice():
		return o.disks()
	case e.From == nil:
		f, err := o.folder(e.Source)
		if err != nil {
			return nil, err
		}
		return archive.In(f, body.Request.Source.Path)
	}
	reads, err := o.porter.from(*e.From, e.Source, false)
	if err != nil {
		return nil, err
	}
	o.all = append(o.all, reads)
	far := &source{Folder: reads, at: e.Source, work: o.work, of: errand.Deed{Subject: subject}, body: body}
	if to != nil {
		far.larder = &larder{folder: to}
		o.larders = append(o.larders, far.larder)
	}
	return archive.In(far, body.Request.Source.Path)
}

// disks are the physical disks of this computer, but for those that the porter's own state lies on.
func (o *opening) disks() (storage.Folder, error) {
	own, err := o.kept.Disks()
	if err != nil {
		return nil, fmt.Errorf("looking which disk the state folder lies on: %w", err)
	}
	why := fmt.Errorf("the porter's own state lies on it, and nothing of that disk is read by it: capture it on the spot: %w", local.ErrKept)
	return blocks.Open().Without(own, why), nil
}

// machine is what the steps of a machine use: its hosts as the service reaches them, and the folders of disks that move while it runs.
func (o *opening) machine() (its step.Ends, err error) {
	its = step.Ends{From: machines.Far(false, o.guests), To: machines.Far(true, o.guests), Pools: map[string]storage.Folder{}}
	for pool, at := range o.order.Pools {
		if its.Pools[pool], err = o.pool(pool, at); err != nil {
			return its, err
		}
	}
	return its, nil
}

// pool opens one of disks that move while their machine runs.
func (o *opening) pool(name string, at errand.Lies) (storage.Folder, error) {
	if at.From == nil {
		return o.folder(at.Folder)
	}
	reads, err := o.porter.from(*at.From, at.Folder, true)
	if err != nil {
		return nil, err
	}
	o.all = append(o.all, reads)
	return left{&source{Folder: reads, at: at.Folder, work: o.work, of: errand.Deed{Pool: name}}}, nil
}

// guests has the service do something with the machine of the job.
func (w *work) guests(ctx context.Context, c machines.Call) (f machines.Found, err error) {
	err = ask(ctx, w, errand.Guests, c, &f)
	return f, err
}
