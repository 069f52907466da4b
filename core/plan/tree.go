package plan

import (
	"errors"
	"fmt"
	"path"

	"bagaglio/core/machine"
	"bagaglio/core/storage"
)

// TreeFacts are what is known of a folder that is carried as a whole, as the root volume of a container. Sizes are in bytes.
type TreeFacts struct {
	Tree         storage.Tree
	Problem      error // why it cannot be looked through
	Space        storage.Space
	Exists       bool  // something lies in its new place
	Obstructed   error // why that cannot be looked at
	Takes        bool  // the storage there makes folders with all that a filesystem keeps
	Gives        bool  // whoever runs the service may give files to others, as far as is known
	Source, Host string
	Knowledge    Knowledge
	Speeds       map[string]float64
}

// ForTree makes the plan to carry a folder as a whole.
func ForTree(r Request, f TreeFacts) Plan {
	p := &maker{
		facts: Facts{Source: SourceFacts{Host: f.Source}, Destination: DestinationFacts{Host: f.Host}, Knowledge: f.Knowledge, Speeds: f.Speeds},
		Plan:  Plan{Version: Version, Request: r, Checks: []Check{}, Steps: []Step{}}, Disk: Disk{ID: FirstDisk, Request: r},
	}
	if f.Problem != nil {
		instead := "put it into an image with one filesystem (mkfs.ext4 -d), and have the container start from that"
		if !errors.Is(f.Problem, errors.ErrUnsupported) {
			instead = "the service, or the login at its host, has to be able to read all of it"
		}
		p.add(Blocks, "folder", fmt.Sprintf("The folder %s cannot be carried: %v; %s.", r.Source, f.Problem, instead))
		return p.Plan
	}
	side := Side{
		Place: r.Source, Format: machine.Folder, Layout: machine.Folder,
		VirtualSize: f.Tree.Size, AllocatedSize: f.Tree.Room, FileSize: f.Tree.Size,
	}
	after := side
	after.Place = *r.Destination
	p.Disk.Before, p.Disk.After, p.Root = &side, &after, path.Dir(after.Place.Path)
	p.BytesToRead, p.BytesToWrite = f.Tree.Size, f.Tree.Size
	if r.Release {
		p.Released = []string{r.Source.Path}
	}
	p.use(r.Source.Pool, r.Release, r.Source.Path)
	p.use(after.Place.Pool, true, after.Place.Path)
	p.step(StepFill, f.Tree.Size, "Make the folder anew in the pool's staging folder, with all that its filesystem keeps of it, and sync it")
	p.step(StepProve, f.Tree.Size, "Read it back from storage and compare each name, owner, right, time, link, attribute and content")
	p.step(StepPublish, 0, "Give it its name")
	if r.Release {
		p.step(StepRelease, 0, "Hold the old folder for a while, out of the way")
	}
	p.checkTree(f)
	p.checkKnowledge()
	p.finish()
	return p.Plan
}

// checkTree: what stands in the way of a folder.
func (p *maker) checkTree(f TreeFacts) {
	to := p.Disk.After.Place
	switch {
	case len(f.Tree.Mounts) > 0:
		p.add(
			Blocks,
			"folder",
			fmt.Sprintf("Other filesystems are mounted in the folder, and would be left out: unmount %s.", some(f.Tree.Mounts)),
		)
	case f.Obstructed != nil:
		p.add(Blocks, "destination", fmt.Sprintf("The destination cannot be used: %v.", f.Obstructed))
	case !f.Takes:
		p.add(
			Blocks,
			"destination",
			fmt.Sprintf(
				"The storage of %s makes no folders with owners and rights: put the folder into an image (mkfs.ext4 -d), or choose another pool.",
				to.Pool,
			),
		)
	case f.Space.ReadOnly:
		p.add(
			Blocks,
			"destination",
			"The destination is read-only: choose another pool, or make this one writable for the user that runs Bagaglio.",
		)
	case f.Exists:
		p.add(Blocks, "destination", fmt.Sprintf("%s exists already, and nothing is overwritten: choose another folder.", to))
	case !f.Gives:
		p.add(Warns, "owner", "Its files may have owners whom the user that runs Bagaglio may give nothing: then the folder cannot be made.")
	}
	if free := f.Space.Free; free != storage.Unknown && f.Tree.Room > free {
		p.add(Blocks, "room", fmt.Sprintf("It needs %s, and %s are free: make room or choose another pool.", Bytes(f.Tree.Room), Bytes(free)))
	}
	if f.Tree.Sockets > 0 {
		p.add(Informs, "folder", fmt.Sprintf("%d sockets in it are not carried: programs make them anew.", f.Tree.Sockets))
	}
	p.add(
		Informs,
		"folder",
		fmt.Sprintf("It has %d files, folders and links, which are carried with owners, rights, times, links and extended attributes.",
			f.Tree.Entries),
	)
}
