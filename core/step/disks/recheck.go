package disks

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// recheck looks again at what the plan relied on, at the moment before something that cannot be taken back: what is new stands in the way.
// placed tells that the new image has its name.
func (w *work) recheck(ctx context.Context, placed bool) error {
	r := w.disk.Request
	if r.Destination == nil && r.Kind != plan.Remove {
		return nil
	}
	var known step.Known
	if w.Known != nil {
		var err error
		if known, err = w.Known(ctx); err != nil {
			return err
		}
	}
	for _, c := range known.Knowledge.Checks(r) {
		if c.Severity == plan.Blocks {
			return &step.BlockedError{Check: c}
		}
	}
	if err := w.recheckSource(ctx, known); err != nil || placed || !r.Replace {
		return err
	}
	return w.recheckReplaced(ctx, known)
}

// recheckSource looks at a source that goes away. One that is made anew in its place is looked at as what is replaced.
func (w *work) recheckSource(ctx context.Context, known step.Known) error {
	r, goes := w.disk.Request, w.disk.Released
	if w.disk.Renames {
		goes = nil
		for _, c := range w.disk.Copied {
			if !c.Stays && !isTag(c.From) {
				goes = append(goes, c.From)
			}
		}
	}
	if len(goes) == 0 {
		return nil
	}
	if err := freeToGo(w.Ends.Source, goes); errors.Is(err, step.ErrInUse) {
		return &step.BlockedError{Check: plan.SourceInUse(err)}
	} else if err != nil {
		return err
	}
	standing := known.Standing
	if standing == nil {
		standing = standingIn(w.Ends.Source, path.Dir(w.disk.Before.Place.Path))
	}
	on, err := standing(ctx, goes)
	if err != nil {
		return err
	}
	on = slices.DeleteFunc(on, func(f string) bool { return slices.Contains(goes, f) || w.isKin(f) || w.isOurs(r.Source.Pool, f) })
	if len(on) > 0 {
		return &step.BlockedError{Check: plan.StandsOnSource(r, on, len(w.chain) == 0)}
	}
	if known.Users == nil || r.LeaveDefinitions || !r.Goes() {
		return nil
	}
	users, err := known.Users(ctx, slices.Clone(goes))
	users = slices.DeleteFunc(users, func(u plan.User) bool {
		return slices.Contains(w.disk.Users, u.Where()) || slices.ContainsFunc(w.disk.Handovers, func(h plan.Handover) bool {
			return h.To != nil && h.To.String() == u.Where() // it went along with another disk of the machine
		})
	})
	if err == nil && len(users) > 0 {
		err = &step.BlockedError{Check: plan.NewUsers(users)}
	}
	return err
}

// isKin tells whether a file opens a disk that comes along.
func (w *work) isKin(file string) bool {
	return slices.ContainsFunc(w.disk.Family, func(k plan.Kin) bool { return k.Path == file })
}

// isOurs tells whether a file of a pool is one that the plan writes.
func (w *work) isOurs(pool, file string) bool {
	to := w.disk.Request.Destination
	return to != nil && pool == to.Pool && slices.Contains(w.disk.Files, file)
}

// recheckReplaced looks at what lies where the new image will.
func (w *work) recheckReplaced(ctx context.Context, known step.Known) error {
	var replaced []string
	for _, name := range slices.Concat(w.disk.Files, w.disk.Displaced) {
		if _, err := w.Ends.Destination.Stat(name); err == nil {
			replaced = append(replaced, name)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return destination(err)
		}
	}
	if err := freeToGo(w.Ends.Destination, replaced); errors.Is(err, step.ErrInUse) {
		return &step.BlockedError{Check: plan.ReplacedInUse(err)}
	} else if err != nil {
		return destination(err)
	}
	if known.StandingThere == nil || len(replaced) == 0 {
		return nil
	}
	on, err := known.StandingThere(ctx, replaced)
	on = slices.DeleteFunc(on, func(f string) bool { return slices.Contains(replaced, f) })
	if err == nil && len(on) > 0 {
		err = &step.BlockedError{Check: plan.StandsOnReplaced(on)}
	}
	return err
}

// freeToGo fails for files that another program uses. Those that are not there any more are no matter.
func freeToGo(folder storage.Folder, files []string) error {
	for _, name := range files {
		if err := inUse(folder, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Placed tells whether an earlier time has given the new image its name: then it is there, complete, whatever else was left to do.
func (w *work) Placed() bool {
	known, err := w.Log.Load(&w.state)
	if err != nil || !known || w.disk.Renames || w.state.Staged == nil {
		return false
	}
	return !slices.ContainsFunc(w.state.Files, func(name string) bool { return !w.isPlaced(w.carried().Dir(), name) })
}

// uses are the files that the steps of the disk read or write.
func (w *work) uses() []plan.Use {
	own := plan.Plan{Steps: slices.Clone(w.Plan.Steps)}
	own.Steps = slices.DeleteFunc(own.Steps, func(s plan.Step) bool { return step.Subject(s.ID) != w.Subject })
	return own.Uses()
}

// AnotherDisk is the check for a disk of a computer that is another one than the one that was planned with.
func AnotherDisk(p plan.Place) plan.Check {
	return plan.Check{
		Name:     "source",
		Severity: plan.Blocks,
		Message:  fmt.Sprintf("%s is another disk than the one that this was planned with: plan it again.", p),
	}
}

// isAsPlanned notes when the source is not the file any more that was planned with.
func (w *work) isAsPlanned() error {
	for _, u := range w.uses() {
		if u.ID == "" || u.Writes && w.disk.Device != "" {
			continue
		}
		info, err := w.Ends.Source.Stat(u.Path)
		if err != nil {
			return err
		}
		if info.ID != u.ID && w.disk.Request.Source.IsDevice() {
			return &step.BlockedError{Check: AnotherDisk(w.disk.Request.Source)}
		}
		if info.ID != u.ID {
			w.remark(
				fmt.Sprintf("%s is another file than when this was planned: it was swapped meanwhile, and what was read is the new one", u.Path),
			)
		}
	}
	return nil
}
