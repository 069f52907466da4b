package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// Kinds of request for a machine that stays on its host.
const (
	TakeSnapshot = "take-snapshot" // have its host keep the present state
	GoBack       = "go-back"       // make a kept state the present one
	DropSnapshot = "drop-snapshot" // have its host forget a kept state
	AttachDisk   = "attach-disk"   // give it a disk that lies in a pool
	DetachDisk   = "detach-disk"   // take a disk from it, whose files stay
)

// Kinds of steps of a machine that stays on its host.
const (
	StepTake   = "take"    // have its host keep the present state
	StepGoBack = "go-back" // make a kept state the present one
	StepDrop   = "drop"    // have its host forget a kept state
	StepAttach = "attach"  // give it a disk
	StepDetach = "detach"  // take a disk from it
)

// Kept is a state of a machine that its host keeps, or is to.
type Kept struct {
	Name  string `json:"name"`
	Notes string `json:"notes,omitempty"`
	// Present is the name under which the present state is kept before another one becomes it, empty where that is lost.
	Present string `json:"present,omitempty"`
	// ListOnly has only the host's list forget it.
	ListOnly bool `json:"list_only,omitempty"`
	// Disks tells that no memory is kept, and AtRest that the filesystems in the guest are at rest for that moment.
	Disks  bool `json:"disks,omitempty"`
	AtRest bool `json:"at_rest,omitempty"`
}

// TakeRequest has a host keep the present state of a machine.
type TakeRequest struct {
	Kind     string `json:"kind"`
	Machine  string `json:"machine"`
	Snapshot string `json:"snapshot"`
	Notes    string `json:"notes"`
	// DisksOnly has no memory kept, and AtRest the filesystems in the guest put at rest for that moment.
	DisksOnly bool `json:"disks_only"`
	AtRest    bool `json:"at_rest"`
}

// GoBackRequest makes a kept state of a machine the present one.
type GoBackRequest struct {
	Kind        string `json:"kind"`
	Machine     string `json:"machine"`
	Snapshot    string `json:"snapshot"`
	KeepPresent string `json:"keep_present"`
}

// DropRequest has a host forget a kept state of a machine.
type DropRequest struct {
	Kind     string `json:"kind"`
	Machine  string `json:"machine"`
	Snapshot string `json:"snapshot"`
	ListOnly bool   `json:"list_only"`
}

// AttachRequest gives a machine a disk that lies in a pool of its host.
type AttachRequest struct {
	Kind     string `json:"kind"`
	Machine  string `json:"machine"`
	Source   Place  `json:"source"`
	Bus      string `json:"bus"`
	Serial   string `json:"serial"`
	ReadOnly bool   `json:"read_only"`
	Slot     string `json:"slot"` // of a disk in whose place it is, which is taken from the machine
}

// DetachRequest takes a disk from a machine, and leaves its files.
type DetachRequest struct {
	Kind    string `json:"kind"`
	Machine string `json:"machine"`
	Slot    string `json:"slot"`
}

func (r TakeRequest) validate() error {
	if r.AtRest && !r.DisksOnly {
		return errors.New("filesystems are put at rest for a snapshot of the disks only: with the memory they need not be")
	}
	return errors.Join(ofHost(r.Machine), named(r.Snapshot))
}

func (r GoBackRequest) validate() error {
	if r.KeepPresent != "" {
		if err := named(r.KeepPresent); err != nil {
			return err
		}
	}
	if r.KeepPresent == r.Snapshot {
		return errors.New("the present state is kept under another name than the one that is gone back to")
	}
	return errors.Join(ofHost(r.Machine), named(r.Snapshot))
}

func (r DropRequest) validate() error { return errors.Join(ofHost(r.Machine), named(r.Snapshot)) }

func (r AttachRequest) validate() error {
	switch {
	case r.Source.IsDevice() || r.Source.Pool == "":
		return errors.New("a machine gets a disk that lies in a pool of its host")
	case r.Source.Snapshot != "":
		return errors.New("a snapshot inside of an image is no disk of its own: convert it first")
	}
	return errors.Join(ofHost(r.Machine), r.Source.validate())
}

func (r DetachRequest) validate() error {
	if r.Slot == "" {
		return errors.New("it names no disk of the machine: name its slot")
	}
	return ofHost(r.Machine)
}

// ofHost fails for what is no machine of a host.
func ofHost(text string) error {
	_, _, err := HostAndName(text)
	return err
}

// maxSnapshotName bounds the name of a snapshot, in bytes.
const maxSnapshotName = 100

// named fails for what is no name of a snapshot.
func named(name string) error {
	if name == "" || len(name) > maxSnapshotName || strings.ContainsAny(name, "/\\\n\t\r") || strings.TrimSpace(name) != name {
		return fmt.Errorf(
			"%q is no name for a snapshot: it has up to %d letters, none of them a slash or the end of a line",
			name,
			maxSnapshotName,
		)
	}
	return nil
}

// StayingFacts are what is known of a machine that stays on its host.
type StayingFacts struct {
	Name    string // as its host has it
	State   host.State
	Format  string
	Text    []byte
	Is      machine.Machine
	Problem error // why its definition cannot be read
	Limits  machine.Limits
	// Kept are its snapshots, and KeepsNone why its host keeps none.
	Kept      []host.Snapshot
	KeepsNone error
	// Layers tells that its host puts images on disks for such of them only, and Agent that a program in its guest answers.
	Layers, Agent bool
	// Image is the disk that it is to get, File where that lies on its host, and Shut why that cannot be had.
	Image disk.Description
	File  string
	Shut  error
	// Users are the machines that name it already, Standing the disks that stand on it, and Host that of its pool.
	Users, Standing []string
	Host            string
	// Lies is where the disk lies that is taken from it; a place without a path is outside of all pools.
	Lies Place
	// Below are disks that stand on files of the snapshot that is dropped.
	Below []string
}

// staying makes the plan for a machine that stays.
type staying struct {
	Plan
	r Request
	f StayingFacts
	m *Machine
}

// ForStaying makes the plan for a machine that stays on its host.
func ForStaying(r Request, f StayingFacts) Plan {
	p := staying{Plan: Plan{Version: Version, Request: r, Checks: []Check{}, Steps: []Step{}, Together: true}, r: r, f: f}
	on, _, _ := HostAndName(r.Machine) // it is a valid request
	p.m = &Machine{
		Host:      on,
		Name:      f.Name,
		To:        on,
		Move:      true,
		Before:    f.Is,
		After:     f.Is,
		Format:    f.Format,
		Stored:    string(f.Text),
		Extension: extension(f.Format),
	}
	p.Machine = p.m
	if f.Problem != nil {
		p.check(Blocks, "machine", fmt.Sprintf("The definition of %s cannot be read: %v.", p.m.Here(), f.Problem))
		return p.Plan
	}
	switch r.Kind {
	case TakeSnapshot:
		p.take()
	case GoBack:
		p.goBack()
	case DropSnapshot:
		p.drop()
	case AttachDisk:
		p.attach()
	case DetachDisk:
		p.detach()
	}
	p.m.Differences = machine.Compare(p.m.Before, p.m.After)
	return p.Plan
}

func (p *staying) check(s Severity, name, message string, remedies ...Remedy) {
	p.Checks = append(p.Checks, Check{name, s, message, remedies})
}

func (p *staying) step(kind, title string) { p.of(kind, p.m.Host, p.m.Here(), title) }

// of adds a step of a machine of a host.
func (p *staying) of(kind, on, name, title string) {
	p.follow(Step{ID: MachineSubject + "." + kind, Kind: kind, Title: title, Host: on, Machines: []string{name}})
}

// has tells whether its host keeps a state of that name.
func (p *staying) has(name string) bool {
	return slices.ContainsFunc(p.f.Kept, func(k host.Snapshot) bool { return k.Name == name })
}

// keeps blocks where its host keeps no states, and says whether it does.
func (p *staying) keeps() bool {
	if p.f.KeepsNone != nil {
		p.check(Blocks, "snapshot", fmt.Sprintf("%s keeps no states of %s: %v.", p.m.Host, p.f.Name, p.f.KeepsNone))
	}
	return p.f.KeepsNone == nil
}

// known blocks where there is no such snapshot, and returns it.
func (p *staying) known() (k host.Snapshot, ok bool) {
	i := slices.IndexFunc(p.f.Kept, func(k host.Snapshot) bool { return k.Name == p.r.Snapshot })
	if i >= 0 {
		return p.f.Kept[i], true
	}
	has := "none"
	if len(p.f.Kept) > 0 {
		var names []string
		for _, k := range p.f.Kept {
			names = append(names, storage.Printable(k.Name))
		}
		has = strings.Join(names, ", ")
	}
	p.check(Blocks, "snapshot", fmt.Sprintf("%s has no snapshot %s: it has %s.", p.m.Here(), p.r.Snapshot, has))
	return k, false
}

// what says what a snapshot is that is taken of a machine in its present state.
func (p *staying) keptAs(name string) {
	switch p.f.State {
	case host.Off:
		p.check(Informs, "state", fmt.Sprintf("%s is off: the snapshot has its disks and its definition.", p.m.Here()))
	case host.Saved:
		p.check(Blocks, "state", fmt.Sprintf("%s is saved: its memory and its disks would be torn apart. Start it first.", p.m.Here()))
	default:
		p.withMemory()
	}
	if p.has(name) {
		p.check(Blocks, "name", fmt.Sprintf("%s has a snapshot %s already.", p.m.Here(), name))
	}
}

// withMemory says what a snapshot is of a machine that runs.
func (p *staying) withMemory() {
	if p.r.DisksOnly {
		what := "as a power cut would leave them"
		if p.r.AtRest {
			what = "with its filesystems at rest"
		}
		p.check(Informs, "state", fmt.Sprintf("%s is %s, and goes on: the snapshot has its disks, %s.", p.m.Here(), p.f.State, what))
		if p.r.AtRest && !p.f.Agent {
			p.check(Blocks, "agent", fmt.Sprintf("No agent answers in %s: nobody can put its filesystems at rest.", p.f.Name),
				remedy("Take them as a power cut would leave them", map[string]any{"at_rest": nil}))
		}
		return
	}
	p.check(Informs, "state", fmt.Sprintf("%s is %s: the snapshot has its memory too, and it stands still meanwhile.", p.m.Here(), p.f.State))
	for _, d := range p.f.Is.Disks {
		if p.f.Layers && d.Format != "qcow2" && !d.ReadOnly {
			p.check(Blocks, "format", fmt.Sprintf("The disk %s is %s, in which no memory can be kept.", d.Slot, d.Format),
				remedy("Keep the disks only", map[string]any{"disks_only": true}))
			return
		}
	}
}

func (p *staying) take() {
	if p.keeps() {
		p.keptAs(p.r.Snapshot)
	}
	p.m.Kept = &Kept{Name: p.r.Snapshot, Notes: p.r.Notes, Disks: p.r.DisksOnly, AtRest: p.r.AtRest}
	p.step(StepTake, fmt.Sprintf("Have %s keep its present state as %s", p.m.Host, p.r.Snapshot))
}

func (p *staying) goBack() {
	p.m.Kept = &Kept{Name: p.r.Snapshot, Present: p.r.KeepPresent}
	if !p.keeps() {
		return
	}
	k, ok := p.known()
	if !ok {
		return
	}
	if len(k.Layers) > 0 {
		p.check(
			Informs,
			"present",
			fmt.Sprintf("What was written since %s stays in images that no machine names then: remove them when nobody misses it.",
				k.Taken.Local().Format("2006-01-02 15:04")),
		)
	}
	if p.r.KeepPresent != "" {
		p.keptAs(p.r.KeepPresent)
		p.step(StepTake, fmt.Sprintf("Have %s keep its present state as %s", p.m.Host, p.r.KeepPresent))
	} else if len(k.Layers) == 0 {
		p.check(
			Warns,
			"present",
			fmt.Sprintf("What was written since %s is lost, and cannot be taken back.", k.Taken.Local().Format("2006-01-02 15:04")),
			remedy("Keep the present state as a snapshot first", map[string]any{"keep_present": p.free("before-going-back")}),
		)
	}
	if p.f.State != host.Off {
		p.check(Warns, "state", fmt.Sprintf("%s is %s: whoever works with it is thrown out.", p.m.Here(), p.f.State))
	}
	then := "it is off then"
	if k.Memory {
		then = "it goes on with what it had in memory then"
	}
	p.step(StepGoBack, fmt.Sprintf("Make %s its present state: %s", k.Name, then))
	p.Steps[len(p.Steps)-1].Forward = p.r.KeepPresent == ""
}

// free is a name that no snapshot has.
func (p *staying) free(name string) string {
	free := name
	for n := 2; p.has(free); n++ {
		free = fmt.Sprintf("%s-%d", name, n)
	}
	return free
}

func (p *staying) drop() {
	p.m.Kept = &Kept{Name: p.r.Snapshot, ListOnly: p.r.ListOnly}
	if !p.keeps() {
		return
	}
	k, ok := p.known()
	if !ok {
		return
	}
	if len(p.f.Below) > 0 {
		p.check(Blocks, "standing", fmt.Sprintf("%s stand(s) on it: have them stand alone first.", some(p.f.Below)))
	}
	if len(k.Layers) > 0 {
		p.check(
			Informs,
			"layers",
			"What was written since is written down into the disks of then. A machine that is off is switched on for that, and does not begin to work.",
		)
	} else if k.Present {
		p.check(Informs, "present", "The machine goes on from it, and stays as it is.")
	}
	behind := 0
	for _, other := range p.f.Kept {
		if other.Parent == k.Name {
			behind++
		}
	}
	if behind > 0 {
		p.check(Informs, "behind", fmt.Sprintf("%d snapshot(s) taken behind it stay as they are.", behind))
	}
	if p.r.ListOnly {
		p.check(Informs, "images", "Only the list of its host forgets it: what images have of it stays in them.")
	}
	p.check(Warns, "forward", "It cannot be taken back: the state of then is gone.")
	p.step(StepDrop, fmt.Sprintf("Have %s forget %s", p.m.Host, p.r.Snapshot))
	p.Steps[len(p.Steps)-1].Forward = true
}
