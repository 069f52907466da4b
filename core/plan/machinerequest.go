package plan

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/machine"
	"bagaglio/core/storage/archive"
)

// Kinds of request for whole machines.
const (
	MoveMachine = "move-machine" // to another place: afterwards it is there, and no more where it was
	CopyMachine = "copy-machine" // with a new identity: afterwards there are two
)

// WatchFor is for how long a machine is watched that is to come up, in seconds, where the request does not say; and at most.
const WatchFor, LongestWatch = 180, 3600

// Identities that a machine has in its new place: its UUID and the addresses of its network cards.
const (
	KeepIdentity = "keep"
	NewIdentity  = "new"
)

// AllDisks stands for the disks whose slots are not named.
const AllDisks = "all"

// Changes are what a machine is to be in its new place and is not now. What is not said stays.
type Changes struct {
	Notes      *string           `json:"notes,omitempty"`
	Processors int               `json:"processors,omitempty"`
	Memory     int64             `json:"memory,omitempty"` // bytes
	Firmware   string            `json:"firmware,omitempty"`
	Chipset    string            `json:"chipset,omitempty"`
	Buses      map[string]string `json:"buses,omitempty"`     // of disks, by their slots or AllDisks
	Addresses  map[string]string `json:"addresses,omitempty"` // of network cards, by those that they have
}

// DiskChoice is how one disk of a machine is carried, where that is not as the others are.
type DiskChoice struct {
	Pool   string `json:"pool,omitempty"`
	Path   string `json:"path,omitempty"` // its folder in that pool
	As     string `json:"as,omitempty"`
	Layout string `json:"layout,omitempty"`
	Size   int64  `json:"size,omitempty"`  // virtual, in bytes, with what is on it made to fit
	Leave  bool   `json:"leave,omitempty"` // it stays where it is
}

// MachineRequest carries a whole machine to a host, its disks into a folder of one of that host's pools; or into such a folder alone, where no
// host knows it. It comes from a host, or by a definition in a pool.
type MachineRequest struct {
	Kind        string       `json:"kind"`
	Machine     string       `json:"machine"`
	Source      Place        `json:"source"`
	To          string       `json:"to"`
	Destination *Place       `json:"destination"`
	Definition  string       `json:"definition"`
	As          string       `json:"as"`
	Layout      string       `json:"layout"`
	Options     disk.Options `json:"options"`
	Name        string       `json:"name"`
	Identity    string       `json:"identity"`
	Stop        bool         `json:"stop"`
	Start       bool         `json:"start"`
	Suspend     bool         `json:"suspend"`
	Live        bool         `json:"live"`
	Fit         bool         `json:"fit"`
	LongestStop int          `json:"longest_stop"`
	WithMemory  bool         `json:"with_memory"`
	StartFirst  bool         `json:"start_first"`
	KeepEvery   int          `json:"keep_every"`
	KeepAfter   int64        `json:"keep_after"`
	Within      int          `json:"within"`
	Release     bool         `json:"release"`
	By          string       `json:"by"`

	// Snapshot is the state that is copied instead of the present one, and Linked has the disks of the copy stand on those that there are.
	Snapshot string `json:"snapshot"`
	Linked   bool   `json:"linked"`

	Deployment string            `json:"deployment"`
	Properties map[string]string `json:"properties"`

	Networks map[string]string     `json:"networks"`
	Changes  Changes               `json:"changes"`
	Disks    map[string]DiskChoice `json:"disks"`

	// For a disk of a computer that becomes a machine: what of it is read, and the size that it gets.
	UsedOnly bool     `json:"used_only"`
	Without  []string `json:"without"`
	InUse    string   `json:"in_use"`
	Size     int64    `json:"size"`
	Smallest bool     `json:"smallest"`
	Grow     string   `json:"grow"`

	LongestFreeze int    `json:"longest_freeze"`
	Tell          string `json:"tell"`

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
	return errors.Join(r.validateEnds(), r.validateSource(), r.validateDevice(), r.Changes.validate(), r.validateDisks())
}

// validateEnds looks at where it comes from and goes to.
func (r MachineRequest) validateEnds() error {
	switch {
	case (r.Machine == "") == (r.Source.Path == ""):
		return errors.New("a machine is one of a host, or one by its definition in a pool: name one of them")
	case r.Source.Path != "" && (r.Stop || r.Suspend):
		return errors.New("a machine of no host does not run: it cannot be shut down")
	case r.Suspend && r.Kind == MoveMachine:
		return errors.New("a machine that moves is shut down: what it wrote behind its copy would be lost")
	case r.Live && r.StartFirst:
		return errors.New("a machine goes on while its disks are copied where it is, or where it goes to: not both")
	case r.Live:
		return r.validateLive()
	case r.StartFirst:
		return r.validateFirst()
	case r.WithMemory:
		return errors.New("what a machine has in memory goes along where it moves while it runs (live)")
	case r.LongestStop != 0:
		return errors.New("how long it may stand still is said of a machine that moves while it runs (live)")
	case r.KeepEvery != 0 || r.KeepAfter != 0:
		return errors.New("a copy is kept up to date of a machine that moves while it runs (live)")
	case r.Suspend && r.Stop:
		return errors.New("it is shut down or suspended, not both")
	case r.Snapshot != "" && (r.Kind != CopyMachine || r.Machine == ""):
		return errors.New("a snapshot is one of a machine of a host, and is copied")
	case r.Linked && (r.Kind != CopyMachine || r.Machine == "" || r.To == "" || !strings.HasPrefix(r.Machine, r.To+":")):
		return errors.New("a linked machine is a copy that stands on the disks of a machine of the same host")
	case r.Linked && r.Fit:
		return errors.New("disks that stand on others are not changed: copy the whole machine to fit its guest")
	case r.Linked && (r.As != "" || r.Suspend):
		return errors.New(
			"disks that stand on others have the form that those ask for, and those rest from then on: the machine is shut down for that",
		)
	case r.Destination == nil || r.Destination.Pool == "":
		return errors.New("it names no pool that the disks are to go into")
	case r.Destination.Snapshot != "" || r.Destination.Format != "":
		return errors.New("the destination of a machine is a folder of a pool")
	case r.To == "" && r.Start:
		return errors.New("a machine is started by a host: say which it goes to")
	case r.To != "" && r.Definition != "":
		return errors.New("a host has the form of definitions that it has: none is to be named")
	case r.Machine == "":
		return nil
	}
	_, _, err := HostAndName(r.Machine)
	return err
}

// validateLive looks at what is asked of a machine that moves while it runs.
func (r MachineRequest) validateLive() error {
	switch {
	case r.Kind != MoveMachine || r.Machine == "" || r.Destination == nil || r.Destination.Pool == "":
		return errors.New("a machine of a host moves while it runs, into a pool: say which")
	case r.Stop || r.Start || r.Suspend || r.LeaveSource:
		return errors.New("a machine that moves while it runs goes on: it is neither shut down, nor suspended, nor started")
	case r.Fit:
		return errors.New("a guest is fitted to its new place while it is off: shut it down for that, or leave it as it is")
	case r.Name != "" || r.Identity == NewIdentity || r.Changes.any() || len(r.Networks) > 0 && strings.HasPrefix(r.Machine, r.To+":"):
		return errors.New("what a machine is cannot be changed while it runs: move it, and change it when it is off")
	case r.To == "":
		return errors.New("a machine that runs goes on at a host: say which")
	case r.WithMemory && (strings.HasPrefix(r.Machine, r.To+":") || r.KeepEvery != 0):
		return errors.New("what a machine has in memory goes along to another host, when it moves there")
	case r.LongestStop < 0 || r.LongestStop > LongestWatch:
		return fmt.Errorf("a machine may stand still for up to %d seconds", LongestWatch)
	case (r.KeepEvery != 0 || r.KeepAfter != 0) && strings.HasPrefix(r.Machine, r.To+":"):
		return errors.New("a copy is kept on another host, for when this one fails")
	case r.KeepEvery != 0 && (r.KeepEvery < leastKept || r.KeepEvery > mostKept) || r.KeepEvery == 0 && r.KeepAfter != 0:
		return fmt.Errorf("a copy is kept up to date every %d to %d seconds", leastKept, mostKept)
	case r.KeepAfter != 0 && r.KeepAfter < leastWritten:
		return fmt.Errorf("a copy is kept up to date after at least %s were written", Bytes(leastWritten))
	}
	_, _, err := HostAndName(r.Machine)
	return err
}

// validateFirst looks at what is asked of a machine that is started before its disks are there.
func (r MachineRequest) validateFirst() error {
	switch {
	case r.Kind != MoveMachine || r.Machine == "" || r.To == "" || strings.HasPrefix(r.Machine, r.To+":") || r.Destination == nil || r.Destination.Pool == "":
		return errors.New("a machine of a host is started first on another host, and its disks go into a pool there: say which")
	case r.Fit:
		return errors.New("a machine that is started first starts from its disks as they are: move it off to fit its guest")
	case r.Suspend || r.LeaveSource || r.LongestStop != 0 || r.KeepEvery != 0 || r.WithMemory:
		return errors.New("a machine that is started first is off where it was: it is neither suspended nor left there")
	case r.Name != "" || r.Identity == NewIdentity || r.Changes.any() || len(r.Disks) > 0:
		return errors.New("a machine that is started first stays what it is, with all of its disks: change it when it has moved")
	}
	_, _, err := HostAndName(r.Machine)
	return err
}

// Bounds of how often a copy is kept up to date, in seconds, and after how many bytes at least.
const (
	leastKept, usuallyKept, mostKept = 10, 3600, 7 * 24 * 3600
	leastWritten                     = 1 << 20
)

// any tells whether anything is to change.
func (c Changes) any() bool {
	return c.Notes != nil || c.Processors != 0 || c.Memory != 0 || c.Firmware != "" || c.Chipset != "" || len(c.Buses) > 0 ||
		len(c.Addresses) > 0
}

// validateDevice looks at what is asked of a disk of a computer that becomes a machine.
func (r MachineRequest) validateDevice() error {
	if !r.Source.IsDevice() {
		if r.UsedOnly || len(r.Without) > 0 || r.Size != 0 || r.Smallest || r.Grow != "" || r.InUse != "" {
			return errors.New("what is read of a disk, and its size, are said of a disk of a computer: otherwise its disks are converted before")
		}
		return nil
	}
	if r.Kind != CopyMachine {
		return errors.New("a disk of a computer stays where it is: the machine is a copy")
	}
	if err := validateInUse(r.Source, r.InUse, r.LongestFreeze, r.Tell); err != nil {
		return err
	}
	return ConvertRequest{Size: r.Size, Smallest: r.Smallest, Grow: r.Grow}.validateFit()
}

func (r MachineRequest) validateSource() error {
	switch {
	case r.Kind == CopyMachine && (r.Release || r.LeaveSource):
		return errors.New("what is copied stays: nothing is to be said of the source")
	case r.Release && r.LeaveSource:
		return errors.New("the source is held or left, not both")
	case r.Identity != "" && r.Identity != KeepIdentity && r.Identity != NewIdentity:
		return fmt.Errorf("the identity is one to %s or a %s one, not %q", KeepIdentity, NewIdentity, r.Identity)
	case r.Within < 0 || r.Within > LongestWatch:
		return fmt.Errorf("a machine is watched for up to %d seconds", LongestWatch)
	case (r.Deployment != "" || len(r.Properties) > 0) && path.Ext(r.Source.Path) != packageExtension && !archive.Claim(r.Source.Path):
		return errors.New("deployment and properties are those of a package, which is the source")
	case strings.ContainsAny(r.Name, "/\n") || len(r.Name) > 200:
		return fmt.Errorf("%q is no name for a machine", r.Name)
	}
	return nil
}

func (c Changes) validate() error {
	switch {
	case c.Processors < 0 || c.Processors > 4096:
		return fmt.Errorf("a machine has no %d processors", c.Processors)
	case c.Memory < 0 || c.Memory != 0 && c.Memory < 1<<20 || c.Memory%1024 != 0:
		return fmt.Errorf("memory is at least 1 MiB, in whole KiB, and not %d bytes", c.Memory)
	case c.Firmware != "" && c.Firmware != machine.BIOS && c.Firmware != machine.UEFI:
		return fmt.Errorf("firmware is %s or %s, not %q", machine.BIOS, machine.UEFI, c.Firmware)
	}
	return nil
}

// validateDisks looks at what is to become of the disks.
func (r MachineRequest) validateDisks() error {
	if r.As == "" && r.Layout != "" {
		return errors.New("a layout is one of a format: say which")
	}
	if r.As != "" {
		if err := (ConvertRequest{As: r.As, Layout: r.Layout, Options: r.Options}).validateTarget(); err != nil {
			return err
		}
	}
	for slot, c := range r.Disks {
		switch {
		case r.Linked && !c.Leave:
			return fmt.Errorf("the disk %s: what stands on a disk has the form and the place that this asks for", slot)
		case c.Size < 0:
			return fmt.Errorf("the disk %s cannot have a size of %d bytes", slot, c.Size)
		case c.Leave && (c != DiskChoice{Leave: true}):
			return fmt.Errorf("the disk %s stays or goes, not both", slot)
		case c.Path != "" && c.Pool == "":
			return fmt.Errorf("the disk %s goes into a folder of a pool: say of which", slot)
		case c.As == "" && c.Layout != "":
			return fmt.Errorf("the disk %s: a layout is one of a format: say which", slot)
		case c.As != "":
			if err := (ConvertRequest{As: c.As, Layout: c.Layout}).validateTarget(); err != nil {
				return fmt.Errorf("the disk %s: %w", slot, err)
			}
		}
	}
	return nil
}

// DiskName is what a disk of a machine is called in requests: its slot, or its number where it has none.
func DiskName(m machine.Machine, i int) string {
	if slot := m.Disks[i].Slot; slot != "" {
		return slot
	}
	return strconv.Itoa(i + 1)
}

// OfDisk is the request by which the disk of a slot is carried, whose image has a format: by its own choice, where there is one. The name is
// without extension.
func (r Request) OfDisk(slot string, from Place, format, name string) Request {
	to, as, layout, options := *r.Destination, r.As, r.Layout, r.Options
	if c := r.Disks[slot]; c != (DiskChoice{}) {
		if c.Pool != "" {
			to = Place{Pool: c.Pool, Path: c.Path}
		}
		if c.As != "" {
			as, layout, options = c.As, c.Layout, disk.Options{}
		}
	}
	out := r.carried(from, to.Pool)
	if from.IsFolder() { // it stays one
		out.Destination.Path = path.Join(to.Path, path.Base(from.Path))
		return out
	}
	out.Size = r.Disks[slot].Size
	extension := path.Ext(from.plain())
	if r.Live && as == "" { // it is made anew: the guest has the old one open
		as = format
	}
	if as != "" && (as != format || layout != "" || r.Live) {
		out.Kind, out.As, out.Layout, out.Options = Convert, as, layout, options
		if f, err := disk.Lookup(as); err == nil && len(f.Extensions) > 0 {
			extension = f.Extensions[0]
		}
	}
	if r.Linked {
		return out.linked(from, format, path.Join(to.Path, name))
	}
	if (out.Size > 0 || from.Snapshot != "") && out.Kind != Convert { // which is made anew for that
		out.Kind, out.As = Convert, format
	}
	if from.IsDevice() && out.Kind != Convert { // in the form that its host takes, see Fitting
		out.Kind, out.As, extension = Convert, "raw", ".raw"
	}
	if from.IsDevice() {
		out.InUse, out.LongestFreeze, out.Tell = r.InUse, r.LongestFreeze, r.Tell
		out.UsedOnly, out.Without, out.Smallest, out.Grow = r.UsedOnly, r.Without, r.Smallest, r.Grow
		out.Size = max(out.Size, r.Size)
	}
	out.Destination.Path = path.Join(to.Path, name+extension)
	return out
}

// linked is the request for an image that stands on one of a format, in the same pool, under a name without extension.
func (r Request) linked(from Place, format, name string) Request {
	as, layout := Standing(format)
	extension := path.Ext(from.Path)
	if f, err := disk.Lookup(as); err == nil {
		extension = f.Extensions[0]
	}
	return Request{
		Kind: Convert, Source: from, Destination: &Place{Pool: r.Destination.Pool, Path: name + extension}, As: as, Layout: layout,
		Base: from.Path, Linked: true, NoTag: true,
	}
}

// Standing is the format and layout of images that stand on one of a format: the same one, or qcow2 for those that have none.
func Standing(format string) (as, layout string) {
	for _, name := range []string{format, "qcow2"} {
		f, err := disk.Lookup(name)
		if err != nil {
			continue
		}
		if i := slices.IndexFunc(f.Layouts, func(l disk.Layout) bool { return l.Stands }); i >= 0 {
			return name, f.Layouts[i].Name
		}
	}
	return "", ""
}

// Resting is the request for the image by which a machine goes on whose disk rests under a linked one from then on.
func (r Request) Resting(from Place, format string, taken func(name string) bool) Request {
	stem := strings.TrimSuffix(from.Path, path.Ext(from.Path))
	for n := 2; ; n++ {
		out := r.linked(from, format, fmt.Sprintf("%s-%d", stem, n))
		out.Destination.Pool = from.Pool
		if !taken(out.Destination.Path) {
			return out
		}
	}
}

// carried is the request by which a file of the machine is copied into a pool.
func (r Request) carried(from Place, pool string) Request {
	return Request{
		Kind: Copy, Source: from, Destination: &Place{Pool: pool}, Release: r.Release, NoTag: r.NoTag, Recopy: r.Recopy,
		PastDamage: r.PastDamage, AsItIs: r.AsItIs, Suspended: r.Suspend, LeaveDefinitions: r.Release, ByRules: true,
	}
}

// OfVariables is the request by which the variables of its firmware are carried, which are no disk that a guest sees.
func (r Request) OfVariables(from Place) Request {
	from.Format = "raw"
	out := r.carried(from, r.Destination.Pool)
	out.NoTag, out.ByRules = true, false
	out.Destination.Path = path.Join(r.Destination.Path, path.Base(from.Path))
	return out
}

// Fitting is the request for a disk in a form that is taken: where it would have another one, the first that is. More tells that it is not the
// same request.
func (r Request) Fitting(after Side, l machine.Limits) (next Request, more bool) {
	takes := func(format, layout string) bool {
		return machine.Takes(l.Formats, format) && machine.Takes(l.Layouts, layout)
	}
	if takes(after.Format, after.Layout) {
		return r, false
	}
	for _, f := range disk.Formats() {
		i := slices.IndexFunc(f.Layouts, func(l disk.Layout) bool { return !l.Stands && !l.Compresses && takes(f.Name, l.Name) })
		if i < 0 {
			continue
		}
		r.Kind, r.As, r.Layout, r.Options = Convert, f.Name, f.Layouts[i].Name, disk.Options{}
		if to := r.Destination; len(f.Extensions) > 0 {
			r.Destination = &Place{Pool: to.Pool, Path: strings.TrimSuffix(to.Path, path.Ext(to.Path)) + f.Extensions[0]}
		}
		return r, true
	}
	return r, false
}
