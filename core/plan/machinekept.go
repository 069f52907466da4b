package plan

import (
	"fmt"
	"slices"

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
		text, err := w.keptThere(k)
		if err != nil {
			w.check(Warns, "snapshot", fmt.Sprintf("Its snapshot %s does not go along: %v.", k.Name, err))
			w.m.Along = nil
			return
		}
		k.Definition = text
		w.m.Along = append(w.m.Along, k)
	}
	w.m.Had = w.f.Kept
	w.check(Informs, "snapshot", fmt.Sprintf("Its snapshots go along inside of its images, and %s is told of them: %s.", w.m.To, some(names)))
}

// losesKept is why states do not go along, empty where they do.
func (w *whole) losesKept(parts []Plan) string {
	switch {
	case w.m.To == "" || !w.f.Adopts || w.f.Format != w.f.ToFormat:
		return "its new place has no list of such"
	case w.m.Stays():
		return "its host would look for them where its disks were"
	case !inside(w.f.Kept):
		return "its host keeps them apart from its disks"
	}
	for _, p := range parts {
		if len(p.Bodies) > 0 && p.Bodies[0].Request.Kind != Copy {
			return "its disks are made anew in another form"
		}
	}
	return ""
}

// inside tells whether states lie inside of images, and what the machine was then is known.
func inside(kept []host.Snapshot) bool {
	return !slices.ContainsFunc(kept, func(k host.Snapshot) bool { return len(k.Files) > 0 || len(k.Definition) == 0 })
}

// keptThere is the definition of a state as it is to be on the new host: with the same disks in their new places.
func (w *whole) keptThere(k host.Snapshot) ([]byte, error) {
	is, err := machine.Describe(w.f.Format, k.Definition)
	if err != nil {
		return nil, err
	}
	is.Name, is.Disks = w.m.After.Name, slices.Clone(is.Disks)
	for i, d := range is.Disks {
		at := slices.IndexFunc(w.f.Is.Disks, func(now machine.Disk) bool { return now.Lies() == d.Lies() })
		if at < 0 || at >= len(w.m.After.Disks) {
			return nil, fmt.Errorf("it has the disk %s, which the machine does not have any more", d.Lies())
		}
		is.Disks[i].File, is.Disks[i].Pool, is.Disks[i].Volume = w.m.After.Disks[at].File, "", ""
	}
	for i := range is.Networks {
		if i < len(w.m.After.Networks) {
			is.Networks[i].Kind, is.Networks[i].Network = w.m.After.Networks[i].Kind, w.m.After.Networks[i].Network
		}
	}
	return machine.Become(k.Definition, w.f.Format, w.f.Format, is)
}
