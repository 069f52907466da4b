package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// keepAlong says what becomes of the states that its host keeps of a machine, and finds those that its new host is told of.
func (w *whole) keepAlong(parts []Plan) {
	if len(w.f.Kept) == 0 || w.m.From != nil || w.f.Snapshot != nil {
		return
	}
	names := []string{}
	for _, k := range w.f.Kept {
		names = append(names, storage.Printable(k.Name))
	}
	if w.m.Stays() && !slices.ContainsFunc(parts, func(p Plan) bool { return len(p.After) > 0 }) {
		return // nothing of it goes anywhere
	}
	if !w.m.Move {
		w.check(Informs, "snapshot", fmt.Sprintf("Its snapshots stay with it: the copy is of the present state only (%s).", some(names)))
		return
	}
	if why := w.losesKept(parts); why != "" {
		w.check(Warns, "snapshot", fmt.Sprintf("Its snapshots do not go along, since %s: only the present state does (%s).", why, some(names)))
		return
	}
	for _, k := range w.f.Kept {
		k, err := w.keptThere(k, parts)
		if err != nil {
			w.check(Warns, "snapshot", fmt.Sprintf("Its snapshot %s does not go along: %v.", k.Name, err))
			w.m.Along = nil
			return
		}
		w.m.Along = append(w.m.Along, k)
	}
	w.m.Had = w.f.Kept
	w.check(Informs, "snapshot", fmt.Sprintf("Its snapshots go along with its images, and %s is told of them: %s.", w.m.To, some(names)))
}

// losesKept is why states do not go along, empty where they do.
func (w *whole) losesKept(parts []Plan) string {
	switch {
	case w.m.To == "" || !w.f.Adopts || w.f.Format != w.f.ToFormat:
		return "its new place has no list of such"
	case w.m.Stays():
		return "its host would look for them where its disks were"
	case !withImages(w.f.Kept):
		return "its host keeps them apart from its disks"
	}
	for _, p := range parts {
		if len(p.Bodies) > 0 && p.Bodies[0].Request.Kind != Copy {
			return "its disks are made anew in another form"
		}
	}
	return ""
}

// withImages tells whether states lie inside of images or below them, and what the machine was then is known.
func withImages(kept []host.Snapshot) bool {
	return !slices.ContainsFunc(kept, func(k host.Snapshot) bool {
		return len(k.Definition) == 0 || len(k.Files) != len(k.Layers)
	})
}

// keptThere is a state as it is to be on the new host: with the same disks in their new places.
func (w *whole) keptThere(k host.Snapshot, parts []Plan) (host.Snapshot, error) {
	is, err := machine.Describe(w.f.Format, k.Definition)
	if err != nil {
		return k, err
	}
	layers, files := map[string]string{}, map[string]string{}
	is.Name, is.Disks = w.m.After.Name, slices.Clone(is.Disks)
	for i, d := range is.Disks {
		to, ok := w.goesTo(d, parts)
		if !ok {
			return k, fmt.Errorf("it has the disk %s, which the machine does not have any more", d.Lies())
		}
		is.Disks[i].File, is.Disks[i].Pool, is.Disks[i].Volume = to, "", ""
		if layer := k.Layers[d.File]; layer != "" {
			if layers[to], ok = w.goesTo(machine.Disk{File: layer}, parts); !ok {
				return k, fmt.Errorf("what was put on the disk %s for it, %s, does not go along", d.Lies(), layer)
			}
			files[to] = to
		}
	}
	for i := range is.Networks {
		if i < len(w.m.After.Networks) {
			is.Networks[i].Kind, is.Networks[i].Network = w.m.After.Networks[i].Kind, w.m.After.Networks[i].Network
		}
	}
	if len(k.Layers) > 0 {
		k.Layers, k.Files = layers, files
	}
	k.Definition, err = machine.Become(k.Definition, w.f.Format, w.f.Format, is)
	return k, err
}

// goesTo is where a disk of a state goes, or an image of it: that of a disk of the machine, or of what that stands on.
func (w *whole) goesTo(d machine.Disk, parts []Plan) (at string, ok bool) {
	for i, now := range w.f.Is.Disks {
		if now.Lies() == d.Lies() && i < len(w.m.After.Disks) {
			return w.m.After.Disks[i].File, true
		}
		root, under := strings.CutSuffix(now.File, w.f.Disks[i].Path)
		name, below := strings.CutPrefix(d.File, root)
		if !under || !below || i >= len(parts) || len(parts[i].Bodies) == 0 {
			continue
		}
		body := parts[i].Bodies[0]
		if n := slices.IndexFunc(body.Copied, func(c Copied) bool { return c.From == name }); n >= 0 {
			return w.f.Pools[body.Request.Destination.Pool].Root.Path(path.Join(body.Root, body.Copied[n].To)), true
		}
	}
	return "", false
}
