package plan

import (
	"errors"
	"fmt"
	"slices"
)

// RemoveRequest has a disk go into the holding folder, or a file that belongs to no disk.
type RemoveRequest struct {
	Kind           string `json:"kind"`
	Source         Place  `json:"source"`
	WithoutKnowing bool   `json:"without_knowing"`
}

func (r RemoveRequest) validate() error {
	switch {
	case r.Source.IsDevice():
		return errors.New("a disk of a computer is not removed")
	case r.Source.Snapshot != "":
		return errors.New("a snapshot inside of an image is not removed by itself")
	}
	return r.Source.validate()
}

// Goes tells whether the source is not in its place any more afterwards.
func (r Request) Goes() bool { return r.Release || r.Kind == Remove }

// IsKept tells whether it is kept how far its job is, since that changes something.
func (r Request) IsKept() bool {
	return r.Destination != nil || slices.Contains([]string{Remove, RemoveMachine, HandDisk}, r.Kind) || IsStaying(r.Kind)
}

// remove plans to have a disk go.
func (p *maker) remove() {
	s := p.facts.Source
	p.BytesToRead = 0
	if s.ReadOnly {
		p.add(Blocks, "source", "The pool is read only: nothing is moved there.")
	}
	if len(s.Standing) > 0 {
		p.add(
			Blocks,
			"standing",
			fmt.Sprintf("%s stand(s) on this disk, and would not open any more: make them stand alone, or remove them first.", some(s.Standing)),
		)
	}
	if len(s.Users) > 0 {
		p.add(Blocks, "machine",
			fmt.Sprintf("The definition of %s names it: take it from the machine first, or remove the machine.", some(userNames(s.Users))))
	}
	if s.Description.Format == "" {
		p.add(Informs, "source", "It opens as no disk, and goes as the file that it is.")
	}
	p.checkKnowledge()
	p.step(StepHold, 0, "Put it into the holding folder, from where it comes back until it is dropped there")
}

// TakeRemovalBack plans to give a disk that was removed its names again.
func TakeRemovalBack(body Disk, undone Undone) Plan {
	body.Undoes = &undone
	p := &maker{Plan: Plan{Version: Version, Request: Request{Kind: Undo, Job: undone.Job}, Checks: []Check{}, Steps: []Step{}}, Disk: body}
	p.Plan.After = []Side{*body.Before}
	p.Bodies = []Disk{p.Disk}
	p.back(StepHold, "Give it its names again", body.Request.Source.Pool, slices.Clone(body.Released)...)
	return p.Plan
}
