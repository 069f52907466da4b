// Package plan computes what a request would do before anything is touched. It is pure: it gets facts and reads or
// writes nothing.
package plan

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	"bagaglio/core/fit"
	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// Kinds of request.
const (
	Convert = "convert" // make an image of another format or layout
	Copy    = "copy"    // copy the files of an image as they are
	Prove   = "prove"   // read a whole disk and compare it
	Undo    = "undo"    // take back what an ended job did
	// WriteBack writes an image onto a disk of a computer, over what is on it.
	WriteBack = "write-back"
	// Remove has a disk, or a file that belongs to none, go into the holding folder.
	Remove = "remove"
)

// Place says where the image of a disk lies.
type Place struct {
	Pool   string `json:"pool"` // empty for a path outside of all pools
	Path   string `json:"path"`
	Format string `json:"format,omitempty"` // of the content, when it is not to be recognised
	// Snapshot is one that is kept inside of the image, when not its present state is meant.
	Snapshot string `json:"snapshot,omitempty"`
	// ByGeometry takes the virtual size by the geometry, in a format that has both, when it is less.
	ByGeometry bool `json:"by_geometry,omitempty"`
	// Unpacks tells that the file is compressed in a package, by gzip, and how many bytes it holds at most; 0 for any other.
	Unpacks int64 `json:"unpacks,omitempty"`
}

// plain is the path as it would be called if it were not compressed.
func (p Place) plain() string {
	if ext := path.Ext(p.Path); p.Unpacks > 0 && strings.EqualFold(ext, ".gz") {
		return strings.TrimSuffix(p.Path, ext)
	}
	return p.Path
}

// Base is what an image in that place is called, without extension.
func (p Place) Base() string {
	name := path.Base(p.plain())
	return strings.TrimSuffix(name, path.Ext(name))
}

// Origin is the place in its pool's folder, to be opened.
func (p Place) Origin(folder storage.Folder) disk.Origin {
	return disk.Origin{Folder: folder, Name: p.Path, Snapshot: p.Snapshot, ByGeometry: p.ByGeometry}
}

// IsFolder tells that no disk lies there, but a folder, as the root volume of a container is.
func (p Place) IsFolder() bool { return p.Format == machine.Folder }

func (p Place) String() string {
	s := p.Path
	switch {
	case p.IsDevice():
		s = strings.TrimPrefix(p.Pool, ":") + "/" + s
	case p.Pool != "":
		s = p.Pool + ":" + s
	}
	if p.Snapshot != "" {
		s = fmt.Sprintf("%s (snapshot %s)", s, p.Snapshot)
	}
	return s
}

// TagBeside asks for the tag that lies beside a disk.
const TagBeside = "beside"

// Severity tells what a check does to the plan.
type Severity string

// The severities of checks.
const (
	Blocks  Severity = "blocks"
	Warns   Severity = "warns"
	Informs Severity = "informs"
)

// Check is one thing that was looked at.
type Check struct {
	Name     string   `json:"name"`
	Severity Severity `json:"severity"`
	Message  string   `json:"message"`
	Remedies []Remedy `json:"remedies,omitempty"`
}

// Remedy is a change to the request that would settle a check.
type Remedy struct {
	Label string `json:"label"`
	// Change is a JSON Merge Patch (RFC 7396) of the request.
	Change json.RawMessage `json:"change"`
}

// Side is a disk as it is before, or would be after. Sizes are in bytes.
type Side struct {
	Place         Place  `json:"place"`
	Format        string `json:"format"`
	Layout        string `json:"layout"`
	VirtualSize   int64  `json:"virtual_size"`
	AllocatedSize int64  `json:"allocated_size"`
	FileSize      int64  `json:"file_size"`
}

// Version is that of the form in which plans are kept.
const Version = 2

// Plan is what a request would do.
type Plan struct {
	Version int     `json:"version,omitempty"` // of its form
	Request Request `json:"request"`
	Steps   []Step  `json:"steps"`
	Before  []Side  `json:"before,omitempty"`
	After   []Side  `json:"after,omitempty"`
	Checks  []Check `json:"checks"`
	// Fit is where partitions go on a disk that gets another size, where the plan is of one disk.
	Fit *fit.Layout `json:"fit,omitempty"`
	// Adapt is what is changed on copies of disks so that their guests start in their new place.
	Adapt []Adapting `json:"adapt,omitempty"`
	// Doubts are what is known against the content of the source, in sentences: they stand in the receipt and in the new tag.
	Doubts []string `json:"doubts,omitempty"`
	// KnownAt is as of when it is known what stands on the disk and which machines use it, where that matters.
	KnownAt          *time.Time `json:"known_at,omitempty"`
	BytesToRead      int64      `json:"bytes_to_read"`
	BytesToWrite     int64      `json:"bytes_to_write"`
	EstimatedSeconds float64    `json:"estimated_seconds"`
	// Bodies are what was decided, by disk. Nothing of it is looked up again when the steps run.
	Bodies []Disk `json:"bodies,omitempty"`
	// Together tells that all disks are carried or none: where one cannot be, those that have their names already go back.
	Together bool `json:"together,omitempty"`
	// Machine is what was decided for the machine that is carried, nil where only disks are.
	Machine *Machine `json:"machine,omitempty"`
	// Packed is what was decided for a package, nil where none is made.
	Packed *Packed `json:"packed,omitempty"`
	// Porter does the work, near the storage; empty where the service does it.
	Porter string `json:"porter,omitempty"`
}

// Adapting is what is changed on the copy of a disk.
type Adapting struct {
	Place Place `json:"place"` // of the copy
	adapt.Changes
}

// Body is what was decided for a disk.
func (p Plan) Body(id string) (Disk, error) {
	for _, d := range p.Bodies {
		if d.ID == id {
			return d, nil
		}
	}
	return Disk{}, fmt.Errorf("%w: the plan says nothing of the disk: plan it again", ErrRequest)
}

// Shown is the plan as it is shown to people: without what only its steps need.
func (p Plan) Shown() Plan {
	p.Version, p.Bodies, p.Together, p.Packed = 0, nil, false, nil
	if p.Machine != nil {
		shown := *p.Machine
		if shown.Undoes != nil { // it goes the other way
			shown.Before, shown.After, shown.Differences = shown.After, shown.Before, machine.Compare(shown.After, shown.Before)
			shown.Host, shown.Name, shown.To = shown.To, shown.Before.Name, shown.Host
		}
		shown.Stored, shown.Definition, shown.Rests, shown.Undoes = "", "", "", nil
		shown.Differences = append([]machine.Difference{}, shown.Differences...)
		p.Machine = &shown
	}
	return p
}

// Blocked tells whether a check stands in the way.
func (p Plan) Blocked() bool { return len(p.With(Blocks)) > 0 }

// Incomplete is the name of the check for a source of which a part is missing.
const Incomplete = "incomplete"

// Arriving is the name of the check for a source that is being uploaded.
const Arriving = "arriving"

// Lacks tells whether what stands in the way is that a part of the source is missing.
func (p Plan) Lacks() bool {
	return slices.ContainsFunc(p.Checks, func(c Check) bool { return c.Name == Incomplete && c.Severity == Blocks })
}

// With are the checks of a severity.
func (p Plan) With(s Severity) []Check {
	return slices.DeleteFunc(slices.Clone(p.Checks), func(c Check) bool { return c.Severity != s })
}

// Warned tells whether a check warns.
func (p Plan) Warned() bool { return len(p.With(Warns)) > 0 }

// likelySpeed is taken where nothing was measured yet: bytes a second of a plain disk.
const likelySpeed = 200e6

// Make computes the plan. An error means that the request itself makes no sense.
func Make(r Request, f Facts) (Plan, error) {
	if err := r.Validate(); err != nil {
		return Plan{}, err
	}
	p := &maker{
		facts: f, format: f.Target.Format, layout: f.Target.Layout,
		Plan: Plan{Version: Version, Request: r, Checks: []Check{}, Steps: []Step{}}, Disk: Disk{ID: FirstDisk, Request: r},
	}
	p.make()
	p.finish()
	return p.Plan, nil
}

type maker struct {
	Plan   `json:"-"`
	Disk   `json:"-"`
	facts  Facts
	format disk.Format
	layout disk.Layout
	uses   []Use // files that are read or written
}

// finish puts together what was decided.
func (p *maker) finish() {
	if p.Disk.Before != nil {
		p.Plan.Before = []Side{*p.Disk.Before}
	}
	if p.Disk.After != nil {
		p.Plan.After = []Side{*p.Disk.After}
	}
	for _, u := range p.uses {
		if u.Writes && !p.isReleased(u) {
			p.Files = append(p.Files, u.Path)
		}
	}
	p.Plan.Fit = p.Disk.Fit
	if p.Disk.Adapt != nil {
		p.Plan.Adapt = []Adapting{{Place: p.Disk.After.Place, Changes: *p.Disk.Adapt}}
	}
	p.Bodies = []Disk{p.Disk}
	for i := range p.Steps {
		s := &p.Steps[i]
		s.Uses = slices.DeleteFunc(slices.Clone(p.uses), func(u Use) bool { return !p.isUsedIn(s.Kind, u) })
		s.Host = p.hostOf(s.Kind)
		speed, known := p.facts.Speeds[s.Kind]
		if !known {
			p.EstimatedSeconds += float64(s.Bytes) / likelySpeed
			continue
		}
		s.Seconds = float64(s.Bytes) / speed
		p.EstimatedSeconds += s.Seconds
	}
}

func (p *maker) make() {
	p.checkSource()
	if p.facts.Source.Problem != nil {
		return
	}
	s := p.facts.Source
	p.Disk.Before = &Side{
		Place: p.Disk.Request.Source, Format: s.Description.Format, Layout: s.Description.Layout,
		VirtualSize: s.Description.VirtualSize, AllocatedSize: s.Allocated, FileSize: s.FileSize,
	}
	if slices.Contains(s.Description.Files, s.Opens) { // of pieces, the first
		p.Disk.Before.Place.Path = s.Opens
	}
	if p.Disk.Request.Goes() { // what opens it first
		p.Released = slices.DeleteFunc(slices.Clone(s.Description.Files), func(f string) bool { return f == s.Opens })
		if len(p.Released) < len(s.Description.Files) {
			p.Released = append([]string{s.Opens}, p.Released...)
		}
		if p.Disk.Request.Kind == Copy && p.Disk.Request.Chain != ChainAlone {
			p.Released = slices.Concat(s.FamilyFiles(), p.Released, s.Description.Chain, s.Tags)
		}
		p.Released = slices.DeleteFunc(p.Released, func(f string) bool { return f != s.Opens && slices.Contains(s.Stays, f) })
	}
	for _, f := range slices.Concat(s.Description.Files, s.Description.Chain, s.FamilyFiles()) {
		p.use(p.Disk.Request.Source.Pool, slices.Contains(p.Released, f), f)
	}
	p.BytesToRead = s.Allocated
	switch p.Disk.Request.Kind {
	case Convert:
		p.convert()
	case Copy:
		p.planCopy()
	case WriteBack:
		p.writeBack()
	case Remove:
		p.remove()
	default:
		p.step(StepLook, 0, "Open the disk and check its tables")
		p.otherDisk()
		if p.Disk.Request.Quick {
			p.BytesToRead = 0
			p.step(StepVerify, 0, "Compare tables, names and lengths with what its tag says")
		} else {
			p.step(StepVerify, s.Allocated, "Read all of it from storage and take its fingerprint")
			if o := p.facts.Other; o != nil && o.Problem == nil {
				p.step(StepOther, o.Allocated, "Read the other disk too, and compare")
			}
		}
	}
}

// Opens is the name that opens an image which is asked for under a name: that of its first piece, or of its folder.
func Opens(l disk.Layout, name string, size int64, o disk.Options) string {
	files := l.FileNames(name, size, o)
	last := files[len(files)-1]
	if strings.HasPrefix(last, name+"/") {
		return name
	}
	return last
}

// link plans an image that stands on its source and stores nothing of its own.
func (p *maker) link() {
	p.BytesToRead, p.BytesToWrite, p.Disk.After.AllocatedSize = 0, 0, 0
	p.Disk.After.FileSize = p.layout.FileSize(p.Disk.After.VirtualSize, p.Disk.Request.Options, disk.Stored{})
	p.step(StepLink, 0, "Make an image in the pool's staging folder that stands on it and stores nothing of its own")
	p.step(StepPublish, 0, "Give it its name")
	p.checkTarget()
	p.checkBase()
	p.checkDestination()
}

func (p *maker) convert() {
	o, stored := p.Disk.Request.Options, p.facts.Destination.Stored
	size := p.layout.RoundUp(p.size(), o, p.Disk.Request.RoundTo)
	p.Disk.After = &Side{
		Place: *p.Disk.Request.Destination, Format: p.format.Name, Layout: p.layout.Name,
		VirtualSize: size, AllocatedSize: p.layout.StoredSize(size, o, stored), FileSize: p.layout.FileSize(size, o, stored),
	}
	p.use(p.Disk.After.Place.Pool, true, p.layout.FileNames(p.Disk.After.Place.Path, size, o)...)
	if b := p.facts.Destination.Base; b != nil {
		p.use(p.Disk.After.Place.Pool, false, b.Description.Files...)
		p.use(p.Disk.After.Place.Pool, false, b.Description.Chain...)
	}
	p.Disk.After.Place.Path = Opens(p.layout, p.Disk.After.Place.Path, size, o)
	p.BytesToWrite = p.Disk.Before.AllocatedSize
	p.step(StepLook, 0, "Open the source and check its tables")
	if p.Disk.Request.Linked {
		p.link()
		return
	}
	p.salvages()
	p.fits()
	p.step(StepFill, p.Disk.Before.AllocatedSize, "Write the new image into the pool's staging folder, taking the fingerprint on the way")
	p.step(StepSecure, 0, "Sync it to stable storage")
	if s := p.facts.Source; s.Sums && s.Tag == nil && !p.layout.Gathers {
		p.KnownSums = true
		p.step(StepSums, s.FileSize, "Compare the SHA-256 of each piece of the source with the one beside it")
	}
	back := p.Disk.Before.AllocatedSize
	if p.layout.Units(size, o)[0] > 1 { // whole blocks are read, what the source does not fill of them too
		back = p.Disk.After.AllocatedSize
	}
	p.prove(back, "Read it back from storage and compare the fingerprints")
	p.adapts()
	if p.layout.Gathers {
		p.step(StepSums, size, "Take the SHA-256 of each piece")
	}
	p.step(StepPublish, 0, "Give it its name")
	p.checkTag()
	p.checkTarget()
	p.checkBase()
	p.checkDestination()
}
