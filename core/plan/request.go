package plan

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
)

// ErrRequest is the error for a request that makes no sense, whatever the world looks like.
var ErrRequest = errors.New("the request makes no sense")

// Request is what somebody wants done.
type Request struct {
	Kind        string `json:"kind"`
	Job         string `json:"job,omitempty"` // to undo
	Source      Place  `json:"source,omitzero"`
	Destination *Place `json:"destination,omitempty"` // to convert
	As          string `json:"as,omitempty"`          // format to convert to
	Layout      string `json:"layout,omitempty"`      // empty for the format's default
	// Options are the choices inside the layout.
	Options disk.Options `json:"options,omitzero"`
	Base    string       `json:"base,omitempty"` // in the destination's pool: what the image is to stand on
	// Linked makes an image that stands on its source and stores nothing of its own, or a machine with such disks.
	Linked  bool  `json:"linked,omitempty"`
	RoundTo int64 `json:"round_to,omitempty"` // the virtual size becomes a multiple of this many bytes
	// Seed makes identifiers and times in the image: the same one gives the same bytes for the same content.
	Seed    string `json:"seed,omitempty"`
	Replace bool   `json:"replace,omitempty"`  // what lies at the destination
	NoProof bool   `json:"no_proof,omitempty"` // leave the reading back out
	Against string `json:"against,omitempty"`  // a fingerprint to prove the source against
	// By is who is to do the work: a porter, or ByService; empty for whoever moves the fewest bytes over the slowest lines.
	By string `json:"by,omitempty"`
	// AgainstDisk is another disk to prove the source against, in whatever format that is.
	AgainstDisk *Place `json:"against_disk,omitempty"`
	// Tag names one to prove the source against, in its pool; TagBeside means the one beside the disk, if there is one.
	Tag   string `json:"tag,omitempty"`
	Quick bool   `json:"quick,omitempty"`  // prove by structure and file facts only
	NoTag bool   `json:"no_tag,omitempty"` // put no tag beside the new image
	// Recopy copies again what differs when the source changes while it is copied; otherwise the job stops.
	Recopy bool `json:"recopy,omitempty"`
	// PastDamage goes on where the source cannot be read, with zeros in the place; otherwise the job stops.
	PastDamage bool `json:"past_damage,omitempty"`
	// ClearHeld removes for good what the destination's pool holds of replaced disks, before anything is written.
	ClearHeld bool `json:"clear_held,omitempty"`
	// Chain says how a disk that stands on others is copied: ChainWhole, ChainAlone, or empty for the first.
	Chain string `json:"chain,omitempty"`
	// Family takes all disks along that stand on a disk whose files are copied.
	Family bool `json:"family,omitempty"`
	// Release holds the source for a while, out of the way, once the new image is proven: the disk has moved.
	Release bool `json:"release,omitempty"`
	// IfSmaller keeps the new image only when it takes less room than the source, in whose place it is made.
	IfSmaller bool `json:"if_smaller,omitempty"`
	// UsedOnly leaves out what filesystems do not use, and Without whole partitions, by their numbers, names or labels: both read as zeros.
	UsedOnly bool     `json:"used_only,omitempty"`
	Without  []string `json:"without,omitempty"`
	// InUse says how a disk of a computer is read that is in use: InUseFreeze or InUseAsItIs; empty refuses it. LongestFreeze bounds the first, in seconds.
	InUse         string `json:"in_use,omitempty"`
	LongestFreeze int    `json:"longest_freeze,omitempty"`
	// Tell names a program on the computer of the disk that is told before filesystems are frozen and afterwards (see blocks.Hooks).
	Tell string `json:"tell,omitempty"`
	// Dying reads a disk of a computer that fails: what reads well first. GoOnFrom is an image with its map beside it, in the destination's pool, of which
	// what could be read then is taken.
	Dying    bool   `json:"dying,omitempty"`
	GoOnFrom string `json:"go_on_from,omitempty"`
	// Size is the virtual size that the new image gets, in bytes, with what is on it made to fit; Smallest makes that as small as possible. Grow is the
	// number of the partition that takes what there is more, "none" for none, empty for the last one that it makes sense for.
	Size     int64  `json:"size,omitempty"`
	Smallest bool   `json:"smallest,omitempty"`
	Grow     string `json:"grow,omitempty"`
	// NewPlace is where the disk comes to: what its guest needs to start there is changed on the copy, once that is proven. Fit has it done for all disks of a machine.
	NewPlace *adapt.Wish `json:"new_place,omitempty"`
	Fit      bool        `json:"fit,omitempty"`
	// ConfirmSerial is the serial number of the disk that is written over (see DeviceFacts.Confirms). DifferingOnly writes only what is not the same there.
	ConfirmSerial string `json:"confirm_serial,omitempty"`
	DifferingOnly bool   `json:"differing_only,omitempty"`
	// Wipe has what the image does not reach of that disk read as zeros: WipeZeros or WipeDiscard; empty leaves it as it is.
	Wipe string `json:"wipe,omitempty"`
	// ByRules does whatever the rules of the destination's pool ask for: the plan is that of the request which it becomes.
	ByRules bool `json:"by_rules,omitempty"`
	// AsItIs goes on where the source is not what was known of it: its content differs from its tag, or files of it are missing or short.
	AsItIs bool `json:"as_it_is,omitempty"`
	// TakeDefinitions takes definitions of machines along that lie in the pool of a disk which moves to another pool of the host.
	TakeDefinitions bool `json:"take_definitions,omitempty"`
	// LeaveDefinitions leaves the definitions of machines that use a disk which moves as they are.
	LeaveDefinitions bool `json:"leave_definitions,omitempty"`
	// WithoutKnowing goes on though it is not known whether something stands on the disk, or which machines use it.
	WithoutKnowing bool `json:"without_knowing,omitempty"`
	// Machine is one that is moved or copied, as HOST:NAME, or empty for the one whose definition is the source; To is the host that it goes to,
	// empty for none, and Destination a folder of a pool there.
	Machine string `json:"machine,omitempty"`
	To      string `json:"to,omitempty"`
	Name    string `json:"name,omitempty"` // of the machine in its new place, empty for the one that it has
	// Stop shuts it down first, Start starts it in its new place, where it has so many seconds to come up.
	Stop  bool `json:"stop,omitempty"`
	Start bool `json:"start,omitempty"`
	// Suspend halts a machine that runs while its disks are read, instead: then it goes on, and the copy is what a power cut would leave.
	Suspend bool `json:"suspend,omitempty"`
	// Live moves a machine while it runs: its guest goes on.
	Live bool `json:"live,omitempty"`
	// LongestStop is for how long it may stand still on its way to another host, in seconds; 0 for the usual time.
	LongestStop int `json:"longest_stop,omitempty"`
	// WithMemory takes along what a machine that runs has in memory, to another host: it is not shut down, and goes on there where it was.
	WithMemory bool `json:"with_memory,omitempty"`
	// StartFirst has a machine that moves start in its new place at once, from its disks where they lie, which are copied meanwhile.
	StartFirst bool `json:"start_first,omitempty"`
	// KeepEvery and KeepAfter keep a copy on the other host up to date until somebody says that the machine goes over: every so many seconds, and whenever so many bytes
	// were written meanwhile.
	KeepEvery int   `json:"keep_every,omitempty"`
	KeepAfter int64 `json:"keep_after,omitempty"`
	// Suspended reads a disk although a machine uses it, as long as that is suspended.
	Suspended bool `json:"suspended,omitempty"`
	Within    int  `json:"within,omitempty"`
	// Snapshot is a state of a machine that its host keeps, or is to, with Notes; of a machine that is copied, the one that is copied instead of the
	// present one. KeepPresent is the name of the one that the present state becomes before another one does.
	Snapshot    string `json:"snapshot,omitempty"`
	Notes       string `json:"notes,omitempty"`
	KeepPresent string `json:"keep_present,omitempty"`
	// DisksOnly has no memory kept, and AtRest the filesystems in the guest put at rest for that moment.
	DisksOnly bool `json:"disks_only,omitempty"`
	AtRest    bool `json:"at_rest,omitempty"`
	// ListOnly has only the list of the host forget a snapshot, which images do not have any more, or are to keep.
	ListOnly bool `json:"list_only,omitempty"`
	// Slot is that of a disk of a machine, Bus the one that a disk gets, with Serial as its serial number, and ReadOnly for reading only.
	Slot     string `json:"slot,omitempty"`
	Bus      string `json:"bus,omitempty"`
	Serial   string `json:"serial,omitempty"`
	ReadOnly bool   `json:"read_only,omitempty"`
	// Networks are those of the new host by those that the machine is connected to; an empty one leads out through the host itself.
	Networks map[string]string `json:"networks,omitempty"`
	// Deployment is the way in which a package is deployed, by its ID; empty takes the one that its envelope says. Properties are values of what it asks for.
	Deployment string            `json:"deployment,omitempty"`
	Properties map[string]string `json:"properties,omitempty"`
	// LeaveSource leaves a machine that moves on the list of its old host; otherwise that has its disks, and does not know it any more.
	LeaveSource bool `json:"leave_source,omitempty"`
	// Changes are what the machine is to be that it is not, and Disks how single ones of its disks are carried, by their slots.
	Changes Changes               `json:"changes,omitzero"`
	Disks   map[string]DiskChoice `json:"disks,omitempty"`
	// Identity is KeepIdentity or NewIdentity; empty keeps it, unless the machine is copied to a host.
	Identity string `json:"identity,omitempty"`
	// Definition is the format of the definition that is put beside the disks, where the machine goes to no host; empty for a machine file.
	Definition string `json:"definition,omitempty"`
}

// work is a request of one kind: its type has the fields that the kind takes, and no others.
type work interface {
	// validate fails when fields are missing or contradict each other.
	validate() error
}

// ByService has the service itself do the work.
const ByService = "service"

// kinds read a request of each kind, and fail at fields that are not its own.
var kinds = map[string]func([]byte) (work, error){
	Convert: read[ConvertRequest],
	Copy:    read[CopyRequest],
	Prove:   read[ProveRequest],

	WriteBack: read[WriteBackRequest],
	Undo:      read[UndoRequest],
	Remove:    read[RemoveRequest],

	MoveMachine: read[MachineRequest],
	CopyMachine: read[MachineRequest],

	TakeSnapshot: read[TakeRequest],
	GoBack:       read[GoBackRequest],
	DropSnapshot: read[DropRequest],
	AttachDisk:   read[AttachRequest],
	DetachDisk:   read[DetachRequest],

	RemoveMachine: read[RemoveMachineRequest],
	HandDisk:      read[HandDiskRequest],
	PackMachine:   read[PackRequest],
}

// Carrying is what requests have that carry a disk somewhere.
type Carrying struct {
	Kind             string `json:"kind"`
	Source           Place  `json:"source"`
	Destination      *Place `json:"destination"`
	Replace          bool   `json:"replace"`
	NoProof          bool   `json:"no_proof"`
	By               string `json:"by"`
	NoTag            bool   `json:"no_tag"`
	Recopy           bool   `json:"recopy"`
	PastDamage       bool   `json:"past_damage"`
	ClearHeld        bool   `json:"clear_held"`
	Release          bool   `json:"release"`
	ByRules          bool   `json:"by_rules"`
	AsItIs           bool   `json:"as_it_is"`
	TakeDefinitions  bool   `json:"take_definitions"`
	LeaveDefinitions bool   `json:"leave_definitions"`
	WithoutKnowing   bool   `json:"without_knowing"`
	Suspended        bool   `json:"suspended"`
}

// read reads a request of one kind.
func read[W work](b []byte) (work, error) {
	var w W
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	err := d.Decode(&w)
	if name, ok := strings.CutPrefix(fmt.Sprint(err), "json: unknown field "); ok {
		err = fmt.Errorf("it takes no %s; it takes %s", name, strings.Join(takes(reflect.TypeFor[W]()), ", "))
	}
	return w, err
}

// takes are the names in JSON of the fields of a type, but for the kind.
func takes(t reflect.Type) (names []string) {
	for _, f := range reflect.VisibleFields(t) {
		if name := f.Tag.Get("json"); name != "" && name != "kind" {
			names = append(names, name)
		}
	}
	return names
}

// UnmarshalJSON reads a request, and refuses fields that are not those of its kind.
func (r *Request) UnmarshalJSON(b []byte) error {
	type plain Request // without this method
	var any plain
	if err := json.Unmarshal(b, &any); err != nil {
		return fmt.Errorf("%w: %w", ErrRequest, err)
	}
	read, ok := kinds[any.Kind]
	if !ok {
		return unknown(any.Kind)
	}
	if _, err := read(b); err != nil {
		return fmt.Errorf("%w: to %s: %w", ErrRequest, any.Kind, err)
	}
	*r = Request(any)
	return nil
}

// Subject is what it is about, in words: a machine, a disk, or a job.
func (r Request) Subject() string {
	switch {
	case r.Machine != "":
		return r.Machine
	case r.Job != "":
		return "job " + r.Job
	}
	return r.Source.String()
}

func unknown(kind string) error {
	return fmt.Errorf("%w: kind %q is not known: it is one of %s", ErrRequest, kind, strings.Join(slices.Sorted(maps.Keys(kinds)), ", "))
}

// Validate returns an error that wraps ErrRequest when it has fields that are not those of its kind, or when they are missing or contradict
// each other.
func (r Request) Validate() error {
	read, ok := kinds[r.Kind]
	if !ok {
		return unknown(r.Kind)
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	w, err := read(b)
	if err == nil {
		err = w.validate()
	}
	if err != nil {
		return fmt.Errorf("%w: to %s: %w", ErrRequest, r.Kind, err)
	}
	return nil
}

// validate looks at the source.
func (p Place) validate() error {
	if p.Path == "" {
		return errors.New("it names no source")
	}
	if p.Format == "" || p.IsFolder() {
		return nil
	}
	_, err := disk.Lookup(p.Format)
	return err
}

// validate looks at what both ends have to be.
func (c Carrying) validate() error {
	if err := c.Source.validate(); err != nil {
		return err
	}
	if c.Destination == nil || c.Destination.Path == "" {
		return errors.New("it names no destination")
	}
	if err := c.validateDevices(); err != nil {
		return err
	}
	if c.Destination.Snapshot != "" {
		return errors.New("nothing is written into a snapshot")
	}
	if c.Release && c.Suspended {
		return errors.New("a disk of a machine that is suspended stays where it is: copy it")
	}
	if c.Release && c.NoProof {
		return errors.New("a source is released only when the new image is proven")
	}
	return nil
}
