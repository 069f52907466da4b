package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/inspect"
	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/core/storage/blocks"
	"bagaglio/core/storage/local"

	"github.com/google/uuid"
)

// worker does what a request says, in the service or on the spot.
type worker interface {
	look(context.Context, plan.Place) (inspect.Report, error)
	// inside lists a folder inside of a disk, and take opens a file there.
	inside(context.Context, plan.Place, inspect.Spot) ([]inspect.Found, error)
	take(context.Context, plan.Place, inspect.Spot) (taken, error)
	starts(context.Context, plan.Place) (inspect.Starts, error)
	// plan makes the plan that run then runs.
	plan(context.Context, plan.Request) (plan.Plan, error)
	// run returns the receipt also where the job failed; then the error wraps job's own where it fits.
	run(context.Context, func(step.Progress)) (receipt.Receipt, error)
}

// worker returns who works on these places: all on the spot, or all in pools.
func (a *app) worker(places ...plan.Place) (worker, error) {
	pools := 0
	for _, p := range places {
		if !isHere(p) {
			pools++
		}
	}
	switch pools {
	case 0:
		if a.pace != (pace{}) {
			return nil, usage("a speed limit and hours are for jobs of the service, not for work on the spot")
		}
		if a.detached != nil {
			return nil, usage("work on the spot ends with this command: only a job of the service goes on without it")
		}
		state, err := a.stateFolder()
		return &spot{within: a.within, state: state}, err
	case len(places):
		return a.remote()
	}
	return nil, usage(
		"a path of this computer and a disk in a pool go together in \"convert\" only: for anything else, add the folder of the path as a pool first (bagaglio pool add)",
	)
}

// remote returns who works in the service.
func (a *app) remote() (worker, error) {
	service, err := a.dial()
	if err != nil {
		return nil, err
	}
	return &remote{app: a, service: service}, nil
}

// spot works in this process.
type spot struct {
	far     *client.Service // through which pools are read, nil for none
	state   string          // the folder in which a service would keep its own
	within  string          // the folder in which names in the source's images may lead about, empty for its own
	asked   plan.Request    // with the paths as they were given
	ends    step.Ends
	planned plan.Plan // with names in the folders of ends
}

func (s *spot) look(ctx context.Context, p plan.Place) (inspect.Report, error) {
	folder, name, err := s.source(p)
	if err != nil {
		return inspect.Report{}, err
	}
	defer folder.Close()
	p.Path = name
	report, err := inspect.File(ctx, p.Origin(folder), p.Format)
	return report, step.Explain(err)
}

// source opens the folder of a disk that is read, and returns the name of the file in it.
func (s *spot) source(p plan.Place) (storage.Folder, string, error) {
	path := p.Path
	if p.Pool != "" && s.far != nil && !p.IsDevice() {
		return s.far.Folder(context.Background(), p.Pool), path, nil
	}
	if p.IsDevice() {
		return blocks.Open(), path, nil
	}
	if s.within == "" {
		return spotFolder(path)
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	name, err := inside(s.within, path)
	if err != nil {
		return nil, "", err
	}
	folder, err := local.Open(s.within)
	return folder, name, err
}

func (s *spot) plan(ctx context.Context, r plan.Request) (plan.Plan, error) {
	if r.By != "" {
		return plan.Plan{}, usage("who does it is asked for of a service: work on the spot is done by this command")
	}
	s.asked = r
	err := s.open(&r)
	if err != nil {
		return plan.Plan{}, err
	}
	s.planned, err = disks.Prepare(ctx, s.ends, r, step.Known{})
	shown := s.planned
	if s.asked.Base != "" && filepath.Dir(s.asked.Base) != filepath.Dir(s.asked.Destination.Path) {
		if dir, err := common(s.asked.Destination.Path, s.asked.Base); err == nil {
			shown.Checks = append(shown.Checks, plan.Check{Name: "base", Severity: plan.Warns, Message: fmt.Sprintf(
				"The base lies in another folder: on the spot the image opens only when names may lead there (--within %s).", dir)})
		}
	}
	shown.Request = s.asked
	if len(shown.Before) > 0 {
		shown.Before = []plan.Side{s.show(shown.Before[0], s.asked.Source)}
	}
	if len(shown.After) > 0 {
		shown.After = []plan.Side{s.show(shown.After[0], *s.asked.Destination)}
	}
	return shown, err
}

// show puts the path as it was given in the place of the name. Of an image in pieces it is that of the first one.
func (s *spot) show(side plan.Side, asked plan.Place) plan.Side {
	dir, _ := filepath.Split(asked.Path)
	asked.Path = dir + path.Base(side.Place.Path)
	side.Place = asked
	return side
}

// open opens the folders of a request, and makes its places relative to them.
func (s *spot) open(r *plan.Request) (err error) {
	asked := r.Source.Path
	s.ends.Scratch, s.ends.Saved = filepath.Join(os.TempDir(), spotPrefix+"scratch"), filepath.Join(s.state, "saved")
	if s.ends.Source, r.Source.Path, err = s.source(r.Source); err != nil {
		return err
	}
	if r.Tag != "" && r.Tag != plan.TagBeside {
		if r.Tag, err = s.tag(asked, r.Tag); err != nil {
			return err
		}
	}
	if r.AgainstDisk != nil {
		other := *r.AgainstDisk
		if s.ends.Against, other.Path, err = s.source(other); err != nil {
			return err
		}
		r.AgainstDisk = &other
	}
	if r.Destination == nil {
		return nil
	}
	to := *r.Destination
	r.Destination = &to
	if to.IsDevice() {
		s.ends.Destination = blocks.Open()
		return nil
	}
	if to.Pool != "" { // to be planned only
		s.ends.Destination = s.far.Folder(context.Background(), to.Pool)
		return nil
	}
	if r.Base == "" {
		dir := filepath.Dir(to.Path)
		if s.ends.Destination, to.Path, err = spotFolder(to.Path); err == nil && r.GoOnFrom != "" {
			r.GoOnFrom, err = inside(dir, r.GoOnFrom)
		}
		return err
	}
	// The image names its base relative to itself: both are in one folder, or below it.
	dir, err := common(to.Path, r.Base)
	if err != nil {
		return err
	}
	if s.ends.Destination, err = local.Open(dir); err != nil {
		return err
	}
	if err := oneFilesystem(s.ends.Destination, filepath.Dir(to.Path)); err != nil {
		return err
	}
	for _, p := range []*string{&to.Path, &r.Base} {
		if *p, err = inside(dir, *p); err != nil {
			return err
		}
	}
	return nil
}

// tag is the name of a tag in the folder of the disk that it is for.
func (s *spot) tag(disk, tag string) (string, error) {
	dir := s.within
	if dir == "" {
		if real, err := filepath.EvalSymlinks(disk); err == nil {
			disk = real
		}
		dir = filepath.Dir(disk)
	}
	return inside(dir, tag)
}

// oneFilesystem fails when a folder of this computer is on another filesystem than the one that work is done in.
func oneFilesystem(work storage.Folder, dir string) error {
	folder, err := local.Open(dir)
	if err != nil {
		return err
	}
	defer folder.Close()
	a, errA := work.Space()
	b, errB := folder.Space()
	if err := errors.Join(errA, errB); err != nil {
		return err
	}
	if a.ID != b.ID {
		return usage("the new image and its base are on different filesystems: put the base into the folder of the new image, or below it")
	}
	return nil
}

// common is the folder of this computer that both paths lie in.
func common(a, b string) (string, error) {
	dir, err := filepath.Abs(filepath.Dir(a))
	if err != nil {
		return "", err
	}
	for {
		if _, err := inside(dir, b); err == nil {
			return dir, nil
		} else if dir == filepath.Dir(dir) {
			return "", err
		}
		dir = filepath.Dir(dir)
	}
}

// inside is the name of a path in a folder that it lies in.
func inside(dir, name string) (string, error) {
	dir, errDir := filepath.Abs(dir)
	name, errName := filepath.Abs(name)
	if err := errors.Join(errDir, errName); err != nil {
		return "", err
	}
	name, err := filepath.Rel(dir, name)
	if err != nil {
		return "", err
	}
	return storage.Clean(name)
}

func (s *spot) run(ctx context.Context, watch func(step.Progress)) (receipt.Receipt, error) {
	host, err := os.Hostname()
	if err != nil {
		return receipt.Receipt{}, err
	}
	prefix := spotPrefix + host + "-"
	if s.ends.Destination != nil && !s.asked.Destination.IsDevice() {
		_, err := disks.DropExpired(s.ends.Destination, time.Now())
		if err = errors.Join(err, clearAbandoned(s.ends.Destination, prefix)); err != nil {
			return receipt.Receipt{}, err
		}
	}
	id := fmt.Sprintf("%s%d-%s", prefix, os.Getpid(), uuid.NewString()[:8])
	ends := map[string]step.Ends{plan.FirstDisk: s.ends}
	r, err := job.Task{ID: id, Ends: ends, Plan: s.planned, Watch: watch, Hold: disks.HoldFor, By: "work on the spot"}.Run(ctx)
	r.Source.Side = s.show(r.Source.Side, s.asked.Source)
	if r.Destination != nil {
		r.Destination.Side = s.show(r.Destination.Side, *s.asked.Destination)
	}
	return r, err
}

// remote works through the service.
type remote struct {
	app     *app
	service *client.Service
	id      string
}

// pace says how fast and when a job may run.
type pace struct {
	speed int64 // bytes a second
	hours string
}

func (r *remote) look(ctx context.Context, p plan.Place) (inspect.Report, error) {
	return r.service.Look(ctx, p)
}

func (r *remote) plan(ctx context.Context, request plan.Request) (plan.Plan, error) {
	kept, err := r.service.Plan(ctx, request)
	r.id = kept.Id
	return kept.Plan, err
}

func (r *remote) run(ctx context.Context, watch func(step.Progress)) (receipt.Receipt, error) {
	started, err := r.service.Start(ctx, api.NewJob{Plan: r.id, Speed: &r.app.pace.speed, Hours: &r.app.pace.hours})
	if err != nil {
		return receipt.Receipt{}, err
	}
	if r.app.detached != nil {
		return receipt.Receipt{}, r.app.detached(started)
	}
	r.app.remark("Job %s", started.Id)
	return r.app.follow(ctx, r.service, started.Id, watch)
}

// receiptError is the error of a job that was run elsewhere.
func receiptError(r receipt.Receipt) error {
	switch {
	case r.Outcome == receipt.Proven || r.Outcome == receipt.Unproven:
		return nil
	case r.Outcome == receipt.Damaged:
		return fmt.Errorf("%w: done with damage: %s", step.ErrNotProven, r.Reason)
	case len(r.Differences) > 0 || r.Against != "" && r.Source.Fingerprint != "" && r.Source.Fingerprint != r.Against:
		return fmt.Errorf("%w: %s", step.ErrNotProven, strings.TrimPrefix(r.Reason, step.ErrNotProven.Error()+": "))
	}
	return errors.New(r.Reason)
}

// spotPrefix begins the names of staging folders of work on the spot, followed by the computer and the process that works.
const spotPrefix = "spot-"

// clearAbandoned removes staging folders of work on the spot on this computer whose process is gone.
func clearAbandoned(folder storage.Folder, prefix string) error {
	infos, err := folder.List(disks.StagingFolder)
	if err != nil {
		return nil // there is none, mostly
	}
	for _, i := range infos {
		var pid int
		name := path.Base(i.Name)
		rest, ours := strings.CutPrefix(name, prefix)
		if _, err := fmt.Sscanf(rest, "%d-", &pid); !ours || err != nil || alive(pid) {
			continue
		}
		if err := disks.Clear(folder, name); err != nil {
			return err
		}
	}
	return nil
}
