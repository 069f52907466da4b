package plan

import (
	"errors"
	"fmt"
	"path"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
)

// ConvertRequest makes an image of another format or layout.
type ConvertRequest struct {
	Carrying
	As        string       `json:"as"`
	Layout    string       `json:"layout"`
	Options   disk.Options `json:"options"`
	Base      string       `json:"base"`
	Linked    bool         `json:"linked"`
	RoundTo   int64        `json:"round_to"`
	Seed      string       `json:"seed"`
	Tag       string       `json:"tag"`
	IfSmaller bool         `json:"if_smaller"`
	UsedOnly  bool         `json:"used_only"`
	Without   []string     `json:"without"`
	InUse     string       `json:"in_use"`
	Dying     bool         `json:"dying"`
	GoOnFrom  string       `json:"go_on_from"`
	Size      int64        `json:"size"`
	Smallest  bool         `json:"smallest"`
	Grow      string       `json:"grow"`
	NewPlace  *adapt.Wish  `json:"new_place"`

	LongestFreeze int    `json:"longest_freeze"`
	Tell          string `json:"tell"`
}

func (r ConvertRequest) validate() error {
	if err := r.Carrying.validate(); err != nil {
		return err
	}
	if len(r.Without) > 0 && (r.Release || r.Replace && r.Destination.Pool == r.Source.Pool && r.Destination.Path == r.Source.Path) {
		return errors.New("a disk of which a partition is left out stays where it is")
	}
	if r.Tag != "" && (r.UsedOnly || len(r.Without) > 0) {
		return errors.New("a tag is of the whole disk: it proves nothing of a part")
	}
	if err := validateInUse(r.Source, r.InUse, r.LongestFreeze, r.Tell); err != nil {
		return err
	}
	if err := r.validateDying(); err != nil {
		return err
	}
	if err := r.validateFit(); err != nil {
		return err
	}
	if err := r.validateNewPlace(); err != nil {
		return err
	}
	if err := r.validateLinked(); err != nil {
		return err
	}
	if r.IfSmaller && !r.Replace {
		return errors.New("only an image that takes the place of its source is kept if it is smaller")
	}
	return r.validateTarget()
}

// validateLinked looks at what is to store nothing of its own.
func (r ConvertRequest) validateLinked() error {
	switch {
	case !r.Linked:
		return nil
	case r.Base != r.Source.Path || r.Source.Pool != r.Destination.Pool || r.Source.Snapshot != "":
		return errors.New("a linked image stands on its source, in the same pool: that is its base too")
	case r.RoundTo != 0 || r.Size != 0 || r.Smallest || r.UsedOnly || len(r.Without) > 0 || r.Replace || r.Release || r.Tag != "":
		return errors.New("a linked image is what its source is, which stays as it is")
	}
	return nil
}

// validateTarget looks at what is to be made.
func (r ConvertRequest) validateTarget() error {
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
	}
	return l.Accepts(r.Options)
}

// Target is the format and layout of what is made.
type Target struct {
	Format disk.Format
	Layout disk.Layout // without a name where files are copied as they are whose layout is only read
}

// TargetOf decides what a request makes of a source. That is looked up here, and nowhere else on the way from the request to its plan.
func (r Request) TargetOf(source disk.Description) (t Target, err error) {
	switch r.Kind {
	case Convert:
		if t.Format, err = disk.Lookup(r.As); err == nil {
			t.Layout, err = t.Format.Layout(r.Layout)
		}
	case Copy:
		if t.Format, err = disk.Lookup(source.Format); err == nil && source.Layout != "" {
			t.Layout, _ = t.Format.Layout(source.Layout) // some are only read
		}
	}
	return t, err
}

// CopyRequest copies the files of an image as they are.
type CopyRequest struct {
	Carrying
	Chain  string `json:"chain"`
	Family bool   `json:"family"`
}

func (r CopyRequest) validate() error {
	if err := r.Carrying.validate(); err != nil {
		return err
	}
	switch {
	case r.Source.Snapshot != "":
		return errors.New("a copy is of the whole disk: convert a snapshot")
	case r.Family && r.Chain == ChainAlone:
		return errors.New("what stands on a disk goes along with all that the disk itself stands on")
	case r.Chain != "" && r.Chain != ChainWhole && r.Chain != ChainAlone:
		return fmt.Errorf("a chain is copied %q or %q, not %q", ChainWhole, ChainAlone, r.Chain)
	}
	return nil
}

// ProveRequest reads a whole disk and compares it.
type ProveRequest struct {
	Kind        string `json:"kind"`
	Source      Place  `json:"source"`
	Against     string `json:"against"`
	AgainstDisk *Place `json:"against_disk"`
	Tag         string `json:"tag"`
	Quick       bool   `json:"quick"`
	By          string `json:"by"`
}

func (r ProveRequest) validate() error {
	if err := r.Source.validate(); err != nil {
		return err
	}
	if d := r.AgainstDisk; d != nil {
		if r.Against != "" || r.Tag != "" || r.Quick {
			return errors.New("a disk is compared with another one, with a fingerprint or with a tag")
		}
		return d.validate()
	}
	if r.Against != "" && (r.Tag != "" || r.Quick) {
		return errors.New("a disk is compared with a fingerprint or with a tag, and a quick proof compares no content")
	}
	if r.Tag != "" && r.Tag != TagBeside && path.Ext(r.Tag) != fingerprint.TagExtension {
		return fmt.Errorf("the name of a tag ends in %s", fingerprint.TagExtension)
	}
	if r.Against == "" {
		return nil
	}
	_, err := fingerprint.Parse(r.Against)
	return err
}

// UndoRequest takes back what an ended job did.
type UndoRequest struct {
	Kind string `json:"kind"`
	Job  string `json:"job"`
}

func (r UndoRequest) validate() error {
	if r.Job == "" {
		return errors.New("it names no job that has ended")
	}
	return nil
}
