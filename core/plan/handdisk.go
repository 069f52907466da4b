package plan

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/storage/volumes"
)

// HandDisk takes a disk from a machine and gives it to another one, in whose folder its files are from then on.
const HandDisk = "hand-disk"

// HandDiskRequest hands a disk over.
type HandDiskRequest struct {
	Kind    string `json:"kind"`
	Machine string `json:"machine"`
	Slot    string `json:"slot"`
	To      string `json:"to"` // HOST:NAME
	// Destination is where the image will lie; without it, in the folder of the first disk of the machine that gets it.
	Destination *Place `json:"destination"`
	Bus         string `json:"bus"`
	Serial      string `json:"serial"`
	NoTag       bool   `json:"no_tag"`
	Recopy      bool   `json:"recopy"`
	PastDamage  bool   `json:"past_damage"`
	AsItIs      bool   `json:"as_it_is"`
}

func (r HandDiskRequest) validate() error {
	switch {
	case r.Slot == "":
		return errors.New("it names no disk of the machine: name its slot")
	case r.Machine == r.To:
		return errors.New("a machine has its disks already: name another one that gets the disk")
	case r.Destination != nil && (r.Destination.IsDevice() || r.Destination.Pool == "" || r.Destination.Path == ""):
		return errors.New("the disk goes to a path in a pool")
	}
	return errors.Join(ofHost(r.Machine), ofHost(r.To))
}

// OfHanded is the request by which the files go of a disk that is handed over.
func (r Request) OfHanded(from, to Place) Request {
	return Request{
		Kind: Copy, Source: from, Destination: &to, Release: true, NoTag: r.NoTag, Recopy: r.Recopy, PastDamage: r.PastDamage, AsItIs: r.AsItIs,
		LeaveDefinitions: true, ByRules: r.Destination == nil,
	}
}

// HandFacts are what is known of a disk that is handed over.
type HandFacts struct {
	StayingFacts                // of the machine that has it
	To           StayingFacts   // the one that gets it, with Limits of its host
	Goes         Place          // where the image will lie
	Ground       volumes.Ground // of the pool there
	PoolHost     string         // of that
	Nowhere      error          // why it is not known where it goes
}

// ForHandDisk makes the plan to hand a disk over from the plan of its files, which is empty where they stay.
func ForHandDisk(r Request, f HandFacts, part Plan) Plan {
	on, _, _ := HostAndName(r.Machine)
	to, _, _ := HostAndName(r.To) // it is a valid request
	p := staying{r: r, f: f.StayingFacts, m: &Machine{
		Host:      on,
		Name:      f.Name,
		To:        to,
		Move:      true,
		Before:    f.Is,
		After:     f.To.Is,
		Format:    f.To.Format,
		Stored:    string(f.Text),
		Extension: extension(f.Format),
	}}
	parts := []Plan{part}
	if len(part.Steps) == 0 && len(part.Checks) == 0 {
		parts = nil
	}
	p.Plan = Together(r, parts...)
	p.Machine = p.m
	var i int
	switch {
	case f.Problem != nil || f.To.Problem != nil:
		p.check(Blocks, "machine", fmt.Sprintf("A definition cannot be read: %v.", errors.Join(f.Problem, f.To.Problem)))
		return p.Plan
	default:
		if i = p.slot(); i < 0 {
			return p.Plan
		}
	}
	switch {
	case f.Lies.Path == "":
		p.check(Blocks, "pool", fmt.Sprintf("The disk %s (%s) lies outside of all pools: make its folder one.", r.Slot, f.Is.Disks[i].Lies()))
		return p.Plan
	case f.Nowhere != nil:
		p.check(Blocks, "destination", fmt.Sprintf("It is not known where the disk is to lie: %v. Name a pool and a path.", f.Nowhere))
		return p.Plan
	case f.PoolHost != to:
		p.check(Blocks, "destination", fmt.Sprintf("The pool %s lies on another host than %s, which could not use it.", f.Goes.Pool, to))
	}
	p.hand(i, f, part)
	return p.Plan
}

func (p *staying) hand(i int, f HandFacts, part Plan) {
	had := f.Is.Disks[i]
	given := machine.Disk{
		File:     f.Ground.Path(f.Goes.Path),
		Format:   had.Format,
		Bus:      p.r.Bus,
		Serial:   had.Serial,
		ReadOnly: had.ReadOnly,
		Cache:    had.Cache,
	}
	if len(part.After) > 0 {
		given.File, given.Format = f.Ground.Path(part.After[0].Place.Path), part.After[0].Format
	}
	if p.r.Serial != "" {
		given.Serial = p.r.Serial
	}
	if given.Bus == "" && len(f.To.Is.Disks) > 0 {
		given.Bus = f.To.Is.Disks[0].Bus
	}
	p.m.Disk, p.m.Given = &had, &given
	if !machine.Takes(f.To.Limits.Formats, given.Format) {
		p.check(Blocks, "format", fmt.Sprintf("%s takes no disks that are %s: convert it first.", p.m.To, given.Format))
	}
	if f.State != host.Off {
		p.Checks = slices.DeleteFunc(
			p.Checks,
			func(c Check) bool { return c.Name == "in-use" },
		) // the job looks when the machine has let go of it
		p.check(Warns, "state", fmt.Sprintf("%s is %s, and has to let go of it. %s", p.m.Here(), f.State, letGo))
	}
	if i == 0 {
		p.check(Warns, "starts", fmt.Sprintf("It is the first disk of %s, which probably starts from it, and will not any more.", p.m.Name))
	}
	if len(f.Kept) > 0 {
		p.check(Warns, "snapshot", fmt.Sprintf("%s has snapshots (%s), which name the disk where it is now: going back to one would miss it.",
			p.m.Here(), f.Kept[0].Name))
	}
	if len(part.Before) > 0 && len(part.After) > 0 {
		p.check(
			Informs,
			"folder",
			fmt.Sprintf("Its files go to %s, the folder of the one that has it then.", path.Dir(part.After[0].Place.String())),
		)
	} else {
		p.check(Informs, "folder", fmt.Sprintf("Its files stay where they are: %s.", f.Lies))
	}
	p.check(Informs, "guest", bringIn)
	after := given
	after.Slot = machine.FreeSlot(given.Bus, slices.Concat(f.To.Is.Disks, f.To.Is.Drives)...)
	p.m.After.Disks = append(slices.Clone(f.To.Is.Disks), after)
	p.m.Differences = machine.Compare(f.To.Is, p.m.After)

	disks := p.Steps
	p.Steps = nil
	released := slices.IndexFunc(disks, func(s Step) bool { return s.Kind == StepRelease })
	if released < 0 {
		released = len(disks)
	}
	p.of(StepDetach, p.m.Host, p.m.Here(), fmt.Sprintf("Take the disk %s from %s", p.r.Slot, p.m.Here()))
	for _, s := range disks[:released] {
		p.follow(s)
	}
	p.of(StepAttach, p.m.To, p.m.There(), fmt.Sprintf("Give it to %s", p.m.There()))
	for _, s := range disks[released:] {
		p.follow(s)
	}
}

// HandedPath is where a disk lies in a folder to which it is handed over: under its name, or another one where that is taken by any other than itself,
// which lies at now in the same pool.
func HandedPath(folder, from, now string, taken func(name string) bool) string {
	name := path.Base(from)
	stem, extension := strings.TrimSuffix(name, path.Ext(name)), path.Ext(name)
	at := path.Join(folder, name)
	for n := 2; at != now && taken(at); n++ {
		at = path.Join(folder, fmt.Sprintf("%s-%d%s", stem, n, extension))
	}
	return at
}
