package machines

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
	"time"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// still has the disks of a machine that runs stand still while another one is tried out from them.
type still struct {
	machines *Machines
	setting  string // under which it is kept what is to be taken back, empty where nothing is
	why      string // what is to be known of that, in words
	covered
}

// covered is a machine whose guest writes to images on its disks for a while.
type covered struct {
	Host  string      `json:"host"`
	Name  string      `json:"name"`
	UUID  string      `json:"uuid"`
	Disks []coverDisk `json:"disks"`
}

type coverDisk struct {
	Slot  string     `json:"slot"`
	File  string     `json:"file"` // on the host
	Cover plan.Place `json:"cover"`
}

// stillPrefix is how names of settings begin that say what is to be taken back.
const stillPrefix = "still/"

// still has the guest of a machine write to new images, where its host can do that; a machine that is nil, or is off, has nothing done to it. What was done is kept before,
// so that it is taken back whatever happens to this process.
func (m *Machines) still(ctx context.Context, runs *Machine) (*still, error) {
	s := &still{machines: m}
	if runs == nil {
		return s, nil
	}
	layers, err := m.LayersOn(ctx, runs.Host)
	if err != nil {
		return nil, err
	}
	named := !slices.ContainsFunc(runs.Disks, func(d Disk) bool { return d.File == "" }) // otherwise they are volumes of its host's own
	if !layers || !named {
		s.why = fmt.Sprintf(
			"%s was %s, and its disks changed while they were read: that may be why something did not come up",
			called(*runs),
			runs.State,
		)
		return s, nil
	}
	m.trying.Lock() // two at once would put images on each other's
	defer m.trying.Unlock()
	if err := m.Untried(ctx, runs.Host, runs.Name); err != nil {
		return nil, err
	}
	if busy, err := m.isWorkedOn(ctx, called(*runs)); busy || err != nil {
		return nil, errors.Join(
			err,
			fmt.Errorf("%w: a job is about %s, which may change its disks: wait for its end", records.ErrState, called(*runs)),
		)
	}
	s.covered = covered{Host: runs.Host, Name: runs.Name, UUID: runs.UUID}
	on, fresh := map[string]string{}, uuid.NewString()[:8]
	for _, d := range runs.Disks {
		cover := strings.TrimSuffix(d.Path, path.Ext(d.Path)) + "-" + fresh + "-trial.qcow2"
		s.Disks = append(s.Disks, coverDisk{Slot: d.Slot, File: d.File, Cover: plan.Place{Pool: d.InPool, Path: cover}})
		on[d.Slot] = path.Join(path.Dir(d.File), path.Base(cover))
	}
	text, err := json.Marshal(s.covered)
	if err != nil {
		return nil, err
	}
	s.setting = stillPrefix + called(*runs)
	if err := m.records.SetSetting(ctx, s.setting, string(text)); err != nil {
		return nil, err
	}
	for i, d := range runs.Disks {
		if err == nil {
			err = m.coverOne(ctx, d, s.Disks[i])
		}
	}
	if err == nil {
		_, err = m.Guests(runs.Host).Cover(ctx, runs.Machine, on, false)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("having the disks of %s stand still: %w", called(*runs), err), s.end(context.WithoutCancel(ctx)))
	}
	s.why = fmt.Sprintf("%s ran on meanwhile; it was tried out from its disks as a power cut would have left them", called(*runs))
	return s, nil
}

// Untried fails as long as a machine that runs is tried out, or what that did to it is not taken back: its disks are stored elsewhere meanwhile.
func (m *Machines) Untried(ctx context.Context, on, name string) error {
	_, err := m.records.Setting(ctx, stillPrefix+on+":"+name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil
	case err == nil:
		err = fmt.Errorf("%w: %s:%s is being tried out, and its guest writes to other images until that is over", records.ErrState, on, name)
	}
	return err
}

// coverOne makes the image that a guest writes to, beside its disk and for whoever has that.
func (m *Machines) coverOne(ctx context.Context, d Disk, c coverDisk) error {
	folder, err := m.places.Folder(ctx, d.InPool)
	if err != nil {
		return err
	}
	info, err := folder.Stat(d.Path)
	if err != nil {
		return err
	}
	base, err := disk.Open(ctx, folder, d.Path, d.Format)
	if err != nil {
		return err
	}
	defer base.Close()
	qcow2, err := disk.Lookup("qcow2")
	if err != nil {
		return err
	}
	made, err := qcow2.Create(
		disk.Target{Folder: folder, Name: c.Cover.Path, Size: base.Size(), Layout: "overlay", Base: base, BaseName: d.File},
	)
	if err == nil {
		err = errors.Join(made.Commit(ctx), made.Close())
	}
	if o, ok := storage.As[storage.Owner](folder); ok && err == nil && info.Owner != "" {
		err = o.Own(c.Cover.Path, info.Owner, info.Mode)
	}
	return err
}

// end has the host write down into the disks what was written meanwhile. Where that cannot be done now, it is done when the service is started again.
func (s *still) end(ctx context.Context) error {
	if s.setting == "" {
		return nil
	}
	if err := s.machines.uncover(ctx, s.covered); err != nil {
		return fmt.Errorf("having %s:%s write to its own disks again: %w", s.Host, s.Name, err)
	}
	return s.machines.records.DropSetting(ctx, s.setting)
}

// uncover has a guest go on from its own disks, with what it wrote meanwhile.
func (m *Machines) uncover(ctx context.Context, c covered) error {
	on := m.Guests(c.Host)
	x, err := on.Machine(ctx, c.Name)
	if errors.Is(err, host.ErrNoMachine) || err == nil && x.UUID != c.UUID {
		return nil // it is gone, and with it what its disks are stored in
	}
	if err != nil {
		return err
	}
	for _, d := range c.Disks {
		files, err := on.Layers(ctx, x, d.Slot)
		if err != nil {
			return err
		}
		if len(files) > 0 && files[0] != d.File {
			if _, err := on.Merge(ctx, x, d.Slot, d.File); err != nil {
				return err
			}
		}
		folder, err := m.places.Folder(ctx, d.Cover.Pool)
		if err != nil {
			return err
		}
		if err := folder.Remove(d.Cover.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// againAfter is how long is waited before something is tried again that an earlier process left.
const againAfter = 10 * time.Second

// TakeUp takes back what trials of an earlier process did to machines that run, and serves again what it had lent, until nothing is left of that, or ctx ends.
func (m *Machines) TakeUp(ctx context.Context) {
	var both sync.WaitGroup
	both.Go(func() { m.takeUp(ctx, stillPrefix, m.takeBack) })
	both.Go(func() { m.takeUp(ctx, loanPrefix, m.loans.again) })
	both.Wait()
}

// takeUp does something for each setting that an earlier process left, until it is done. Those of this process are its own matter.
func (m *Machines) takeUp(ctx context.Context, prefix string, do func(ctx context.Context, name, text string) error) {
	left, err := m.records.Settings(ctx, prefix)
	if err != nil {
		m.log.Warn("looking for what an earlier process left", "error", err)
		return
	}
	for ctx.Err() == nil && len(left) > 0 {
		for name, text := range left {
			if err := do(ctx, name, text); err == nil {
				delete(left, name)
			} else if ctx.Err() == nil {
				m.log.Warn("taking up what an earlier process left", "what", name, "error", err)
			}
		}
		if len(left) == 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(againAfter):
		}
	}
}

// takeBack takes back what a trial did to a machine that runs.
func (m *Machines) takeBack(ctx context.Context, name, text string) error {
	var c covered
	err := json.Unmarshal([]byte(text), &c)
	if err == nil {
		err = m.uncover(ctx, c)
	}
	if err == nil {
		err = m.records.DropSetting(ctx, name)
	}
	return err
}
