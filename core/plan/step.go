package plan

import (
	"encoding/json"
	"slices"

	"bagaglio/core/adapt"
	"bagaglio/core/fit"
)

// Step is a part of the work.
type Step struct {
	ID    string   `json:"id"` // unlike that of any other in the plan: disk1.fill
	Kind  string   `json:"kind"`
	Title string   `json:"title"`
	After []string `json:"after,omitempty"` // IDs of steps that are done before
	Uses  []Use    `json:"uses,omitempty"`  // files that it reads or writes
	// Machines are those whose definitions it changes.
	Machines []string `json:"machines,omitempty"`
	Host     string   `json:"host,omitempty"` // that it works on
	Bytes    int64    `json:"bytes"`          // that go through it; 0 when it is no matter of bytes
	Back     bool     `json:"back,omitempty"` // what a step of this kind did is taken back
	// Forward tells that nothing is taken back any more once it began: there is only forward.
	Forward bool `json:"forward,omitempty"`
	// Seconds is an estimate by earlier jobs, 0 when there were none.
	Seconds float64 `json:"seconds,omitempty"`
}

// Kinds of steps of a disk, in their order.
const (
	StepLook    = "look"    // open the source, and check its tables
	StepFill    = "fill"    // write the new image into the staging folder
	StepSalvage = "salvage" // read what can be read of a disk that fails
	StepFit     = "fit"     // make filesystems fit to a new size, on copies
	StepLink    = "link"    // in the place of all from filling to proving: an image that stands on the source and stores nothing
	StepSecure  = "secure"  // have it on stable storage
	StepProve   = "prove"   // read it back and compare
	StepVerify  = "verify"  // compare a disk with what is known of it
	StepOther   = "other"   // read another disk that it is compared with
	StepSums    = "sums"    // of a disk in pieces: checksums of each
	StepAdapt   = "adapt"   // change files on the proven copy, so that its guest starts in its new place
	StepPublish = "publish" // give it its name
	// In the place of all from StepFill on, for a disk of a computer that is written over.
	StepSave      = "save"      // what its first and last MiB held
	StepWipe      = "wipe"      // what the image does not reach
	StepOverwrite = "overwrite" // with the content of the image
	StepReadBack  = "read-back" // from it, and compare
	StepTable     = "table"     // move the second copy of its partition table to its end
	StepRename    = "rename"    // in the place of all that, for a disk that stays on its storage
	// Only for a disk of a machine that moves: see that nothing was written to the source since it was read.
	StepStill = "still" // before the machine is known in its new place
	StepPart  = "part"  // before its old host forgets it
	// Alone, for a disk that goes.
	StepHold = "hold" // put it into the holding folder
	// Only for a disk that moves.
	StepHandOver = "hand-over" // have definitions of machines name the new place
	StepRelease  = "release"   // hold the source
)

// Use is a file of a pool that a plan reads or writes.
type Use struct {
	Pool   string `json:"pool"`
	Path   string `json:"path"`
	Writes bool   `json:"writes"`
	ID     string `json:"id,omitempty"` // of a file of the source, as it was then
}

// Disk is what was decided for one disk: all of its steps have this as their body.
type Disk struct {
	ID      string  `json:"id"` // with which the IDs of its steps begin
	Request Request `json:"request"`
	Before  *Side   `json:"before,omitempty"`
	After   *Side   `json:"after,omitempty"`
	// Fit is where partitions lie on a disk that gets another size; nil where it keeps its own.
	Fit *fit.Layout `json:"fit,omitempty"`
	// Adapt is what is changed so that its guest starts in its new place; nil where nothing is.
	Adapt *adapt.Changes `json:"adapt,omitempty"`
	// Device is the identity of the disk of a computer that is written over, empty for any other work.
	Device string `json:"device,omitempty"`
	// Copied are the files that are copied as they are, what opens the image last, into the folder Root of the destination.
	Copied []Copied `json:"copied,omitempty"`
	Root   string   `json:"root,omitempty"`
	Own    []string `json:"own,omitempty"` // those of them that are of the image itself, by their old names
	// Family are the disks that come along.
	Family []Kin `json:"family,omitempty"`
	// Rewrites are the copied files, by their new names, in which names of others are changed to the new ones, and their formats.
	Rewrites map[string]string `json:"rewrites,omitempty"`
	// KnownSums tells that the pieces of the source are compared with the checksums beside them: there is no tag.
	KnownSums bool `json:"known_sums,omitempty"`
	// Sums tells that the host of the destination takes the SHA-256 of each file, in the place of reading them back.
	Sums bool `json:"sums,omitempty"`
	// Renames tells that the files get new names, and nothing is copied.
	Renames bool `json:"renames,omitempty"`
	// Released are the files of the source that are held at the end, what opens it first.
	Released []string `json:"released,omitempty"`
	// Handovers are the definitions of machines that name the disk in its new place from then on.
	Handovers []Handover `json:"handovers,omitempty"`
	// Users are the definitions of machines that name the disk, as pool:path.
	Users []string `json:"users,omitempty"`
	// Displaced are files of a disk that is replaced which the new one does not have: they are held with it.
	Displaced []string `json:"displaced,omitempty"`
	// Owner and Mode are what the rules of the destination's pool ask for.
	Owner string `json:"owner,omitempty"`
	Mode  string `json:"mode,omitempty"`
	// KeepsOwner tells that the new files get the owner of the source's.
	KeepsOwner bool `json:"keeps_owner,omitempty"`
	// Files are those of the new image, the one that makes it openable last.
	Files []string `json:"files,omitempty"`
	// Doubted is what is known against the content of this disk, where the plan has several.
	Doubted []string `json:"doubted,omitempty"`
	// Called is what people call the disk and those that come along, by their paths, where no tag says so.
	Called map[string]Called `json:"called,omitempty"`
	// Undoes is what is taken back; nil for any other work.
	Undoes *Undone `json:"undoes,omitempty"`
}

// IsFolder tells that it is no disk, but a folder that is carried as a whole.
func (d Disk) IsFolder() bool { return d.Request.Source.IsFolder() }

// Called is what people call a disk, and what they note on it.
type Called struct {
	Name string `json:"name,omitempty"`
	Note string `json:"note,omitempty"`
}

// Undone is an ended job whose work is taken back.
type Undone struct {
	Job     string          `json:"job"`
	Task    string          `json:"task"` // under which it held and staged files
	Journal json.RawMessage `json:"journal"`
	Files   []string        `json:"files"` // of the image that it made, which go to the holding folder
}

// FirstDisk is the ID of the first disk of a plan, and of the only one of most.
const FirstDisk = "disk1"

// TaskID is that of the work on a disk of a task: what is staged and held for it goes by that.
func TaskID(task, disk string) string {
	if disk == FirstDisk {
		return task
	}
	return task + "-" + disk
}

// step adds a step behind those that there are.
func (p *maker) step(kind string, bytes int64, title string) {
	p.follow(Step{ID: FirstDisk + "." + kind, Kind: kind, Title: title, Bytes: bytes})
}

// use notes files.
func (p *maker) use(pool string, writes bool, files ...string) {
	for _, file := range files {
		p.uses = append(p.uses, Use{Pool: pool, Path: file, Writes: writes})
	}
}

// isUsedIn tells whether a kind of step uses a file.
func (p *maker) isUsedIn(kind string, u Use) bool {
	released := p.isReleased(u)
	switch kind {
	case StepLook:
		return !u.Writes || released
	case StepPublish:
		return u.Writes && !released
	case StepRename, StepOverwrite, StepHold:
		return true
	case StepSave, StepWipe, StepReadBack, StepTable:
		return u.Writes
	case StepRelease:
		return released
	case StepHandOver, StepSecure:
		return false
	}
	return !u.Writes
}

// isReleased tells whether a file is one of the source that goes away.
func (p *maker) isReleased(u Use) bool {
	return u.Pool == p.Disk.Request.Source.Pool && slices.Contains(p.Released, u.Path)
}

// hostOf is the host that a kind of step works on.
func (p *maker) hostOf(kind string) string {
	if kind == StepLook || kind == StepRelease || kind == StepHold || p.facts.Destination.Host == "" {
		return p.facts.Source.Host
	}
	return p.facts.Destination.Host
}

// Carried is the request by which its disk is carried, or was by the job that is undone.
func (p Plan) Carried() Request {
	if len(p.Bodies) > 0 {
		return p.Bodies[0].Request
	}
	return p.Request
}

// Pools are those that its disks lie in and go to, each once.
func (p Plan) Pools() (pools []string) {
	for _, d := range p.Bodies {
		pools = append(pools, d.Request.Source.Pool)
		if d.Request.Destination != nil {
			pools = append(pools, d.Request.Destination.Pool)
		}
	}
	slices.Sort(pools)
	return slices.Compact(pools)
}

// Uses are the files that the plan reads or writes, each once.
func (p Plan) Uses() (uses []Use) {
	for _, s := range p.Steps {
		for _, u := range s.Uses {
			i := slices.IndexFunc(uses, func(o Use) bool { return o.Pool == u.Pool && o.Path == u.Path })
			if i < 0 {
				uses = append(uses, u)
				continue
			}
			uses[i].Writes = uses[i].Writes || u.Writes
		}
	}
	return uses
}
