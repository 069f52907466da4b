package disks

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"time"

	"bagaglio/core/carry"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// Ended is a job that has ended, whose work may be taken back.
type Ended struct {
	Job      string // its number
	Task     string // ID of its task
	Plan     plan.Plan
	Journal  json.RawMessage // its state, as it was kept last
	Finished time.Time
}

// Reverse returns the request that takes back a job which only gave files new names, if it is one: they get their old ones in the same way. It
// fails where other files have the new names by now. replaced tells that the job replaced something, which stays held.
func (e Ended) Reverse(ends step.Ends) (r plan.Request, ok, replaced bool, err error) {
	d := e.Plan.Bodies[0]
	if len(e.Plan.Bodies) > 1 || !d.Renames || d.After == nil {
		return r, false, false, nil
	}
	w, err := e.work(d, ends)
	if err != nil {
		return r, true, false, err
	}
	for _, name := range w.state.Files {
		if isTag(name) { // which was made anew
			continue
		}
		at := path.Join(w.carried().Dir(), name)
		if now, err := identity(ends.Destination, at); err != nil || !isIt(w.state.Staged[name], now) {
			return r, true, false, &step.BlockedError{Check: plan.NotWhatItMade([]string{at})}
		}
	}
	to := d.Before.Place
	to.Format = ""
	r = plan.Request{
		Kind:            plan.Copy,
		Source:          d.After.Place,
		Destination:     &to,
		Release:         true,
		Chain:           d.Request.Chain,
		Family:          d.Request.Family,
		TakeDefinitions: d.Request.TakeDefinitions,
	}
	r.Source.Format = ""
	return r, true, w.state.Replaced, nil
}

// work is that on a disk of the job, as it was at its end.
func (e Ended) work(d plan.Disk, ends step.Ends) (*work, error) {
	w := &work{Job: step.Job{ID: plan.TaskID(e.Task, d.ID), Subject: d.ID, Ends: ends}, disk: d}
	var err error
	if w.state, err = stateOf(e.Journal, e.Job, d.ID); err != nil {
		return nil, err
	}
	for _, folder := range []storage.Folder{ends.Source, ends.Destination} { // a drive that is away says nothing of its files
		if _, err := folder.Space(); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// PrepareUndo looks at what an ended job left of one of its disks, and plans to take it back. It changes nothing.
func PrepareUndo(ctx context.Context, ends step.Ends, e Ended, disk string, known step.Known) (plan.Plan, error) {
	d, err := e.Plan.Body(disk)
	if err != nil {
		return plan.Plan{}, err
	}
	w, err := e.work(d, ends)
	if err != nil {
		return plan.Plan{}, err
	}
	f := plan.UndoFacts{
		Body:      d,
		Undone:    plan.Undone{Job: e.Job, Task: e.Task, Journal: e.Journal},
		Finished:  e.Finished,
		Knowledge: known.Knowledge,
	}
	f.Published = len(w.state.Staged) > 0
	for _, name := range slices.Backward(w.state.Files) {
		at := path.Join(w.carried().Dir(), name)
		f.Undone.Files = append(f.Undone.Files, at)
		info, err := ends.Destination.Stat(at)
		switch {
		case !w.isPlaced(w.carried().Dir(), name):
			if !carry.IsCompanion(name) { // without which the image is the same
				f.Changed = append(f.Changed, at)
			}
		case err == nil && info.IsDir:
			if is, err := lookThrough(ctx, ends.Destination, at); err != nil {
				return plan.Plan{}, err
			} else if is.Seen != w.state.Made {
				f.Written = append(f.Written, at)
			}
		case err == nil && info.Modified.After(e.Finished):
			f.Written = append(f.Written, at)
		case err == nil && info.Changed.After(e.Finished):
			f.Touched = append(f.Touched, at)
		}
	}
	if err := freeToGo(ends.Destination, f.Undone.Files); errors.Is(err, step.ErrInUse) {
		f.InUse = err
	} else if err != nil {
		return plan.Plan{}, err
	}
	if err := w.aroundUndo(ctx, known, &f); err != nil {
		return plan.Plan{}, err
	}
	return plan.TakeBack(f), nil
}

// aroundUndo finds what is in the way around the image and the source.
func (w *work) aroundUndo(ctx context.Context, known step.Known, f *plan.UndoFacts) (err error) {
	for name, id := range w.state.Released {
		there, thereErr := identity(w.Ends.Source, name)
		held, heldErr := identity(w.Ends.Source, w.heldAt(name))
		switch {
		case heldErr == nil && isIt(id, held) && thereErr == nil:
			f.Taken = append(f.Taken, name)
		case heldErr == nil && isIt(id, held), thereErr == nil && isIt(id, there): // it may come back, or is back already
		default:
			f.Lost = append(f.Lost, name)
		}
	}
	slices.Sort(f.Taken)
	slices.Sort(f.Lost)
	if w.state.Replaced {
		_, err := readHeld(w.Ends.Destination, heldID(w.ID))
		f.Replaced, f.Expired = err == nil, err != nil
	}
	standing := known.StandingThere
	if standing == nil {
		standing = standingIn(w.Ends.Destination, w.carried().Dir())
	}
	if f.Standing, err = standing(ctx, f.Undone.Files); err != nil {
		return err
	}
	f.Standing = slices.DeleteFunc(f.Standing, func(name string) bool { return slices.Contains(f.Undone.Files, name) }) // of one chain
	if known.Users == nil {
		return nil
	}
	f.Users, err = known.Users(ctx, slices.Clone(f.Undone.Files))
	f.Users = slices.DeleteFunc(f.Users, func(u plan.User) bool {
		return slices.ContainsFunc(w.disk.Handovers, func(h plan.Handover) bool {
			return h.Pool == u.Pool && h.Path == u.Path || h.To != nil && h.To.Pool == u.Pool && h.To.Path == u.Path
		})
	})
	return err
}

// openUndo takes up what an ended job left, and looks at it again.
func (w *work) openUndo(ctx context.Context) error {
	var err error
	if w.state, err = stateOf(w.disk.Undoes.Journal, w.disk.Undoes.Job, w.Subject); err != nil {
		return err
	}
	if err := w.recheckUndo(ctx); err != nil {
		return err
	}
	r := &w.proof
	r.Source.Side, r.Destination = *w.disk.After, &receipt.Side{Side: *w.disk.Before}
	if len(w.disk.Released) == 0 {
		r.Destination = nil
	}
	r.Outcome, r.Compared = receipt.Proven, "the identity of each file on the storage before and after it got its name back, or was held: nothing was copied, and no content was read"
	w.unidentified(w.Ends.Destination, w.state.Staged)
	if len(w.state.Released) > 0 {
		w.unidentified(w.Ends.Source, w.state.Released)
	}
	return nil
}

// stateOf is the state of the work on a disk in the journal of a job.
func stateOf(journal json.RawMessage, job, disk string) (s State, err error) {
	var j step.Journal
	if err := json.Unmarshal(journal, &j); err != nil {
		return s, fmt.Errorf("reading the journal of job %s: %w", job, err)
	}
	_, err = s.Load(&j, disk)
	return s, err
}

// recheckUndo looks again at what the plan relied on, unless an earlier time has begun already: what is new stands in the way.
func (w *work) recheckUndo(ctx context.Context) error {
	for _, name := range w.state.Files {
		if _, err := w.Ends.Destination.Stat(path.Join(HeldFolder, w.heldImage(), heldFiles, path.Join(w.carried().Dir(), name))); err == nil {
			return nil
		}
	}
	if _, err := w.Ends.Destination.Space(); err != nil { // it is waited for, whatever else is known
		return destination(err)
	}
	var known step.Known
	if w.Known != nil {
		var err error
		if known, err = w.Known(ctx); err != nil {
			return err
		}
	}
	body := w.disk
	body.Undoes = nil
	u := w.disk.Undoes
	e := Ended{Job: u.Job, Task: u.Task, Plan: plan.Plan{Bodies: []plan.Disk{body}}, Journal: u.Journal, Finished: time.Now()}
	p, err := PrepareUndo(ctx, w.Ends, e, w.Subject, known)
	if err != nil {
		return err
	}
	if stop := p.With(plan.Blocks); len(stop) > 0 {
		return &step.BlockedError{Check: stop[0]}
	}
	return nil
}

// heldImage is the ID under which the image that the job made is held.
func (w *work) heldImage() string { return heldID("taken back " + w.ID) }

// unpublish holds the image that the job made, and gives what that replaced its name again.
func (w *work) unpublish(context.Context) error {
	folder := w.Ends.Destination
	if _, err := folder.Space(); err != nil { // a drive that is away says nothing of its files
		return destination(err)
	}
	held := Held{
		ID:    w.heldImage(),
		Path:  w.disk.After.Place.Path,
		Until: time.Now().Add(w.Hold),
		Why:   "made and taken back by " + w.By,
	}
	if u := w.disk.Undoes; u != nil {
		held.Why = fmt.Sprintf("made by job %s, taken back by %s", u.Job, w.By)
	}
	_, before := readHeld(folder, held.ID)
	for _, name := range slices.Backward(w.state.Files) {
		at := path.Join(w.carried().Dir(), name)
		if w.isPlaced(w.carried().Dir(), name) {
			held.Files = append(held.Files, at)
			continue
		}
		if _, err := folder.Stat(path.Join(w.staging(), name)); carry.IsCompanion(name) || err == nil { // it never had its name
			continue
		}
		if _, err := folder.Stat(path.Join(HeldFolder, held.ID, heldFiles, at)); before != nil || err != nil {
			return fmt.Errorf("%s is not the file any more that the job made: nothing is done to it", at)
		}
	}
	if len(held.Files) > 0 {
		if err := freeToGo(folder, held.Files); err != nil {
			return err
		}
		if err := w.holdAs(folder, held); err != nil {
			return fmt.Errorf("holding the image: %w", err)
		}
		w.remark(fmt.Sprintf("the image is held until %s", held.Until.Local().Format("2006-01-02 15:04")))
	}
	if err := w.syncFolders(w.carried().Dir()); err != nil {
		return err
	}
	return w.moveBack()
}

// holdAs holds files, and fails unless they are the same ones there.
func (w *work) holdAs(folder storage.Folder, h Held) error {
	if err := hold(folder, h, itself); err != nil {
		return err
	}
	for _, file := range h.Files {
		now, err := identity(folder, path.Join(HeldFolder, h.ID, heldFiles, file))
		if err != nil {
			return err
		}
		if id := w.state.Staged[w.inside(file)]; !isIt(id, now) {
			return fmt.Errorf("%w: %s is another file (%s) than the job made (%s)", step.ErrNotProven, file, now, id)
		}
	}
	return nil
}

// heldSource is the ID under which the source of the task is held.
func (w *work) heldSource() string { return heldID("source of " + w.ID) }

// heldAt is where a file of the source lies while that is held.
func (w *work) heldAt(name string) string {
	return path.Join(HeldFolder, w.heldSource(), heldFiles, name)
}

// unrelease gives the source its names again. It is there already where it was not held, or an earlier time gave it them.
func (w *work) unrelease(context.Context) error {
	folder := w.Ends.Source
	if _, err := folder.Space(); err != nil {
		return err
	}
	for name, id := range w.state.Released { // held, or back already: the same file either way
		now, err := identity(folder, w.heldAt(name))
		if errors.Is(err, fs.ErrNotExist) {
			now, err = identity(folder, name)
		}
		if err == nil && !isIt(id, now) {
			err = fmt.Errorf("%w: %s is another file (%s) than the source was (%s)", step.ErrNotProven, name, now, id)
		}
		if err != nil {
			return fmt.Errorf("looking for the source: %w", err)
		}
	}
	if len(w.state.Released) == 0 { // it stayed
		return nil
	}
	if _, err := readHeld(folder, w.heldSource()); err == nil {
		if _, err := Restore(folder, w.heldSource(), false, w.Hold); err != nil {
			return fmt.Errorf("giving the source its names again: %w", err)
		}
	}
	for name, id := range w.state.Released {
		now, err := identity(folder, name)
		if err == nil && !isIt(id, now) {
			err = fmt.Errorf("%w: %s is another file (%s) than the source was (%s)", step.ErrNotProven, name, now, id)
		}
		if err != nil {
			return err
		}
	}
	w.remark("the source has its names again")
	return folder.Sync(path.Dir(w.disk.Before.Place.Path))
}
