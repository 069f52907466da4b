package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/own"
)

// kept is a state of a machine, with copies of the files of its disks.
type kept struct {
	Name       string            `json:"name"`
	Parent     string            `json:"parent,omitempty"`
	Notes      string            `json:"notes,omitempty"`
	Taken      time.Time         `json:"taken"`
	Memory     bool              `json:"memory,omitempty"` // it ran
	Definition string            `json:"definition"`
	Copies     map[string]string `json:"copies"` // by the files, beside them in a folder of their own
}

func (g *guest) kept(name string) int {
	return slices.IndexFunc(g.Kept, func(k kept) bool { return k.Name == name })
}

// Snapshots lists what is kept of a machine.
func (h *Host) Snapshots(m Which) (all []host.Snapshot, err error) {
	all = []host.Snapshot{}
	_, err = h.do(m, func(g *guest) error {
		for _, k := range g.Kept {
			all = append(all, host.Snapshot{
				Name: k.Name, Parent: k.Parent, Notes: k.Notes, Taken: k.Taken, Memory: k.Memory, Present: k.Name == g.Present,
				Definition: []byte(k.Definition), Files: maps.Clone(k.Copies),
			})
		}
		return nil
	})
	return all, err
}

// Take keeps the present state.
func (h *Host) Take(ctx context.Context, m Which, t host.Taking) (Entry, error) {
	return h.do(m, func(g *guest) error {
		name := t.Name
		if name == "" || g.kept(name) >= 0 {
			return fmt.Errorf("%w: a snapshot has a name of its own, and %q is none", errRefused, name)
		}
		if t.AtRest && (g.State != host.Running || !g.start.up) {
			return fmt.Errorf("%w: nobody in the guest puts its filesystems at rest", errRefused)
		}
		k := kept{
			Name: name, Parent: g.Present, Notes: t.Notes, Taken: time.Now().UTC(),
			Memory: g.State != host.Off && !t.Disks, Definition: g.Definition, Copies: map[string]string{},
		}
		if g.State == host.Running {
			g.start.writes.halt()
			defer g.start.writes.goOn()
		}
		for _, d := range g.is.Disks {
			dir := filepath.Join(filepath.Dir(d.File), "kept-"+strconv.FormatInt(k.Taken.UnixNano(), 10))
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return err
			}
			all, err := h.filesOf(ctx, d)
			if err != nil {
				return err
			}
			for _, name := range all {
				k.Copies[name] = filepath.Join(dir, filepath.Base(name))
				if err := copyFile(k.Copies[name], name); err != nil {
					return err
				}
			}
		}
		g.Kept, g.Present = append(g.Kept, k), name
		return nil
	})
}

// GoBack makes a kept state the present one.
func (h *Host) GoBack(ctx context.Context, m Which, name string) (Entry, error) {
	return h.do(m, func(g *guest) error {
		i := g.kept(name)
		if i < 0 {
			return fmt.Errorf("%w: it has no snapshot %s", errRefused, name)
		}
		k := g.Kept[i]
		g.off()
		for name, from := range k.Copies {
			if err := copyFile(name, from); err != nil {
				return err
			}
		}
		is, err := machine.Describe(own.Name, []byte(k.Definition))
		if err != nil {
			return err
		}
		g.is, g.Definition, g.Present = is, k.Definition, name
		if !k.Memory {
			return nil
		}
		return h.goOn(ctx, g, nil)
	})
}

// Drop forgets a kept state. What was taken behind it is behind its parent then.
func (h *Host) Drop(m Which, name string) (Entry, error) {
	return h.do(m, func(g *guest) error {
		i := g.kept(name)
		if i < 0 {
			return fmt.Errorf("%w: it has no snapshot %s", errRefused, name)
		}
		gone := g.Kept[i]
		g.Kept = slices.Delete(g.Kept, i, i+1)
		for i, k := range g.Kept {
			if k.Parent == name {
				g.Kept[i].Parent = gone.Parent
			}
		}
		if g.Present == name {
			g.Present = gone.Parent
		}
		var errs []error
		for _, copied := range gone.Copies {
			errs = append(errs, os.Remove(copied))
			_ = os.Remove(filepath.Dir(copied)) // once it is empty
		}
		return errors.Join(errs...)
	})
}

// filesOf are the files of a disk.
func (h *Host) filesOf(ctx context.Context, d machine.Disk) (all []string, err error) {
	r, err := h.openFile(ctx, d.File, d.Format)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	dir, _ := h.at(d.File)
	for _, f := range r.Describe().Files {
		all = append(all, path.Join(dir, f))
	}
	return all, nil
}

func copyFile(to, from string) error {
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, source)
	return errors.Join(err, out.Close())
}
