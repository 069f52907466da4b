package plan

import (
	"fmt"
	"slices"
	"time"
)

// UndoFacts are what is known of an ended job and of what it left.
type UndoFacts struct {
	Body     Disk      // of its plan
	Undone   Undone    // of it
	Finished time.Time // when it ended

	Published bool     // it gave the new image its name
	Changed   []string // files of the image that are gone, or are other ones than it made
	Written   []string // files of the image that were written to since
	Touched   []string // files of which something was changed since, which may be their names or owners only
	InUse     error    // another program uses the image, in words
	Standing  []string // disks that stand on the image
	Users     []User   // machines that name the image, but those whose definitions are changed back
	Lost      []string // files of the source that are neither held nor in their places
	Taken     []string // names of the source that something else has now
	Replaced  bool     // what the image replaced is held, and comes back
	Expired   bool     // or it was replaced, and is not held any more
	Knowledge Knowledge
}

// TakeBack plans to take back what an ended job did: the source comes back, the image that it made goes to the holding folder, and
// definitions of machines name the old place again.
func TakeBack(f UndoFacts) Plan {
	d := f.Body
	d.Undoes = &f.Undone
	p := &maker{Plan: Plan{Version: Version, Request: Request{Kind: Undo, Job: f.Undone.Job}, Checks: []Check{}, Steps: []Step{}}, Disk: d}
	p.Plan.Before = []Side{*d.After}
	if len(d.Released) > 0 { // otherwise the source never went
		p.Plan.After = []Side{*d.Before}
	}
	p.Bodies = []Disk{p.Disk}
	p.Checks = append(p.Checks, f.Knowledge.Checks(p.Plan.Request)...)
	p.checkUndo(f)
	from, to := d.Request.Source.Pool, d.Request.Destination.Pool
	if len(d.Released) > 0 {
		p.back(StepRelease, "Give the source its names again", from, d.Released...)
	}
	if len(d.Handovers) > 0 {
		p.back(StepHandOver, "Name the old place in the definitions again", "")
	}
	title := "Hold the image that the job made, out of the way"
	if f.Replaced {
		title += ", and give what it replaced its name again"
	}
	p.back(StepPublish, title, to, f.Undone.Files...)
	return p.Plan
}

// back adds a step that takes back what one of its kind did.
func (p *maker) back(kind, title, pool string, files ...string) {
	p.step(kind, 0, title)
	s := &p.Steps[len(p.Steps)-1]
	s.ID, s.Back = s.ID+".back", true
	for _, f := range files {
		s.Uses = append(s.Uses, Use{Pool: pool, Path: f, Writes: true})
	}
}

// NotWhatItMade is the check for files that a job made, or gave their names, and that others have the names of by now.
func NotWhatItMade(files []string) Check {
	return Check{"undo", Blocks, fmt.Sprintf("The image is not what the job made any more: moved, removed or replaced since are %s. "+
		"What is held of the source can be restored by itself.", some(files)), nil}
}

// checkUndo: whether the work can be taken back, and what is lost by that.
func (p *maker) checkUndo(f UndoFacts) {
	if !f.Published {
		p.add(Blocks, "undo", "The job put nothing in its place: there is nothing to take back.")
		return
	}
	if len(f.Changed) > 0 {
		p.Checks = append(p.Checks, NotWhatItMade(f.Changed))
	}
	if len(f.Lost) > 0 {
		p.add(
			Blocks,
			"undo",
			fmt.Sprintf(
				"%s is neither held nor in its place any more: the source cannot come back. Move or copy the image there instead.",
				some(f.Lost),
			),
		)
	}
	if len(f.Taken) > 0 {
		p.add(Blocks, "undo", fmt.Sprintf("%s is there now, and nothing is overwritten: move it away first.", some(f.Taken)))
	}
	if f.InUse != nil {
		p.add(Blocks, "in-use", fmt.Sprintf("The image that the job made is in use: %v.", f.InUse))
	}
	if len(f.Standing) > 0 {
		p.add(
			Blocks,
			"undo",
			fmt.Sprintf("%s stand(s) on the image that the job made, and would not open any more: make them stand alone first.", some(f.Standing)),
		)
	}
	if len(f.Users) > 0 {
		p.add(
			Blocks,
			"machine",
			fmt.Sprintf(
				"The definition of %s names the image that the job made, and would not find it any more: change it first.",
				some(userNames(f.Users)),
			),
		)
	}
	if len(f.Lost)+len(f.Taken) == 0 && len(p.Released) > 0 {
		p.add(Informs, "undo", "What is held of the source is all there, and its names are free.")
	}
	if len(f.Touched) > 0 {
		p.add(
			Warns,
			"undo",
			fmt.Sprintf(
				"Something of %s was changed after the job had ended: its name, its owner, or its content with the time put back.",
				some(f.Touched),
			),
		)
	}
	if len(f.Changed)+len(f.Written)+len(f.Touched) == 0 {
		p.add(Informs, "undo", "The image is the one that the job made, and no time on it is later than the end of the job.")
	}
	if f.Expired {
		p.add(Warns, "undo", "What the image replaced is not held any more, and does not come back.")
	}
	if len(f.Written) > 0 {
		p.add(
			Warns,
			"undo",
			fmt.Sprintf(
				"%s was written to after the job had ended at %s, as by a machine that ran: what was written since is not in the source, only in the image, which is held.",
				some(slices.Clone(f.Written)),
				Clock(f.Finished),
			),
		)
	}
}
