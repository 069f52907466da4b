package plan

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
)

// Kinds of steps of a machine, in their order. Its disks are proven and have their names before it is defined.
const (
	StepOff      = "off"      // see that it is off, and shut it down where that is asked for
	StepOn       = "on"       // of a copy: start the machine again that was shut down, once its disks are copied
	StepHalted   = "halted"   // of a copy: see that the machine was suspended all the while that its disks were read
	StepDefine   = "define"   // make it known to its new host
	StepStart    = "start"    // switch it on there
	StepWatch    = "watch"    // see it come up
	StepCompare  = "compare"  // what the host has with what was to become of it
	StepWithdraw = "withdraw" // take it from the list of the host that it was on
)

// MachineSubject is what the IDs of steps of a machine begin with.
const MachineSubject = "machine"

// Machine is what was decided for the machine of a plan.
type Machine struct {
	Host string `json:"host,omitempty"` // that it is on
	Name string `json:"name"`           // there
	To   string `json:"to,omitempty"`   // the host that it goes to
	Move bool   `json:"move"`           // otherwise it is copied
	// Removes tells that it goes: its host forgets it, and its disks are held.
	Removes bool `json:"removes,omitempty"`
	// From is its definition in a pool where it is on no host, and Into that which it gets where it goes to none.
	From *Place `json:"from,omitempty"`
	Into *Place `json:"into,omitempty"`
	// Before is the machine as it is, After as it is to be, and Differences what differs between them.
	Before      machine.Machine      `json:"before"`
	After       machine.Machine      `json:"after"`
	Differences []machine.Difference `json:"differences"`
	// Format is that of its definition, Stored the text of that as its host has it, and Definition the text that the new host gets.
	Format string `json:"format,omitempty"`
	// Extension is that of files with such a text as Stored.
	Stored     string `json:"stored,omitempty"`
	Extension  string `json:"extension,omitempty"`
	Definition string `json:"definition,omitempty"`
	Stop       bool   `json:"stop,omitempty"`
	Suspend    bool   `json:"suspend,omitempty"`
	Within     int    `json:"within,omitempty"` // seconds to come up
	// Live are its disks that move while it runs; none for any other work. On its way to another host it may stand still for LongestStop seconds.
	Live        []LiveDisk `json:"live,omitempty"`
	LongestStop int        `json:"longest_stop,omitempty"`
	// Tell is a program on the computer that it takes the place of, which is told before it is started there.
	Tell string `json:"tell,omitempty"`
	// Memory is the file with what it has in memory, which goes along; nil where it is shut down.
	Memory *MemoryFile `json:"memory,omitempty"`
	// LoadsFirst tells that what its disks start from is read as a whole before it is known whether the system finds them: that much was read tells nothing of whether it came up.
	LoadsFirst bool `json:"loads_first,omitempty"`
	// First tells that it is started in its new place before its disks are there, which are served to it from where they lie.
	First bool `json:"first,omitempty"`
	// KeepEvery and KeepAfter tell that a copy is kept up to date until somebody says that it goes over: every so many seconds, and whenever so many bytes were written.
	KeepEvery int   `json:"keep_every,omitempty"`
	KeepAfter int64 `json:"keep_after,omitempty"`
	// Rests is the text of the definition by which the machine that is copied goes on, whose disks rest under those of the copy from then on; empty for
	// any other work. GoesOn are the IDs of its disks of then.
	Rests  string   `json:"rests,omitempty"`
	GoesOn []string `json:"goes_on,omitempty"`
	// Along are the states that its new host is told of, which go along inside of its images, with definitions as they are to be there.
	// Had are all that its old host has, where that is told of them again when the work is taken back.
	Along []host.Snapshot `json:"along,omitempty"`
	Had   []host.Snapshot `json:"had,omitempty"`
	// Kept is the state of a machine that stays which its host keeps, or is to, and Disk what it gets or gives away, nil where it is about none. Given is
	// that as another machine gets it to which it is handed over.
	Kept  *Kept         `json:"kept,omitempty"`
	Disk  *machine.Disk `json:"disk,omitempty"`
	Given *machine.Disk `json:"given,omitempty"`
	// Undoes is what is taken back; nil for any other work.
	Undoes *Undone `json:"undoes,omitempty"`
}

// Stays tells whether it stays on its host with its identity: then its definition there changes.
func (m Machine) Stays() bool { return m.Move && m.To != "" && m.Host == m.To }

// Away tells that it moves to another host while it runs, with a short stop.
func (m Machine) Away() bool { return len(m.Live) > 0 && m.Host != m.To && !m.First }

// Alone tells that no more than one of them may run: both are on hosts and have the same identity.
func (m Machine) Alone() bool {
	return m.Move || m.Into == nil && strings.EqualFold(m.Before.UUID, m.After.UUID)
}

// Here is where it is, and There where it goes, in words.
func (m Machine) Here() string { return called(m.Host, m.Name, m.From) }

// There is likewise.
func (m Machine) There() string { return called(m.To, m.After.Name, m.Into) }

func called(host, name string, file *Place) string {
	if file != nil {
		return file.String()
	}
	return host + ":" + name
}

// Reached is a pool that disks of a machine go into: the host that it is on, its folder there, and its room in bytes, or storage.Unknown.
type Reached struct {
	Host      string
	Root      volumes.Ground
	Free      int64
	Removable bool // a drive that can be unplugged
}

// Twin is what is known of a machine of a third host, which may have the same identity.
type Twin struct {
	Where, UUID string // HOST:NAME
	Off         bool
}

// MachineFacts are what is known of a machine that is to be carried.
type MachineFacts struct {
	Name    string // as its host has it
	State   string // in words: off, running, ...
	Off     bool
	Saved   bool // off, with its memory kept
	Format  string
	Text    []byte
	Is      machine.Machine
	Problem error // why its definition cannot be read
	// Snapshot is the one that is copied, nil for the present state: then Text and Is are of that, and Present is the text of the definition now.
	Snapshot *host.Snapshot
	Present  []byte
	// Package is what speaks of the files of the package that it comes in; nil where it comes in none.
	Package *Package
	// Behind is how many of the parts, at their end, are images by which a machine goes on whose disks rest under those of the copy.
	Behind int
	// Kept are the states that its host keeps of it, and Adopts tells that the new one can be told of such inside of images.
	Kept []host.Snapshot
	// Layers tells that its host puts disks of machines that run on other images, and Fresh is a word that no other job has.
	// LayersThere tells it of the new one.
	Layers, LayersThere bool
	// Saves tells that its host writes what it has in memory to a file and has it go on from there, and SavesThere that the new one does.
	Saves, SavesThere bool
	Fresh             string
	Adopts            bool
	// Disks are where its disks lie, in their order; a place without a path is outside of all pools. Variables is likewise of its firmware.
	Disks     []Place
	Variables Place
	Pools     map[string]Reached // by names, those that its disks go into
	ToFormat  string             // of the definitions where it goes to
	// There are the machines that this host has.
	There []machine.Machine
	// Elsewhere are those of all other hosts that are known, but for the one that is carried.
	Elsewhere []Twin
	Away      []string // of these hosts, those that could not be asked
	// Networks are those that this host has; nil where that is not known. Remembered are those that were chosen last for networks of the old one.
	Networks   []string
	Remembered map[string]string
	Limits     machine.Limits
	Wakes      bool // this host starts machines whenever it starts itself, whatever their definitions say
	// Starts are what its disks start from, by their names in requests, of those whose bus or firmware is to be another one.
	Starts map[string]inspect.Starts
	// Tried is what the last trial on the host that it goes to gave; nil where there was none.
	Tried *Tried
	// Reasons are why a machine that is proposed around a disk is as it is, in sentences.
	Reasons []string
	// UUID and MACs are fresh, for a new identity.
	UUID string
	MACs []string
}

// whole makes the plan for a machine.
type whole struct {
	Plan
	r Request
	f MachineFacts
	m *Machine
	// names are those of the disks that it will have, in requests.
	names []string
	// live tells that it runs, and moves meanwhile.
	live bool
}

// ForMachine makes the plan for a machine from the plans of its disks, which are in their order, and behind them that of the variables of its
// firmware, where those are carried. The plan of what stays is empty.
func ForMachine(r Request, f MachineFacts, parts []Plan) Plan {
	w := whole{Plan: Together(r, parts...), r: r, f: f, m: &Machine{
		Name: f.Name, To: r.To, Move: r.Kind == MoveMachine, Before: f.Is, After: f.Is, Format: f.ToFormat, Stored: string(f.Text),
		Stop: r.Stop, Suspend: r.Suspend, Within: r.Within,
	}}
	if f.Snapshot != nil {
		w.m.Stored = string(f.Present)
	}
	if w.Machine = w.m; r.Machine == "" {
		w.m.From = &r.Source
		if r.Start {
			w.m.Tell = r.Tell
		}
	} else {
		w.m.Host, _, _ = HostAndName(r.Machine) // it is a valid request
	}
	w.m.Extension = extension(f.Format)
	if w.m.Within == 0 {
		w.m.Within = WatchFor
	}
	w.live, w.m.First = r.Live && !f.Off, r.StartFirst
	w.checkOff()
	w.checkFirst()
	if f.Problem != nil {
		w.check(Blocks, "machine", fmt.Sprintf("The definition of %s cannot be read: %v.", w.m.Here(), f.Problem))
		return w.Plan
	}
	for _, reason := range f.Reasons {
		w.check(Informs, "proposed", reason)
	}
	w.checkPackage(parts)
	w.checkChoices()
	w.checkDisks()
	w.checkRoom(parts)
	w.become(parts)
	w.checkStarts()
	w.checkTried()
	w.checkLimits(parts)
	w.checkThere()
	w.goLive(parts)
	if !w.Blocked() {
		w.write()
	}
	w.keepAlong(parts)
	w.rest(parts)
	w.steps()
	return w.Plan
}

func (w *whole) check(s Severity, name, message string, remedies ...Remedy) {
	w.Checks = append(w.Checks, Check{name, s, message, remedies})
}

// apart tells that a snapshot is copied whose disks lie in files of their own: the machine may do what it does.
func (w *whole) apart() bool {
	return w.f.Snapshot != nil && !slices.ContainsFunc(w.f.Disks, func(p Place) bool { return p.Snapshot != "" })
}

// checkSnapshot says what the copy of a snapshot is.
func (w *whole) checkSnapshot() {
	k := w.f.Snapshot
	if k == nil {
		return
	}
	taken := k.Taken.Local().Format("2006-01-02 15:04")
	if k.Memory {
		w.check(
			Warns,
			"snapshot",
			fmt.Sprintf("%s was taken on %s while the machine ran: the copy starts as after a power cut then. What was in memory is not carried.",
				k.Name, taken),
		)
		return
	}
	w.check(Informs, "snapshot", fmt.Sprintf("%s was taken on %s while the machine was off.", k.Name, taken))
}

// checkOff: a machine that runs is carried by nobody without shutting it down.
func (w *whole) checkOff() {
	stop := remedy("Shut it down first, and start it in its new place", map[string]any{"stop": true, "start": true})
	here := w.m.Here()
	w.checkSnapshot()
	switch {
	case w.apart(): // nobody writes there
	case w.m.From != nil: // whoever runs from its disks is found with them
	case w.f.Saved:
		w.check(Blocks, "off", fmt.Sprintf("%s is saved: its memory would not fit the disks any more. Start it, and shut it down.", here))
	case w.f.Off:
		w.check(Informs, "off", fmt.Sprintf("%s is off. That is looked at again before anything is read.", here))
	case w.live:
		w.checkLive()
	case w.r.Suspend:
		w.Checks = slices.DeleteFunc(w.Checks, func(c Check) bool { return c.Name == "in-use" }) // the job looks when it is suspended
		w.check(Informs, "off", fmt.Sprintf("%s is %s, is suspended while its disks are read and proven, and goes on then.", here, w.f.State))
	case !w.r.Stop:
		remedies := []Remedy{stop}
		if w.m.Move && w.f.Layers && (w.m.Host == w.m.To || w.f.LayersThere) {
			remedies = append(remedies, remedy("Move it while it runs", map[string]any{"live": true, "start": nil, "leave_source": nil}))
			if w.m.Host != w.m.To {
				remedies = append(remedies, remedy("Shut it down, start it there at once, and copy its disks meanwhile",
					map[string]any{"stop": true, "start_first": true, "start": nil, "leave_source": nil}))
				remedies = append(remedies, remedy("Keep a copy there up to date every hour, until it goes over",
					map[string]any{"live": true, "keep_every": usuallyKept, "start": nil, "leave_source": nil}))
			}
		}
		if !w.m.Move {
			remedies = append(remedies,
				remedy("Suspend it while its disks are read: the copy is what a power cut would leave", map[string]any{"suspend": true}))
		}
		w.check(Blocks, "off", fmt.Sprintf("%s is %s: what is read of its disks would be torn.", here, w.f.State), remedies...)
	default:
		w.check(Informs, "off", fmt.Sprintf("%s is %s, and is shut down before anything is read.", here, w.f.State))
		w.Checks = slices.DeleteFunc(w.Checks, func(c Check) bool { return c.Name == "in-use" }) // the job looks when it is off
	}
}

// choice is what is said of a disk.
func (w *whole) choice(i int) DiskChoice { return w.r.Disks[DiskName(w.f.Is, i)] }

// checkChoices: what is said of disks and cards is said of such that there are.
func (w *whole) checkChoices() {
	slots, cards := []string{AllDisks}, []string{}
	for i := range w.f.Is.Disks {
		slots = append(slots, DiskName(w.f.Is, i))
	}
	for _, n := range w.f.Is.Networks {
		cards = append(cards, strings.ToLower(n.MAC))
	}
	for _, name := range slices.Concat(slices.Collect(maps.Keys(w.r.Disks)), slices.Collect(maps.Keys(w.r.Changes.Buses))) {
		if !slices.Contains(slots, name) {
			w.check(Blocks, "choice", fmt.Sprintf("%s has no disk %s: it has %s.", w.m.Here(), name, strings.Join(slots[1:], ", ")))
		}
	}
	for mac := range w.r.Changes.Addresses {
		if !slices.Contains(cards, strings.ToLower(mac)) {
			w.check(Blocks, "choice", fmt.Sprintf("%s has no network card %s: it has %s.", w.m.Here(), mac, strings.Join(cards, ", ")))
		}
	}
}

// checkDisks: those that are to be carried are, or none.
func (w *whole) checkDisks() {
	for _, pool := range slices.Sorted(maps.Keys(w.f.Pools)) {
		if on := w.f.Pools[pool].Host; w.r.To != "" && on != w.r.To {
			w.check(Blocks, "destination", fmt.Sprintf("The pool %s lies on the host %s, and %s could not use it: name a pool of %s.",
				pool, on, w.r.To, w.r.To))
		}
		if w.r.To != "" && w.f.Pools[pool].Removable {
			w.check(
				Warns,
				"removable",
				fmt.Sprintf("The pool %s is on a removable drive: that has to stay plugged in for the machine to run.", pool),
			)
		}
	}
	left := 0
	for i, d := range w.f.Is.Disks {
		name := DiskName(w.f.Is, i)
		if d.Format == machine.Folder && (w.r.As != "" || w.choice(i).As != "") {
			w.check(Informs, "folder", fmt.Sprintf("The root volume %s is a folder, and stays one: it has no form to be converted to.", name))
		}
		switch {
		case w.choice(i).Leave:
			left++
			if !w.m.Stays() {
				w.check(Warns, "disk", fmt.Sprintf("The disk %s stays behind (%s): the machine will not have it.", name, d.Lies()))
			}
		case d.Format == machine.Folder && w.r.Linked:
			w.check(
				Blocks,
				"folder",
				fmt.Sprintf("The root volume %s (%s) is a folder, and nothing stands on one: make a copy of its own.", name, d.Lies()),
				remedy("Copy it whole", map[string]any{"linked": nil}),
			)
		case w.f.Disks[i].Path != "" && w.m.From != nil && w.f.Disks[i].Pool != w.m.From.Pool:
			w.check(
				Warns,
				"pool",
				fmt.Sprintf("The definition names a disk of another pool, %s: take it along only if you know who wrote the definition.",
					w.f.Disks[i]),
				w.leave(name),
			)
		case w.f.Disks[i].Path != "":
		case d.File != "":
			w.check(
				Blocks,
				"pool",
				fmt.Sprintf("The disk %s (%s) lies outside of all pools: make its folder one (bagaglio pool add NAME %s%s).",
					name, d.File, path.Dir(d.File), w.option()),
				w.leave(name),
			)
		default:
			w.check(Blocks, "pool", fmt.Sprintf("The disk %s is no file of the host (%s): it is not carried yet.", name, d.Lies()), w.leave(name))
		}
	}
	if n := len(w.f.Is.Disks); n > 0 && left == n {
		w.check(Blocks, "disk", "No disk would be carried: there is nothing to prove.")
	}
}

// option is that of the client for the host that it is on.
func (w *whole) option() string {
	if w.m.Host == "" {
		return ""
	}
	return " --host " + w.m.Host
}

func (w *whole) leave(slot string) Remedy {
	return remedy("Leave the disk "+slot+" where it is", map[string]any{"disks": map[string]any{slot: map[string]any{"leave": true}}})
}

// checkRoom: each disk fits, by its own plan, but all of them together may not. What is stored of them is the least that they need.
func (w *whole) checkRoom(parts []Plan) {
	need, disks := map[string]int64{}, map[string]int{}
	for _, p := range parts {
		if len(p.After) == 0 {
			continue
		}
		side := p.After[0]
		disks[side.Place.Pool]++
		if f, err := disk.Lookup(side.Format); err == nil {
			if l, err := f.Layout(side.Layout); err == nil && l.Compresses {
				continue
			}
		}
		need[side.Place.Pool] += side.AllocatedSize
	}
	for _, pool := range slices.Sorted(maps.Keys(need)) {
		if r, ok := w.f.Pools[pool]; ok && disks[pool] > 1 && r.Free != storage.Unknown && need[pool] > r.Free {
			w.check(
				Blocks,
				"room",
				fmt.Sprintf("Its disks need %s together in the pool %s, and %s are free: make room or choose another pool.",
					Bytes(need[pool]), pool, Bytes(r.Free)),
			)
		}
	}
}
