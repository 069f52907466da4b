package plan

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// Kinds of request for whole machines.
const (
	MoveMachine = "move-machine" // to another place: afterwards it is there, and no more where it was
	CopyMachine = "copy-machine" // with a new identity: afterwards there are two
)

// Kinds of steps of a machine, in their order. Its disks are proven and have their names before it is defined.
const (
	StepOff      = "off"      // see that it is off, and shut it down where that is asked for
	StepOn       = "on"       // of a copy: start the machine again that was shut down, once its disks are copied
	StepDefine   = "define"   // make it known to its new host
	StepStart    = "start"    // switch it on there
	StepWatch    = "watch"    // see it come up
	StepCompare  = "compare"  // what the host has with what was to become of it
	StepWithdraw = "withdraw" // take it from the list of the host that it was on
)

// MachineSubject is what the IDs of steps of a machine begin with.
const MachineSubject = "machine"

// WatchFor is for how long a machine is watched that is to come up, in seconds, where the request does not say; and at most.
const WatchFor, LongestWatch = 180, 3600

// MachineRequest carries a whole machine to a host, its disks into a folder of one of that host's pools.
type MachineRequest struct {
	Kind        string       `json:"kind"`
	Machine     string       `json:"machine"`
	To          string       `json:"to"`
	Destination *Place       `json:"destination"`
	As          string       `json:"as"`
	Layout      string       `json:"layout"`
	Options     disk.Options `json:"options"`
	Name        string       `json:"name"`
	Stop        bool         `json:"stop"`
	Start       bool         `json:"start"`
	Within      int          `json:"within"`
	Release     bool         `json:"release"`

	Networks map[string]string `json:"networks"`

	LeaveSource bool `json:"leave_source"`
	NoTag       bool `json:"no_tag"`
	Recopy      bool `json:"recopy"`
	PastDamage  bool `json:"past_damage"`
	AsItIs      bool `json:"as_it_is"`
}

// HostAndName takes HOST:NAME apart, as a machine is written.
func HostAndName(text string) (host, name string, err error) {
	host, name, ok := strings.Cut(text, ":")
	if !ok || host == "" || name == "" {
		return "", "", fmt.Errorf("a machine is written HOST:NAME, and %q is not", text)
	}
	return host, name, nil
}

func (r MachineRequest) validate() error {
	if _, _, err := HostAndName(r.Machine); err != nil {
		return err
	}
	switch {
	case r.To == "":
		return errors.New("it names no host that the machine is to go to")
	case r.Destination == nil || r.Destination.Pool == "":
		return errors.New("it names no pool that the disks are to go into")
	case r.Destination.Snapshot != "" || r.Destination.Format != "":
		return errors.New("the destination of a machine is a folder of a pool")
	case r.As == "" && r.Layout != "":
		return errors.New("a layout is one of a format: say which")
	case r.Kind == CopyMachine && (r.Release || r.LeaveSource):
		return errors.New("what is copied stays: nothing is to be said of the source")
	case r.Release && r.LeaveSource:
		return errors.New("the source is held or left, not both")
	case r.Within < 0 || r.Within > LongestWatch:
		return fmt.Errorf("a machine is watched for up to %d seconds", LongestWatch)
	case strings.ContainsAny(r.Name, "/\n") || len(r.Name) > 200:
		return fmt.Errorf("%q is no name for a machine", r.Name)
	}
	if r.As == "" {
		return nil
	}
	return ConvertRequest{As: r.As, Layout: r.Layout, Options: r.Options}.validateTarget()
}

// OfDisk is the request by which a disk of the machine is carried, whose image has a format. The name is without extension.
func (r Request) OfDisk(from Place, format, name string) Request {
	out := Request{
		Kind: Copy, Source: from, Destination: &Place{Pool: r.Destination.Pool}, Release: r.Release, NoTag: r.NoTag, Recopy: r.Recopy,
		PastDamage: r.PastDamage, AsItIs: r.AsItIs, LeaveDefinitions: r.Release, ByRules: true,
	}
	extension := path.Ext(from.Path)
	if r.As != "" && (r.As != format || r.Layout != "") {
		out.Kind, out.As, out.Layout, out.Options = Convert, r.As, r.Layout, r.Options
		if f, err := disk.Lookup(r.As); err == nil && len(f.Extensions) > 0 {
			extension = f.Extensions[0]
		}
	}
	out.Destination.Path = path.Join(r.Destination.Path, name+extension)
	return out
}

// Machine is what was decided for the machine of a plan.
type Machine struct {
	Host string `json:"host"` // that it is on
	Name string `json:"name"` // there
	To   string `json:"to"`   // the host that it goes to
	Move bool   `json:"move"` // otherwise it is copied
	// Before is the machine as it is, After as it is to be, and Differences what differs between them.
	Before      machine.Machine      `json:"before"`
	After       machine.Machine      `json:"after"`
	Differences []machine.Difference `json:"differences"`
	// Format is that of its definition, Stored the text of that as its host has it, and Definition the text that the new host gets.
	Format     string `json:"format,omitempty"`
	Stored     string `json:"stored,omitempty"`
	Definition string `json:"definition,omitempty"`
	Stop       bool   `json:"stop,omitempty"`
	Within     int    `json:"within,omitempty"` // seconds to come up
	// Undoes is what is taken back; nil for any other work.
	Undoes *Undone `json:"undoes,omitempty"`
}

// Stays tells whether it stays on its host with its identity: then its definition there changes.
func (m Machine) Stays() bool { return m.Move && m.Host == m.To }

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
	// Disks are where its disks lie, in their order; a place without a path is outside of all pools.
	Disks []Place
	// Host is that of the destination's pool, and Root the folder of that there.
	Host, Root string
	Free       int64  // room of the pool in bytes, or storage.Unknown
	ToFormat   string // of the definitions of the host that it goes to
	// There are the machines that this host has.
	There []machine.Machine
	// Networks are those that this host has; nil where that is not known.
	Networks []string
	// UUID and MACs are fresh, for a copy.
	UUID string
	MACs []string
}

// whole makes the plan for a machine.
type whole struct {
	Plan
	r Request
	f MachineFacts
	m *Machine
}

// ForMachine makes the plan for a machine from the plans of its disks, which are in their order.
func ForMachine(r Request, f MachineFacts, disks []Plan) Plan {
	host, name, _ := HostAndName(r.Machine) // it is a valid request
	w := whole{Plan: Together(r, disks...), r: r, f: f, m: &Machine{
		Host: host, Name: name, To: r.To, Move: r.Kind == MoveMachine, Before: f.Is, After: f.Is, Format: f.ToFormat, Stored: string(f.Text),
		Stop: r.Stop, Within: r.Within,
	}}
	w.Machine = w.m
	if w.m.Within == 0 {
		w.m.Within = WatchFor
	}
	w.checkOff()
	if f.Problem != nil {
		w.check(Blocks, "machine", fmt.Sprintf("The definition of %s cannot be read: %v.", r.Machine, f.Problem))
		return w.Plan
	}
	w.checkDisks()
	w.checkRoom(disks)
	w.become(disks)
	w.checkThere()
	if !w.Blocked() {
		w.write()
	}
	w.steps()
	return w.Plan
}

func (w *whole) check(s Severity, name, message string, remedies ...Remedy) {
	w.Checks = append(w.Checks, Check{name, s, message, remedies})
}

// checkOff: a machine that runs is carried by nobody without shutting it down.
func (w *whole) checkOff() {
	stop := remedy("Shut it down first, and start it in its new place", map[string]any{"stop": true, "start": true})
	switch {
	case w.f.Saved:
		w.check(Blocks, "off", fmt.Sprintf("%s is saved: its memory would not fit the disks any more. Start it, and shut it down.", w.r.Machine))
	case w.f.Off:
		w.check(Informs, "off", fmt.Sprintf("%s is off. That is looked at again before anything is read.", w.r.Machine))
	case !w.r.Stop:
		w.check(Blocks, "off", fmt.Sprintf("%s is %s: what is read of its disks would be torn.", w.r.Machine, w.f.State), stop)
	default:
		w.check(Informs, "off", fmt.Sprintf("%s is %s, and is shut down before anything is read.", w.r.Machine, w.f.State))
		w.Checks = slices.DeleteFunc(w.Checks, func(c Check) bool { return c.Name == "in-use" }) // the job looks when it is off
	}
}

// checkDisks: all of them are carried, or none.
func (w *whole) checkDisks() {
	if w.f.Host != w.r.To {
		w.check(Blocks, "destination", fmt.Sprintf("The pool %s lies on the host %s, and %s could not use it: name a pool of %s.",
			w.r.Destination.Pool, w.f.Host, w.r.To, w.r.To))
	}
	for i, d := range w.f.Is.Disks {
		switch {
		case w.f.Disks[i].Path != "":
		case d.File != "":
			w.check(
				Blocks,
				"pool",
				fmt.Sprintf("The disk %s (%s) lies outside of all pools: make its folder one (bagaglio pool add NAME %s --host %s).",
					d.Slot, d.File, path.Dir(d.File), w.m.Host),
			)
		default:
			w.check(Blocks, "pool", fmt.Sprintf("The disk %s is no file of the host (%s): it is not carried yet.",
				d.Slot, strings.TrimSpace(d.Pool+"/"+d.Volume+" "+d.Remote)))
		}
	}
}

// checkRoom: each disk fits, by its own plan, but all of them together may not. What is stored of them is the least that they need.
func (w *whole) checkRoom(disks []Plan) {
	need := int64(0)
	for _, p := range disks {
		if len(p.After) == 0 {
			return
		}
		f, err := disk.Lookup(p.After[0].Format)
		if err != nil {
			return
		}
		if l, err := f.Layout(p.After[0].Layout); err == nil && l.Compresses {
			continue
		}
		need += p.After[0].AllocatedSize
	}
	if len(disks) > 1 && w.f.Free != storage.Unknown && need > w.f.Free {
		w.check(
			Blocks,
			"room",
			fmt.Sprintf("Its disks need %s together, and %s are free: make room or choose another pool.", Bytes(need), Bytes(w.f.Free)),
		)
	}
}

// become says what the machine is to be.
func (w *whole) become(disks []Plan) {
	after := w.f.Is
	after.Disks, after.Drives, after.Networks = slices.Clone(after.Disks), slices.Clone(after.Drives), slices.Clone(after.Networks)
	if w.r.Name != "" {
		after.Name = w.r.Name
	}
	if !w.m.Move {
		after.UUID = w.f.UUID
		for i := range after.Networks {
			after.Networks[i].MAC = w.f.MACs[i]
		}
	}
	w.connect(after.Networks)
	for i, p := range disks {
		if len(p.After) == 0 { // it cannot be carried, for which there is a check
			continue
		}
		d := &after.Disks[i]
		d.Pool, d.Volume, d.Remote = "", "", ""
		d.File, d.Format = path.Join(w.f.Root, p.After[0].Place.Path), p.After[0].Format
	}
	if w.m.Host != w.m.To {
		for i, d := range after.Drives {
			if d.File != "" {
				w.check(Warns, "drive", fmt.Sprintf("What is in the drive %s stays behind (%s): it will be empty.", d.Slot, d.File))
			}
			after.Drives[i].File = ""
		}
	}
	if after.Variables != "" && !w.m.Stays() {
		w.check(Warns, "firmware",
			"The variables of its firmware stay behind: the host makes new ones, without boot entries or keys of the old machine.")
		after.Variables = ""
	}
	w.m.After, w.m.Differences = after, machine.Compare(w.f.Is, after)
}

// connect connects the cards to the networks that are asked for, and looks whether those are there.
func (w *whole) connect(cards []machine.Network) {
	for i := range cards {
		n := &cards[i]
		if to, ok := w.r.Networks[n.Network]; ok && n.Network != "" {
			if n.Network = to; to == "" {
				n.Kind = userNetwork
			}
		}
		if n.Kind != "network" || w.f.Networks == nil || slices.Contains(w.f.Networks, n.Network) {
			continue
		}
		var remedies []Remedy
		for _, other := range append(slices.Clone(w.f.Networks[:min(len(w.f.Networks), mostOffered)]), "") {
			label := "Connect it to " + other
			if other == "" {
				label = "Let it out through the host itself"
			}
			remedies = append(remedies, remedy(label, map[string]any{"networks": map[string]any{w.f.Is.Networks[i].Network: other}}))
		}
		w.check(
			Blocks,
			"network",
			fmt.Sprintf("%s has no network %s, which network card %d is connected to.", w.r.To, n.Network, i+1),
			remedies...)
	}
}

// userNetwork is the kind of a card that leads out through its host itself.
const userNetwork = "user"

// checkThere: nobody at the destination has its name or identity.
func (w *whole) checkThere() {
	after := w.m.After
	for _, other := range w.f.There {
		if w.m.Stays() && other.UUID == after.UUID {
			continue
		}
		if other.Name == after.Name {
			w.check(Blocks, "name", fmt.Sprintf("%s has a machine of the name %s already.", w.r.To, after.Name),
				remedy("Call it "+w.free(after.Name), map[string]any{"name": w.free(after.Name)}))
		}
		if other.UUID != "" && strings.EqualFold(other.UUID, after.UUID) {
			w.check(
				Blocks,
				"identity",
				fmt.Sprintf("%s has a machine with the UUID %s already: %s. Forget it there first, or copy instead of moving.",
					w.r.To, after.UUID, other.Name),
			)
		}
		for _, card := range other.Networks {
			if card.MAC != "" && slices.ContainsFunc(after.Networks, func(n machine.Network) bool { return strings.EqualFold(n.MAC, card.MAC) }) {
				w.check(Warns, "identity", fmt.Sprintf("%s on %s has the network address %s too.", other.Name, w.r.To, card.MAC))
			}
		}
	}
}

// free is a name that no machine there has.
func (w *whole) free(name string) string {
	for n := 2; ; n++ {
		other := fmt.Sprintf("%s-%d", name, n)
		if !slices.ContainsFunc(w.f.There, func(m machine.Machine) bool { return m.Name == other }) {
			return other
		}
	}
}

// write makes the text of the new definition, and says what it cannot say.
func (w *whole) write() {
	text, err := machine.Become(w.f.Text, w.f.Format, w.f.ToFormat, w.m.After)
	if err != nil {
		w.check(Blocks, "definition", fmt.Sprintf("The definition for %s cannot be written: %v.", w.r.To, err))
		return
	}
	w.m.Definition = string(text)
	if w.f.Format == w.f.ToFormat {
		return
	}
	after, err := machine.Describe(w.f.ToFormat, text)
	if err != nil {
		w.check(Blocks, "definition", fmt.Sprintf("The definition for %s cannot be read again: %v.", w.r.To, err))
		return
	}
	for _, d := range machine.Compare(w.m.After, after) {
		if d.Before != "" {
			w.check(Warns, "definition", lostOrChanged(d))
		}
	}
	w.m.After, w.m.Differences = after, machine.Compare(w.f.Is, after)
	w.check(Informs, "definition", fmt.Sprintf("Its definition is written anew in the format %s: what only %s says is not carried.",
		w.f.ToFormat, w.f.Format))
}

func lostOrChanged(d machine.Difference) string {
	if d.After == "" {
		return fmt.Sprintf("Lost, since the new host's definitions cannot say it: %s (%s).", d.What, d.Before)
	}
	return fmt.Sprintf("Changed, since the new host's definitions cannot say it: %s, from %s to %s.", d.What, d.Before, d.After)
}

// steps puts those of the machine around those of its disks.
func (w *whole) steps() {
	disks := w.Steps
	w.Steps = nil
	name, from := w.m.Name, w.m.Host
	off := "See that " + name + " is off"
	if w.r.Stop {
		off = "Shut " + name + " down, unless it is off"
	}
	w.step(from, StepOff, off)
	released := slices.IndexFunc(disks, func(s Step) bool { return s.Kind == StepRelease })
	if released < 0 {
		released = len(disks)
	}
	for _, s := range disks[:released] {
		w.follow(s)
	}
	w.sources(StepStill)
	if w.r.Stop && !w.m.Move {
		w.step(from, StepOn, "Start "+name+" again, if it ran")
	}
	define := fmt.Sprintf("Make it known to %s as %s", w.m.To, w.m.After.Name)
	if w.m.Stays() {
		define = "Change its definition"
	}
	w.step(w.m.To, StepDefine, define)
	if w.r.Start {
		w.step(w.m.To, StepStart, "Start it there")
		w.step(w.m.To, StepWatch, "See it come up")
	}
	w.step(w.m.To, StepCompare, "Compare what the host has with what was to become of it")
	w.Steps[len(w.Steps)-1].Forward = w.r.Start // a guest writes to the new disks
	if w.m.Move && !w.m.Stays() && !w.r.LeaveSource {
		w.sources(StepPart)
		w.step(from, StepWithdraw, fmt.Sprintf("Take it from the list of %s, so that it cannot be started there too", from))
		w.Steps[len(w.Steps)-1].Forward = true
	}
	for _, s := range disks[released:] {
		w.follow(s)
	}
}

// sources has each disk looked at that is left, where the machine moves: what a copy does not have that was written later is no loss.
func (w *whole) sources(kind string) {
	if !w.m.Move {
		return
	}
	for _, d := range w.Bodies {
		s := Step{ID: d.ID + "." + kind, Kind: kind, Title: "See that nothing was written to its old disk since it was read", Host: w.m.Host}
		if d.Before != nil {
			s.Uses = []Use{{Pool: d.Request.Source.Pool, Path: d.Before.Place.Path}}
		}
		w.follow(s)
	}
}

func (w *whole) step(host, kind, title string) {
	w.follow(Step{ID: MachineSubject + "." + kind, Kind: kind, Title: title, Host: host, Machines: []string{w.r.Machine}})
}
