package plan

import (
	"fmt"
	"path"
	"slices"

	"bagaglio/core/machine"
)

// StepRest has a machine go on from images that stand on its disks, which rest from then on.
const StepRest = "rest"

// rest says how a machine goes on whose disks rest under those of its linked copy. What is written into a disk that others stand on damages them.
func (w *whole) rest(parts []Plan) {
	if !w.r.Linked {
		return
	}
	for i, p := range w.f.Disks {
		if p.Path != "" && !w.choice(i).Leave && p.Pool != w.r.Destination.Pool {
			w.check(
				Blocks,
				"base",
				fmt.Sprintf("The disk %s lies in the pool %s: what stands on it has to lie there too.", DiskName(w.f.Is, i), p.Pool),
			)
		}
	}
	if w.apart() {
		w.check(
			Warns,
			"base",
			fmt.Sprintf("The copy stands on what %s keeps of %s: the snapshot cannot be dropped any more.", w.m.Host, w.f.Snapshot.Name),
		)
		return
	}
	if w.f.Snapshot != nil {
		w.check(
			Blocks,
			"base",
			"Nothing can stand on a snapshot inside of an image: copy it as a whole.",
			remedy("Copy it as a whole", map[string]any{"linked": nil}),
		)
		return
	}
	if len(w.f.Kept) > 0 {
		w.check(
			Blocks,
			"snapshot",
			fmt.Sprintf("%s has snapshots (%s): going back to one would write into what the copy stands on. Drop them first.",
				w.m.Here(), w.f.Kept[0].Name),
		)
		return
	}
	is := w.f.Is
	is.Disks = slices.Clone(is.Disks)
	first := len(parts) - w.f.Behind
	for at, i := 0, 0; i < len(is.Disks) && at < w.f.Behind; i++ {
		if w.f.Disks[i].Path == "" || w.choice(i).Leave {
			continue
		}
		p := parts[first+at]
		if len(p.After) == 0 {
			return // for which there is a check
		}
		is.Disks[i].File, is.Disks[i].Format = w.f.Pools[p.After[0].Place.Pool].Root.Path(p.After[0].Place.Path), p.After[0].Format
		is.Disks[i].Pool, is.Disks[i].Volume = "", ""
		w.m.GoesOn = append(w.m.GoesOn, fmt.Sprintf("disk%d", first+at+1))
		w.check(Informs, "base", fmt.Sprintf("%s rests from then on: both go on from images that stand on it, %s by %s.",
			w.f.Disks[i], w.m.Name, path.Base(p.After[0].Place.Path)))
		at++
	}
	text, err := machine.Become(w.f.Text, w.f.Format, w.f.Format, is)
	if err != nil {
		w.check(Blocks, "definition", fmt.Sprintf("The definition of %s cannot be written: %v.", w.m.Here(), err))
		return
	}
	w.m.Rests = string(text)
}
