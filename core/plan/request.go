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

	"bagaglio/core/disk"
)

// ErrRequest is the error for a request that makes no sense, whatever the world looks like.
var ErrRequest = errors.New("the request makes no sense")

// work is a request of one kind: its type has the fields that the kind takes, and no others.
type work interface {
	// validate fails when fields are missing or contradict each other.
	validate() error
}

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
	if p.Format == "" {
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
