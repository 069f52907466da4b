package disks

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sync"
	"time"

	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
)

// follows has the definitions of machines name the disk in its new place. Where one cannot be changed, the source stays, so that the
// machine starts all the same.
func (w *work) follows(ctx context.Context) error {
	if err := w.enter(ctx, plan.StepHandOver); err != nil {
		return err
	}
	for _, h := range w.disk.Handovers {
		definition := fmt.Sprintf("the definition of %s (%s:%s)", h.Machine, h.Pool, h.Path)
		err := w.follow(h, h.Change(), handedOver+w.ID)
		switch {
		case err == nil:
			w.remark(definition + " names the disk in its new place; the old one is held")
		case step.CanWait(err):
			return fmt.Errorf("changing %s: %w", definition, err)
		default:
			w.state.LeftBehind = true
			w.remark(fmt.Sprintf("%s could not be changed, and names the disk where it was: %v", definition, step.Explain(err)))
		}
	}
	return w.keep(ctx, nil)
}

// handBack has the definitions name the disk where it was. One that went along stays where it went.
func (w *work) handBack(context.Context) error {
	for _, h := range w.disk.Handovers {
		c := h.Change().Reverse()
		if h.To != nil {
			if _, err := machine.Text(w.Ends.Definitions[h.Pool], h.Path); err == nil { // it never went
				continue
			}
			c = back(h)
		}
		if h.Format != "" {
			c.Format = w.disk.Before.Format
		}
		if err := w.follow(h, c, "handed back "+w.ID); err != nil {
			return fmt.Errorf("changing the definition %s:%s back: %w", h.Pool, h.Path, err)
		}
	}
	return nil
}

// handedOver begins what the IDs are made of under which definitions are held.
const handedOver = "handed over "

// changing lets one definition be changed at a time: two jobs may carry disks of one machine.
var changing sync.Mutex

// follow changes a definition and holds the old one. It may be done again after it was interrupted.
func (w *work) follow(h plan.Handover, c machine.Change, why string) error {
	folder := w.Ends.Definitions[h.Pool]
	if folder == nil {
		return fmt.Errorf("the pool %s is not known any more", h.Pool)
	}
	d := definition{folder: folder, name: h.Path, staging: path.Join(StagingFolder, w.ID, "definition"), held: Held{
		ID: heldID(why + " " + h.Path), Path: h.Path, Files: []string{h.Path}, Until: time.Now().Add(w.Hold),
		Why: fmt.Sprintf("the definition of %s, changed by %s", h.Machine, w.By),
	}}
	changing.Lock()
	defer changing.Unlock()
	if h.To == nil {
		return errors.Join(d.change(c), Clear(folder, w.ID))
	}
	to := d
	if to.folder, to.name = w.Ends.Definitions[h.To.Pool], h.To.Path; to.folder == nil {
		return fmt.Errorf("the pool %s is not known any more", h.To.Pool)
	}
	to.held.Path, to.held.Files = h.To.Path, []string{h.To.Path}
	return errors.Join(to.take(d, h, c), Clear(folder, w.ID), Clear(to.folder, w.ID))
}

// take puts the changed text of an old definition in its new place, and holds the old one. Another job may have done so, for another disk
// of the machine: then it is changed where it is now.
func (d definition) take(old definition, h plan.Handover, c machine.Change) error {
	text, err := machine.Text(old.folder, old.name)
	if errors.Is(err, fs.ErrNotExist) {
		return d.change(d.present(h, c))
	}
	if err != nil {
		return err
	}
	moved := machine.Change{Names: maps.Clone(h.Whole), Format: c.Format}
	maps.DeleteFunc(moved.Names, func(from, to string) bool { return from == to })
	maps.Copy(moved.Names, c.Names)
	changed, err := machine.Follow(old.name, text, moved)
	if err != nil {
		return err
	}
	like, err := old.folder.Stat(old.name)
	if err != nil {
		return err
	}
	staged, err := d.stage("new", changed, like)
	if err != nil {
		return err
	}
	if err = d.folder.Rename(staged, d.name); errors.Is(err, fs.ErrExist) {
		there, readErr := machine.Text(d.folder, d.name)
		if readErr != nil || !bytes.Equal(there, changed) { // not by an earlier time
			return fmt.Errorf("%s exists already in the pool that it would go to: %w", d.name, errors.Join(fs.ErrExist, readErr))
		}
		err = nil
	}
	if err == nil {
		err = d.folder.Sync(path.Dir(d.name))
	}
	if err != nil {
		return err
	}
	return errors.Join(hold(old.folder, old.held, itself), old.folder.Sync(path.Dir(old.name)))
}

// present is a change of the names that a definition has now which went along with another disk: those that were relative are whole there.
func (d definition) present(h plan.Handover, c machine.Change) machine.Change {
	text, err := machine.Text(d.folder, d.name)
	if err != nil {
		return c // which then fails for that
	}
	now, err := machine.Parse(d.name, text)
	if err != nil {
		return c
	}
	names := map[string]string{}
	for from, to := range c.Names {
		if whole := h.Whole[from]; whole != "" && !slices.Contains(now.Files(), from) {
			from = whole
		}
		names[from] = to
	}
	return machine.Change{Names: names, Format: c.Format}
}

// back is the change that has a definition name a disk in its old place again, as seen from anywhere.
func back(h plan.Handover) machine.Change {
	names := map[string]string{}
	for from, to := range h.Names {
		names[to] = cmp.Or(h.Whole[from], from)
	}
	return machine.Change{Names: names}
}

// definition is the file of one that is changed.
type definition struct {
	folder  storage.Folder
	name    string
	staging string // folder for what is being made
	held    Held   // as which the old one is kept
}

// change puts the changed text in the place of the old one. A copy of that is held before anything happens to it.
func (d definition) change(c machine.Change) error {
	text, err := machine.Text(d.folder, d.name)
	if errors.Is(err, fs.ErrNotExist) { // an earlier time was interrupted
		if err := d.putBack(); err != nil {
			return err
		}
		text, err = machine.Text(d.folder, d.name)
	}
	if err != nil {
		return err
	}
	if now, err := machine.Parse(d.name, text); err == nil && now.Followed(c) {
		return nil
	}
	changed, err := machine.Follow(d.name, text, c)
	if err != nil {
		return err
	}
	if err = d.keep(text); err == nil {
		err = d.replace(changed)
	}
	if err == nil {
		return nil
	}
	if now, readErr := machine.Text(d.folder, d.name); readErr == nil && bytes.Equal(now, text) {
		return errors.Join(err, DropHeld(d.folder, d.held.ID)) // it never went
	}
	return errors.Join(err, d.putBack())
}

// keep holds a copy of the old text.
func (d definition) keep(text []byte) error {
	if _, err := d.folder.Stat(path.Join(HeldFolder, d.held.ID, heldFiles, d.name)); err == nil { // an earlier time did so
		return nil
	}
	like, err := d.folder.Stat(d.name)
	if err != nil {
		return err
	}
	old, err := d.stage("old", text, like)
	if err != nil {
		return err
	}
	return hold(d.folder, d.held, func(string) string { return old })
}

// putBack restores the old definition where there is none.
func (d definition) putBack() error {
	if _, err := d.folder.Stat(d.name); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := readHeld(d.folder, d.held.ID); err != nil {
		return nil // nothing was done to it
	}
	_, err := Restore(d.folder, d.held.ID, false, 0)
	return err
}

func (d definition) replace(text []byte) error {
	like, err := d.folder.Stat(d.name)
	if err != nil {
		return err
	}
	staged, err := d.stage("new", text, like)
	if err != nil {
		return err
	}
	err = d.folder.Exchange(staged, d.name)
	if errors.Is(err, errors.ErrUnsupported) {
		if err = d.folder.Remove(d.name); err == nil {
			err = d.folder.Rename(staged, d.name)
		}
	}
	if err != nil {
		return err
	}
	return d.folder.Sync(path.Dir(d.name))
}

// stage writes a text under a name in the staging folder for good, with the owner and mode of a file.
func (d definition) stage(name string, text []byte, like storage.Info) (string, error) {
	name = path.Join(d.staging, name)
	if err := storage.WriteFile(d.folder, name, text); err != nil {
		return "", err
	}
	if o, ok := storage.As[storage.Owner](d.folder); ok {
		now, err := d.folder.Stat(name)
		if err == nil && (now.Owner != like.Owner || now.Mode != like.Mode) {
			err = o.Own(name, like.Owner, like.Mode)
		}
		if err != nil {
			return "", fmt.Errorf("giving the new definition the owner and mode of the old one: %w", err)
		}
	}
	return name, d.folder.Sync(d.staging)
}
