package plan

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
)

// ErrRequest is the error for a request that makes no sense, whatever the world looks like.
var ErrRequest = errors.New("the request makes no sense")

// fieldsOf are the fields that a request of each kind may have, by their names in JSON.
var fieldsOf = func() map[string][]string {
	carried := []string{
		"kind",
		"source",
		"destination",
		"replace",
		"no_proof",
		"no_tag",
		"recopy",
		"past_damage",
		"clear_held",
		"release",
		"by_rules",
		"as_it_is",
		"take_definitions",
		"leave_definitions",
		"without_knowing",
	}
	return map[string][]string{
		Convert: append(slices.Clone(carried), "as", "layout", "options", "base", "round_to", "seed", "tag", "if_smaller"),
		Copy:    append(slices.Clone(carried), "chain", "family"),
		Prove:   {"kind", "source", "against", "tag", "quick"},
		Undo:    {"kind", "job"},
	}
}()

// UnmarshalJSON reads a request, and refuses fields that are not those of its kind.
func (r *Request) UnmarshalJSON(b []byte) error {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(b, &fields); err != nil {
		return fmt.Errorf("%w: %w", ErrRequest, err)
	}
	type plain Request // without this method
	var read plain
	if err := json.Unmarshal(b, &read); err != nil {
		return fmt.Errorf("%w: %w", ErrRequest, err)
	}
	allowed, ok := fieldsOf[read.Kind]
	if !ok {
		return Request(read).Validate()
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		if !slices.Contains(allowed, name) && string(fields[name]) != "null" {
			return fmt.Errorf("%w: to %s takes no %q; it takes %s", ErrRequest, read.Kind, name, strings.Join(allowed[1:], ", "))
		}
	}
	*r = Request(read)
	return nil
}

// Validate returns an error that wraps ErrRequest when fields are missing or contradict each other.
func (r Request) Validate() error {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrRequest, fmt.Sprintf(format, args...))
	}
	if _, ok := fieldsOf[r.Kind]; !ok {
		return wrong("kind %q is not known: it is %q, %q, %q or %q", r.Kind, Convert, Copy, Prove, Undo)
	}
	if r.Kind == Undo {
		if r.Job == "" || r != (Request{Kind: Undo, Job: r.Job}) {
			return wrong("to undo takes the number of an ended job, nothing else")
		}
		return nil
	}
	if r.Source.Path == "" {
		return wrong("it names no source")
	}
	if r.Source.Format != "" {
		if _, err := disk.Lookup(r.Source.Format); err != nil {
			return wrong("%v", err)
		}
	}
	if r.Release && r.NoProof {
		return wrong("a source is released only when the new image is proven")
	}
	if r.Job != "" {
		return wrong("the number of a job belongs to undoing")
	}
	switch r.Kind {
	case Convert:
		if r.Destination == nil || r.Destination.Path == "" {
			return wrong("it names no destination")
		}
		if r.Family {
			return wrong("disks that stand on one are copied with it, not converted: convert each")
		}
		if r.Chain != "" {
			return wrong("a chain becomes one image when it is converted")
		}
		if r.Against != "" || r.Quick {
			return wrong("to compare with a fingerprint belongs to proving, not to converting")
		}
		if r.IfSmaller && !r.Replace {
			return wrong("only an image that takes the place of its source is kept if it is smaller")
		}
		if err := r.validateTarget(); err != nil {
			return wrong("%v", err)
		}
	case Copy:
		if r.Destination == nil || r.Destination.Path == "" || r.Destination.Snapshot != "" {
			return wrong("it names no destination")
		}
		if r.As != "" || r.Layout != "" || r.Base != "" || r.RoundTo != 0 || r.Seed != "" || r.Options != (disk.Options{}) ||
			r.Source.Snapshot != "" {
			return wrong("a copy is the same in format, layout and size: for another one, convert")
		}
		if r.Against != "" || r.Tag != "" || r.Quick {
			return wrong("to compare with a fingerprint or a tag belongs to proving, not to copying")
		}
		if r.Family && r.Chain == ChainAlone {
			return wrong("what stands on a disk goes along with all that the disk itself stands on")
		}
		if r.Chain != "" && r.Chain != ChainWhole && r.Chain != ChainAlone {
			return wrong("a chain is copied %q or %q, not %q", ChainWhole, ChainAlone, r.Chain)
		}
	case Prove:
		if r != (Request{Kind: Prove, Source: r.Source, Against: r.Against, Tag: r.Tag, Quick: r.Quick}) {
			return wrong("proving takes a source and what to compare it with, nothing else")
		}
		if r.Against != "" && (r.Tag != "" || r.Quick) {
			return wrong("a disk is compared with a fingerprint or with a tag, and a quick proof compares no content")
		}
		if r.Tag != "" && r.Tag != TagBeside && path.Ext(r.Tag) != fingerprint.TagExtension {
			return wrong("the name of a tag ends in %s", fingerprint.TagExtension)
		}
		if r.Against != "" {
			if _, err := fingerprint.Parse(r.Against); err != nil {
				return wrong("%v", err)
			}
		}
	}
	return nil
}

// validateTarget looks at what is to be made.
func (r Request) validateTarget() error {
	f, err := disk.Lookup(r.As)
	if err != nil {
		return err
	}
	l, err := f.Layout(r.Layout)
	if err != nil {
		return err
	}
	switch {
	case l.Stands && r.Base == "":
		return fmt.Errorf("%s, %s, stands on a base: name one", f.Name, l.Name)
	case !l.Stands && r.Base != "":
		return fmt.Errorf("%s, %s, stands on no base", f.Name, l.Name)
	case r.RoundTo < 0 || r.RoundTo > 1<<40:
		return fmt.Errorf("the virtual size cannot be rounded to multiples of %d bytes", r.RoundTo)
	case r.Destination.Snapshot != "":
		return errors.New("an image is not written into a snapshot")
	}
	return l.Accepts(r.Options)
}
