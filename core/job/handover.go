package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync"
	"time"

	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// handOver has the definitions of machines name the disk in its new place. Where one cannot be changed, the source stays, so that the
// machine starts all the same.
func (w *work) handOver(ctx context.Context) error {
	if err := w.enter(ctx, plan.StepHandOver); err != nil {
		return err
	}
	for _, h := range w.Plan.Handovers {
		definition := fmt.Sprintf("the definition of %s (%s:%s)", h.Machine, h.Pool, h.Path)
		err := w.follow(h, h.Change(), handedOver+w.ID)
		switch {
		case err == nil:
			w.remark(definition + " names the disk in its new place; the old one is held")
		case CanWait(err):
			return fmt.Errorf("changing %s: %w", definition, err)
		default:
			w.state.LeftBehind = true
			w.remark(fmt.Sprintf("%s could not be changed, and names the disk where it was: %v", definition, Explain(err)))
		}
	}
	return w.keep(ctx, nil)
}

// handedOver begins what the IDs are made of under which definitions are held.
const handedOver = "handed over "

// changing lets one definition be changed at a time: two jobs may carry disks of one machine.
var changing sync.Mutex

// follow changes a definition and holds the old one. It may be done again after it was interrupted.
func (t Task) follow(h plan.Handover, c machine.Change, why string) error {
	folder := t.Ends.Definitions[h.Pool]
	if folder == nil {
		return fmt.Errorf("the pool %s is not known any more", h.Pool)
	}
	d := definition{folder: folder, name: h.Path, staging: path.Join(StagingFolder, t.ID, "definition"), held: Held{
		ID: heldID(why + " " + h.Path), Path: h.Path, Files: []string{h.Path}, Until: time.Now().Add(t.Hold),
		Why: fmt.Sprintf("the definition of %s, changed by %s", h.Machine, t.By),
	}}
	changing.Lock()
	defer changing.Unlock()
	return errors.Join(d.change(c), Clear(folder, t.ID))
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
	old, err := d.stage("old", text)
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
	staged, err := d.stage("new", text)
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

// stage writes a text under a name in the staging folder for good, with the owner and mode of the definition.
func (d definition) stage(name string, text []byte) (string, error) {
	name = path.Join(d.staging, name)
	if err := d.folder.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier time
		return "", err
	}
	file, err := d.folder.Create(name)
	if err != nil {
		return "", err
	}
	_, err = file.WriteAt(text, 0)
	if err := errors.Join(err, file.Sync(), file.Close()); err != nil {
		return "", err
	}
	if o, ok := d.folder.(storage.Owner); ok {
		old, errOld := d.folder.Stat(d.name)
		now, errNow := d.folder.Stat(name)
		err := errors.Join(errOld, errNow)
		if err == nil && (now.Owner != old.Owner || now.Mode != old.Mode) {
			err = o.Own(name, old.Owner, old.Mode)
		}
		if err != nil {
			return "", fmt.Errorf("giving the new definition the owner and mode of the old one: %w", err)
		}
	}
	return name, d.folder.Sync(d.staging)
}
