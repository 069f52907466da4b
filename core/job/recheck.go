package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// BlockedError is the error for a check that stands in the way of a task which has begun: it can go on when that is settled.
type BlockedError struct{ Check plan.Check }

func (e *BlockedError) Error() string { return fmt.Sprintf("%v: %s", ErrBlocked, e.Check.Message) }

// Is makes it an ErrBlocked, and an ErrInUse where it is that.
func (e *BlockedError) Is(target error) bool {
	return target == ErrBlocked || target == ErrInUse && e.inUse()
}

// Passes tells whether it may be settled without anybody doing anything for it.
func (e *BlockedError) Passes() bool { return e.inUse() || e.Check.Name == plan.Awaited }

func (e *BlockedError) inUse() bool { return e.Check.Name == "in-use" }

// recheck looks again at what the plan relied on, at the moment before something that cannot be taken back: what is new stands in the way.
// placed tells that the new image has its name.
func (w *work) recheck(ctx context.Context, placed bool) error {
	r := w.disk.Request
	if r.Destination == nil {
		return nil
	}
	var known Known
	if w.Known != nil {
		var err error
		if known, err = w.Known(ctx); err != nil {
			return err
		}
	}
	for _, c := range known.Knowledge.Checks(r) {
		if c.Severity == plan.Blocks {
			return &BlockedError{c}
		}
	}
	if err := w.recheckSource(ctx, known); err != nil || placed || !r.Replace {
		return err
	}
	return w.recheckReplaced(ctx, known)
}

// recheckSource looks at a source that goes away. One that is made anew in its place is looked at as what is replaced.
func (w *work) recheckSource(ctx context.Context, known Known) error {
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
	if err := freeToGo(w.Ends.Source, goes); errors.Is(err, ErrInUse) {
		return &BlockedError{plan.SourceInUse(err)}
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
		return &BlockedError{plan.StandsOnSource(r, on, len(w.chain) == 0)}
	}
	if known.Users == nil || r.LeaveDefinitions || !r.Release {
		return nil
	}
	users, err := known.Users(ctx, slices.Clone(goes))
	users = slices.DeleteFunc(users, func(u plan.User) bool { return slices.Contains(w.disk.Users, u.Where()) })
	if err == nil && len(users) > 0 {
		err = &BlockedError{plan.NewUsers(users)}
	}
	return err
}

// isKin tells whether a file opens a disk that comes along.
func (w *work) isKin(file string) bool {
	return slices.ContainsFunc(w.disk.Family, func(k plan.Kin) bool { return k.Path == file })
}

// isOurs tells whether a file of a pool is one that the plan writes.
func (w *work) isOurs(pool, file string) bool {
	return pool == w.disk.Request.Destination.Pool && slices.Contains(w.disk.Files, file)
}

// recheckReplaced looks at what lies where the new image will.
func (w *work) recheckReplaced(ctx context.Context, known Known) error {
	var replaced []string
	for _, name := range slices.Concat(w.disk.Files, w.disk.Displaced) {
		if _, err := w.Ends.Destination.Stat(name); err == nil {
			replaced = append(replaced, name)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return destination(err)
		}
	}
	if err := freeToGo(w.Ends.Destination, replaced); errors.Is(err, ErrInUse) {
		return &BlockedError{plan.ReplacedInUse(err)}
	} else if err != nil {
		return destination(err)
	}
	if known.StandingThere == nil || len(replaced) == 0 {
		return nil
	}
	on, err := known.StandingThere(ctx, replaced)
	on = slices.DeleteFunc(on, func(f string) bool { return slices.Contains(replaced, f) })
	if err == nil && len(on) > 0 {
		err = &BlockedError{plan.StandsOnReplaced(on)}
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
func (t Task) Placed(ctx context.Context) (bool, error) {
	old, err := t.Records.Load(ctx)
	w := t.work()
	if err != nil || old == nil || w.disk.Renames || old.Staged == nil {
		return false, err
	}
	w.state = *old
	return !slices.ContainsFunc(old.Files, func(name string) bool { return !w.isPlaced(w.carried().Dir(), name) }), nil
}

// isAsPlanned notes when the source is not the file any more that was planned with.
func (w *work) isAsPlanned() error {
	for _, u := range w.Plan.Uses() {
		if u.ID == "" {
			continue
		}
		info, err := w.Ends.Source.Stat(u.Path)
		if err != nil {
			return err
		}
		if info.ID != u.ID {
			w.remark(
				fmt.Sprintf("%s is another file than when this was planned: it was swapped meanwhile, and what was read is the new one", u.Path),
			)
		}
	}
	return nil
}
