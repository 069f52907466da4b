package plan

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/host"
)

// UsualStop is for how long a machine may stand still on its way to another host, in seconds, where nothing is said; and MostPasses how often what was written meanwhile
// is copied before somebody is asked.
const UsualStop, MostPasses = 30, 8

// Steps of a machine whose disks move while it runs, around those of the disks.
const (
	StepPasses = "passes" // to another host: copy what was written meanwhile, until what is left fits into the stop
	StepLast   = "last"   // likewise, once it is off
	StepCover  = "cover"  // its guest writes to new images from then on, and what lies below stands still
	StepMirror = "mirror" // what was written since goes along, and the guest goes on from the new disks
	StepMerge  = "merge"  // it is written down into them
	StepLend   = "lend"   // its old disks are served to its new host, where it is known with images of its own over them
)

// LiveDisk is a disk of a machine that moves while its guest goes on. Its places are in pools, and its files on the host.
type LiveDisk struct {
	ID       string `json:"id"` // of its body
	Slot     string `json:"slot"`
	Was      Place  `json:"was"`
	WasFile  string `json:"was_file"`
	Now      Place  `json:"now"`
	NowFile  string `json:"now_file"`
	Format   string `json:"format"` // of the new one
	Size     int64  `json:"size"`   // virtual, in bytes
	OldForm  string `json:"old_form"`
	Cover    Place  `json:"cover"` // stands on the old disk, and has what the guest writes meanwhile
	CoverAt  string `json:"cover_at"`
	Top      Place  `json:"top"` // stands on the new disk, and gets what was written meanwhile
	TopAt    string `json:"top_at"`
	Returned Place  `json:"returned"` // stands on the old disk again, where the job goes back
	ReturnAt string `json:"return_at"`
}

// Pass are the images of a pass: what the guest writes to since, and what has that in the new place. The last one is Top.
func (d LiveDisk) Pass(n int) (cover Place, coverAt string, copied Place) {
	number := func(name string) string { return fmt.Sprintf("%s%d.qcow2", strings.TrimSuffix(name, ".qcow2"), n) }
	cover, coverAt, copied = d.Cover, d.CoverAt, d.Top
	if n > 0 {
		cover.Path, coverAt = number(cover.Path), number(coverAt)
	}
	copied.Path = number(copied.Path)
	return cover, coverAt, copied
}

// MemoryFile is the file with what a machine has in memory, as its old host writes it and as its new one reads it. Its places are in pools, and its files on the hosts.
type MemoryFile struct {
	Was     Place  `json:"was"`
	WasFile string `json:"was_file"`
	Now     Place  `json:"now"`
	NowFile string `json:"now_file"`
}

// MemoryUsed is how the name of a file with memory ends from which a guest was to go on.
const MemoryUsed = "-used"

// Beside tells whether a file lies beside the old disks for the work alone: what covers them, and what the machine had in memory. A file of its old host is meant where it is in no pool.
func (m Machine) Beside(at Place) bool {
	file := Place{Pool: at.Pool, Path: strings.TrimSuffix(at.Path, MemoryUsed)}
	memory := m.Memory != nil && (file == m.Memory.Was || file == Place{Path: m.Memory.WasFile})
	return memory || slices.ContainsFunc(m.Live, func(d LiveDisk) bool {
		cover, back := d.Cover, d.Returned
		if at.Pool == "" {
			cover, back = Place{Path: d.CoverAt}, Place{Path: d.ReturnAt}
		}
		return at == back || at.Pool == cover.Pool && path.Dir(at.Path) == path.Dir(cover.Path) && d.covers(at.Path)
	})
}

// Covers tells whether an image of that name, in whatever pool it is seen, is one that the guest of a machine writes to meanwhile: it stands on the old disk, and is in nobody's
// way. Such images have names that no other file has.
func (m Machine) Covers(name string) bool {
	return slices.ContainsFunc(m.Live, func(d LiveDisk) bool { return d.covers(name) })
}

func (d LiveDisk) covers(name string) bool {
	n, ok := strings.CutPrefix(path.Base(name), strings.TrimSuffix(path.Base(d.Cover.Path), ".qcow2"))
	return ok && strings.Trim(strings.TrimSuffix(n, ".qcow2"), "0123456789") == ""
}

// checkLive: a machine that runs moves to where its host can take it along.
func (w *whole) checkLive() {
	w.Checks = slices.DeleteFunc(w.Checks, func(c Check) bool { return c.Name == "in-use" }) // the job looks when its disks stand still
	off := remedy("Shut it down first, and start it in its new place", map[string]any{
		"live": nil, "longest_stop": nil, "with_memory": nil, "keep_every": nil, "keep_after": nil, "stop": true, "start": true,
	})
	switch {
	case !w.f.Layers:
		w.check(Blocks, "live", fmt.Sprintf("%s cannot put the disks of a machine that runs on others.", w.m.Host), off)
	case len(w.f.Kept) > 0:
		w.check(
			Blocks,
			"live",
			fmt.Sprintf("It has snapshots (%s), which lie in its old disks: drop them, or move it when it is off.", w.f.Kept[0].Name),
			off,
		)
	case w.m.Host != w.m.To && w.f.Is.Variables != "":
		w.check(
			Blocks,
			"live",
			"The variables of its firmware are written to as long as it runs: it cannot be moved to another host meanwhile.",
			off,
		)
	case w.m.Host != w.m.To && w.f.State == string(host.Suspended):
		w.check(Blocks, "live", "It is suspended, and does not end when it is asked to: let it go on first.", off)
	case w.m.Host != w.m.To && !w.f.LayersThere:
		w.check(
			Blocks,
			"live",
			fmt.Sprintf("%s cannot put the disks of a machine that runs on others, which it would have to when it goes on there.", w.m.To),
			off,
		)
	case w.m.Host != w.m.To:
		w.m.Stop, w.m.LongestStop = true, cmp.Or(w.r.LongestStop, UsualStop)
		w.m.KeepEvery, w.m.KeepAfter = w.r.KeepEvery, w.r.KeepAfter
		if w.r.WithMemory {
			w.checkMemory()
			return
		}
		if w.m.KeepEvery > 0 {
			w.checkKept()
			return
		}
		w.check(
			Informs,
			"live",
			fmt.Sprintf("%s is %s, and goes on while its disks are copied and proven, and what it writes meanwhile is. When what is left is copied "+
				"within %d s, it is shut down, and started on %s; how long its guest takes to end and to start comes on top.",
				w.m.Here(), w.f.State, w.m.LongestStop, w.m.To),
		)
	default:
		w.check(
			Informs,
			"live",
			fmt.Sprintf("%s is %s, and goes on: its guest writes to images in the new place while its disks are copied and proven, "+
				"and stands still for parts of a second, when it goes over to those and to the new disks.", w.m.Here(), w.f.State),
		)
	}
}

// checkMemory says what it takes to take the memory along.
func (w *whole) checkMemory() {
	host := w.m.Host
	if w.f.Saves {
		host = w.m.To
	}
	if !w.f.Saves || !w.f.SavesThere {
		w.check(Blocks, "memory", fmt.Sprintf("%s does not write what a machine has in memory to a file, and has it go on from there.", host),
			remedy("Shut it down in its old place, and start it in its new one", map[string]any{"with_memory": nil}))
		return
	}
	w.check(
		Informs,
		"live",
		fmt.Sprintf("%s is %s, and goes on while its disks are copied and proven, and what it writes meanwhile is. When what is left is copied "+
			"within %d s, it is suspended, and goes on on %s where it was. How long what it has in memory takes to be written, copied and read comes on top: "+
			"%s at most, about %s, with room for it in both pools.",
			w.m.Here(), w.f.State, w.m.LongestStop, w.m.To, Bytes(w.f.Is.Memory), memoryTakes(w.f.Is.Memory)),
	)
}

// memoryTakes is for how long a machine with that much memory stands still for it, about: it is written, read, written, read back, and read once more.
func memoryTakes(n int64) time.Duration {
	const each, rate = 5, 500 << 20 // bytes a second
	return (time.Duration(n*each/rate) * time.Second).Round(time.Second) + time.Second
}

// checkKept says what it takes to keep a copy.
func (w *whole) checkKept() {
	every := time.Duration(w.m.KeepEvery) * time.Second
	w.check(
		Informs,
		"live",
		fmt.Sprintf(
			"%s is %s, and goes on while its disks are copied and proven. What it writes is copied every %s, and after each time the copy on %s is whole. "+
				"When somebody says so it goes over: it is shut down, what was written last is copied, and it is started there.",
			w.m.Here(),
			w.f.State,
			every,
			w.m.To,
		),
	)
	w.check(
		Informs,
		"room",
		"What it writes meanwhile takes room in its own pool too, up to the size of its disks: they stand still below that, and are what it goes back to.",
	)
}

// checkFirst: a machine that is started in its new place before its disks are there.
func (w *whole) checkFirst() {
	if !w.m.First {
		return
	}
	later := remedy("Copy its disks first, and start it then", map[string]any{"start_first": nil, "start": true})
	switch {
	case !w.f.LayersThere:
		w.check(
			Blocks,
			"first",
			fmt.Sprintf("%s cannot have a machine read its disks from elsewhere, and go over to others while it runs.", w.m.To),
			later,
		)
	case w.f.Is.Variables != "":
		w.check(Blocks, "first", "The variables of its firmware are needed when it starts: they have to be there before.", later)
	case len(w.f.Kept) > 0:
		w.check(Blocks, "first", fmt.Sprintf("It has snapshots (%s), which lie in its old disks.", w.f.Kept[0].Name), later)
	default:
		w.check(
			Informs,
			"first",
			fmt.Sprintf(
				"It is started on %s at once: it reads its disks from where they lie, over the network, and what its guest writes goes into "+
					"images of its own there. They are copied and proven meanwhile; then it goes over to the new ones while it runs. Where the line is cut its guest is suspended, and "+
					"goes on when it is back. Where the job goes back before that, what its guest wrote there stays in those images.",
				w.m.To,
			),
		)
	}
}

// goLive says where the disks go over.
func (w *whole) goLive(parts []Plan) {
	if !w.live && !w.m.First {
		return
	}
	away := w.m.Host != w.m.To
	if w.f.Is.Variables != "" && !away {
		w.check(Informs, "firmware", fmt.Sprintf("The variables of its firmware stay where they are (%s): it uses them.", w.f.Is.Variables))
	}
	for i, d := range w.f.Is.Disks {
		if i >= len(parts) || len(parts[i].After) == 0 {
			continue // it stays, or there is a check
		}
		before, after := parts[i].Before[0], parts[i].After[0]
		if before.VirtualSize != after.VirtualSize {
			w.check(Blocks, "size", fmt.Sprintf("The disk %s cannot become %s, %s while it is in use: that has another size (%s, not %s).",
				DiskName(w.f.Is, i), after.Format, after.Layout, Bytes(after.VirtualSize), Bytes(before.VirtualSize)))
		}
		stem := strings.TrimSuffix(after.Place.Path, path.Ext(after.Place.Path)) + "-" + w.f.Fresh
		beside := func(what string) (Place, string) {
			at := Place{Pool: after.Place.Pool, Path: stem + what + ".qcow2"}
			return at, w.f.Pools[at.Pool].Root.Path(at.Path)
		}
		l := LiveDisk{
			ID: fmt.Sprintf("disk%d", i+1), Slot: d.Slot, Was: before.Place, WasFile: d.File, OldForm: before.Format,
			Now: after.Place, NowFile: w.f.Pools[after.Place.Pool].Root.Path(after.Place.Path), Format: after.Format, Size: after.VirtualSize,
		}
		l.Cover, l.CoverAt = beside("-meanwhile")
		if away && !w.m.First { // its host does not reach the new place
			old := strings.TrimSuffix(path.Base(before.Place.Path), path.Ext(before.Place.Path)) + "-" + w.f.Fresh + "-meanwhile.qcow2"
			l.Cover, l.CoverAt = Place{Pool: before.Place.Pool, Path: path.Join(path.Dir(before.Place.Path), old)}, path.Join(path.Dir(d.File), old)
		}
		l.Top, l.TopAt = beside("-since")
		l.Returned, l.ReturnAt = beside("-back")
		w.m.Live = append(w.m.Live, l)
	}
	if len(w.m.Live) > 0 && away && w.r.WithMemory {
		l := w.m.Live[0]
		memory := func(at Place, file string) (Place, string) {
			cut := func(name string) string { return strings.TrimSuffix(name, ".qcow2") + ".memory" }
			return Place{Pool: at.Pool, Path: cut(at.Path)}, cut(file)
		}
		w.m.Memory = &MemoryFile{}
		w.m.Memory.Was, w.m.Memory.WasFile = memory(l.Cover, l.CoverAt)
		w.m.Memory.Now, w.m.Memory.NowFile = memory(l.Top, l.TopAt)
	}
	if len(w.m.Live) == 0 && w.live && !w.Blocked() {
		w.check(Blocks, "live", "None of its disks goes anywhere.")
	}
}

// goAwaySteps are those behind the disks of a machine that goes to another host while it runs: it stands still for a moment.
func (w *whole) goAwaySteps(released []Step) {
	passes := "Copy what its guest writes meanwhile, until what is left fits into the stop"
	if w.m.KeepEvery > 0 {
		passes = "Keep the copy up to date, until somebody says that it goes over"
	}
	w.step(w.m.Host, StepPasses, passes)
	off, last, start := "Shut "+w.m.Name+" down", "Copy what was written last, and compare", "Start it there"
	if w.r.WithMemory {
		off = "Suspend " + w.m.Name + ", with what it has in memory written to a file"
		last, start = "Copy what was written last, and what it has in memory, and compare", "Have it go on there from what it had in memory"
	}
	w.step(w.m.Host, StepOff, off)
	w.step(w.m.Host, StepLast, last)
	if w.m.KeepEvery == 0 { // otherwise it may go over without its old host, which tells nothing then
		w.sources(StepStill)
	}
	w.step(w.m.To, StepDefine, fmt.Sprintf("Make it known to %s as %s", w.m.To, w.m.After.Name))
	w.step(w.m.To, StepStart, start)
	w.step(w.m.To, StepWatch, "See it come up")
	w.step(w.m.To, StepMerge, "Write what was copied last down into the new disks")
	w.Steps[len(w.Steps)-1].Forward = true // a guest writes to the new disks
	w.step(w.m.To, StepCompare, "Compare what is there with what was to become of it")
	w.step(w.m.Host, StepWithdraw, fmt.Sprintf("Take it from the list of %s, so that it cannot be started there too", w.m.Host))
	for _, s := range released {
		w.follow(s)
	}
}

// goFirstSteps are those behind the disks of a machine that was started in its new place before.
func (w *whole) goFirstSteps(released []Step) {
	w.sources(StepStill)
	w.step(w.m.To, StepMirror, "Mirror what its guest wrote meanwhile, and have it go on from the new disks")
	w.Steps[len(w.Steps)-1].Forward = true
	w.step(w.m.To, StepMerge, "Write that down into the new disks")
	w.step(w.m.To, StepCompare, "See that it runs, and compare it with what was to become of it")
	w.sources(StepPart)
	w.step(w.m.Host, StepWithdraw, fmt.Sprintf("Take it from the list of %s, so that it cannot be started there too", w.m.Host))
	for _, s := range released {
		w.follow(s)
	}
}

// goOverSteps are those behind the disks of a machine that runs: it goes on from them.
func (w *whole) goOverSteps(released []Step) {
	w.step(w.m.To, StepMirror, "Mirror what its guest wrote meanwhile, and have it go on from the new disks")
	w.step(w.m.To, StepMerge, "Write that down into the new disks")
	w.Steps[len(w.Steps)-1].Forward = true
	w.step(w.m.To, StepCompare, "See that it runs, and compare it with what was to become of it")
	for _, s := range released {
		w.follow(s)
	}
}
