// Package plan computes what a request would do before anything is touched. It is pure: it gets facts and reads or
// writes nothing.
package plan

import (
	"encoding/json"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// Kinds of request.
const (
	Convert = "convert" // make an image of another format or layout
	Prove   = "prove"   // read a whole disk and compare it
)

// Place says where the image of a disk lies.
type Place struct {
	Pool   string `json:"pool"` // empty for a path outside of all pools
	Path   string `json:"path"`
	Format string `json:"format,omitempty"` // of the content, when it is not to be recognised
}

func (p Place) String() string {
	if p.Pool == "" {
		return p.Path
	}
	return p.Pool + ":" + p.Path
}

// Request is what somebody wants done.
type Request struct {
	Kind        string `json:"kind"`
	Source      Place  `json:"source"`
	Destination *Place `json:"destination,omitempty"` // to convert
	As          string `json:"as,omitempty"`          // format to convert to
	Layout      string `json:"layout,omitempty"`      // empty for the format's default
	Replace     bool   `json:"replace,omitempty"`     // what lies at the destination
	NoProof     bool   `json:"no_proof,omitempty"`    // leave the reading back out
	Against     string `json:"against,omitempty"`     // a fingerprint to prove the source against
}

// Facts are what the world looks like when the plan is made.
type Facts struct {
	Source      SourceFacts
	Destination DestinationFacts
	// Speed is what reading or writing was last seen to reach, in bytes a second; 0 when nothing is known.
	Speed float64
}

// SourceFacts are what is known of the source. Sizes are in bytes.
type SourceFacts struct {
	Problem     error // why it cannot be opened or is not consistent; then the rest says nothing
	Description disk.Description
	Allocated   int64
	FileSize    int64
	Checked     bool // the format has tables, and they agree with each other
}

// DestinationFacts are what is known of the place to write to.
type DestinationFacts struct {
	Space      storage.Space
	Exists     bool
	SameFile   bool        // the source itself
	Stored     disk.Stored // for the units of all layouts
	OtherName  string      // a name close to the one asked for that is free, when that exists
	Obstructed error       // why its folder cannot be looked at
}

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

// Step is a part of the work.
type Step struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Bytes int64  `json:"bytes"` // that go through it; 0 when it is no matter of bytes
}

// The steps, in their order.
const (
	StepLook   = "look"
	StepWrite  = "write"
	StepSecure = "secure"
	StepProve  = "prove"
	StepPlace  = "place"
)

// Plan is what a request would do.
type Plan struct {
	Request          Request `json:"request"`
	Steps            []Step  `json:"steps"`
	Before           *Side   `json:"before,omitempty"`
	After            *Side   `json:"after,omitempty"`
	Checks           []Check `json:"checks"`
	BytesToRead      int64   `json:"bytes_to_read"`
	BytesToWrite     int64   `json:"bytes_to_write"`
	EstimatedSeconds float64 `json:"estimated_seconds"`
}

// Blocked tells whether a check stands in the way.
func (p Plan) Blocked() bool { return p.count(Blocks) > 0 }

// Warned tells whether a check warns.
func (p Plan) Warned() bool { return p.count(Warns) > 0 }

func (p Plan) count(s Severity) (n int) {
	for _, c := range p.Checks {
		if c.Severity == s {
			n++
		}
	}
	return n
}

// likelySpeed is taken where nothing was measured yet: bytes a second of a plain disk.
const likelySpeed = 200e6

// Make computes the plan. An error means that the request itself makes no sense.
func Make(r Request, f Facts) (Plan, error) {
	if err := r.Validate(); err != nil {
		return Plan{}, err
	}
	p := &maker{facts: f, Plan: Plan{Request: r, Checks: []Check{}, Steps: []Step{}}}
	if err := p.make(); err != nil {
		return Plan{}, err
	}
	return p.Plan, nil
}

type maker struct {
	Plan
	facts  Facts
	format disk.Format
	layout disk.Layout
}

func (p *maker) make() error {
	if p.Request.Kind == Convert {
		var err error
		if p.format, err = disk.Lookup(p.Request.As); err != nil {
			return err
		}
		if p.layout, err = p.format.Layout(p.Request.Layout); err != nil {
			return err
		}
	}
	p.checkSource()
	if p.facts.Source.Problem != nil {
		return nil
	}
	s := p.facts.Source
	p.Before = &Side{
		Place: p.Request.Source, Format: s.Description.Format, Layout: s.Description.Layout,
		VirtualSize: s.Description.VirtualSize, AllocatedSize: s.Allocated, FileSize: s.FileSize,
	}
	p.BytesToRead = s.Allocated
	if p.Request.Kind == Convert {
		p.convert()
	} else {
		p.Steps = []Step{{StepLook, "Open the disk and check its tables", 0}, {StepProve, "Read all of it from storage and take its fingerprint", s.Allocated}}
	}
	speed := p.facts.Speed
	if speed <= 0 {
		speed = likelySpeed
	}
	for _, step := range p.Steps {
		p.EstimatedSeconds += float64(step.Bytes) / speed
	}
	return nil
}

func (p *maker) convert() {
	size, stored := p.layout.RoundUp(p.Before.VirtualSize), p.facts.Destination.Stored
	p.After = &Side{
		Place: *p.Request.Destination, Format: p.format.Name, Layout: p.layout.Name,
		VirtualSize: size, AllocatedSize: p.layout.StoredSize(stored), FileSize: p.layout.FileSize(size, stored),
	}
	if p.layout.Thick {
		p.After.AllocatedSize = size
	}
	p.BytesToWrite = p.Before.AllocatedSize
	p.Steps = []Step{
		{StepLook, "Open the source and check its tables", 0},
		{StepWrite, "Write the new image into the pool's staging folder, taking the fingerprint on the way", p.Before.AllocatedSize},
		{StepSecure, "Sync it to stable storage", 0},
	}
	if !p.Request.NoProof {
		back := p.Before.AllocatedSize
		if p.layout.Units[0] > 1 { // whole blocks are read, what the source does not fill of them too
			back = p.After.AllocatedSize
		}
		p.BytesToRead += back
		p.Steps = append(p.Steps, Step{StepProve, "Read it back from storage and compare the fingerprints", back})
	}
	p.Steps = append(p.Steps, Step{StepPlace, "Give it its name", 0})
	p.checkTarget()
	p.checkDestination()
}
