package plan

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/machine"
	"bagaglio/core/storage/volumes"
)

// User is a machine that has a disk among its own, by its definition.
type User struct {
	Name       string
	Pool, Path string   // of its definition
	Format     string   // of its definition
	Folder     string   // that the definition lies in, on its host
	Files      []string // of its disks, as the definition names them
	Sealed     bool     // a file beside the definition holds its checksum
}

// Where is its definition, as Plan.Users has it.
func (u User) Where() string { return u.Pool + ":" + u.Path }

// userNames are the names of machines, each once.
func userNames(users []User) (names []string) {
	for _, u := range users {
		if !slices.Contains(names, u.Name) {
			names = append(names, u.Name)
		}
	}
	return names
}

// Handover is a definition of a machine that names a disk in its new place from then on.
type Handover struct {
	Machine string `json:"machine"`
	Pool    string `json:"pool"` // of the definition
	Path    string `json:"path"` // likewise
	// Names are the new names of files, by those that the definition has.
	Names map[string]string `json:"names"`
	// Format is that of the disk, when it becomes another one.
	Format string `json:"format,omitempty"`
	// To is where the definition goes, when it does, and Whole are its names as they are seen from anywhere, by the old ones.
	To    *Place            `json:"to,omitempty"`
	Whole map[string]string `json:"whole,omitempty"`
}

// Change is what changes in the definition.
func (h Handover) Change() machine.Change { return machine.Change{Names: h.Names, Format: h.Format} }

// handOver says of each machine that uses the disk how its definition follows, or why it does not.
func (p *maker) handOver() {
	to := p.newPlaces()
	for _, u := range p.facts.Source.Users {
		p.Users = append(p.Users, u.Where())
		about := fmt.Sprintf("The definition of %s (%s:%s)", u.Name, u.Pool, u.Path)
		h := Handover{Machine: u.Name, Pool: u.Pool, Path: u.Path, Names: u.names(to, u.Folder)}
		if p.Disk.After.Format != p.Disk.Before.Format {
			h.Format = p.Disk.After.Format
		}
		if len(h.Names) == 0 && to != nil { // it names something that stands on the disk, and stays
			continue
		}
		if why := p.whyNot(u, h, to == nil); why != nil {
			var remedies []Remedy
			if p.Disk.Request.LeaveDefinitions {
				remedies = append(remedies, remedy("Change the definition", map[string]any{"leave_definitions": nil}))
			}
			p.add(Warns, "machine", fmt.Sprintf("%s names this disk where it is now: %v.", about, why), remedies...)
			continue
		}
		does := " will name the disk in its new place"
		if p.takesAlong(u, &h, to) {
			does += " and go along into the pool " + h.To.Pool
		}
		p.add(Informs, "machine", about+does+"; the old definition is held for a while.",
			remedy("Leave the definition as it is", map[string]any{"leave_definitions": true}))
		p.Handovers = append(p.Handovers, h)
	}
	if len(p.Handovers) > 0 {
		var names []string
		for _, h := range p.Handovers {
			names = append(names, h.Machine)
		}
		p.step(StepHandOver, 0, "Name the new place in the definition of "+strings.Join(slices.Compact(names), ", "))
		p.Steps[len(p.Steps)-1].Machines = slices.Compact(names)
	}
}

// takesAlong has a definition go with the disk, where that is asked for and possible.
func (p *maker) takesAlong(u User, h *Handover, to map[string]string) bool {
	r := p.Disk.Request
	f, err := machine.Lookup(u.Format)
	if !r.TakeDefinitions || u.Pool != r.Source.Pool || u.Pool == r.Destination.Pool || u.Sealed || err != nil {
		return false
	}
	folder := path.Dir(p.facts.Destination.Root.Path(u.Path))
	names, whole := u.names(to, folder), map[string]string{}
	for _, old := range u.Files {
		at := path.Clean(old)
		if !path.IsAbs(old) {
			at = path.Join(u.Folder, old)
		}
		if whole[old] = at; names[old] != "" {
			at = names[old]
		}
		if f.Why(at, h.Format) != nil {
			return false
		}
	}
	h.Names, h.Whole, h.To = names, whole, &Place{Pool: r.Destination.Pool, Path: u.Path}
	return true
}

// newPlaces are the new places of files by their old ones, whole, on the host; nil when that is another host.
func (p *maker) newPlaces() map[string]string {
	s, root := p.facts.Source, p.facts.Destination.Root
	if root == (volumes.Ground{}) {
		return nil
	}
	to := map[string]string{}
	becomes := func(from, now string) {
		for _, at := range s.Root.Paths(from) {
			to[at] = root.Path(now)
		}
	}
	becomes(s.Opens, p.Disk.After.Place.Path)
	becomes(p.Disk.Before.Place.Path, p.Disk.After.Place.Path)
	for _, c := range p.Copied {
		becomes(c.From, path.Join(p.Root, c.To))
	}
	return to
}

// names are those that change in a definition which will lie in a folder: relative where they were, and may be so.
func (u User) names(to map[string]string, folder string) map[string]string {
	names := map[string]string{}
	for _, old := range u.Files {
		whole := old
		if !path.IsAbs(old) {
			whole = path.Join(u.Folder, old)
		}
		now, ok := to[path.Clean(whole)]
		if !ok || now == path.Clean(whole) {
			continue
		}
		if rest, inside := strings.CutPrefix(now, strings.TrimSuffix(folder, "/")+"/"); inside && !path.IsAbs(old) {
			now = rest
		}
		names[old] = now
	}
	return names
}

// whyNot says why a definition is not changed; nil when it is.
func (p *maker) whyNot(u User, h Handover, away bool) error {
	if away {
		return errors.New("the disk will be on another host, and the machine has to go there too")
	}
	write := fmt.Sprintf("write %s there before it is started again", p.facts.Destination.Root.Path(p.Disk.After.Place.Path))
	if p.Disk.Request.LeaveDefinitions {
		return errors.New(write)
	}
	if u.Sealed {
		return errors.New("a file beside it holds its checksum, and would not fit any more; make both anew")
	}
	f, err := machine.Lookup(u.Format)
	if err != nil {
		return err
	}
	for _, to := range h.Names {
		if why := f.Why(to, h.Format); why != nil {
			return fmt.Errorf("%w: take the machine to another format of definition, or leave the disk where it fits", why)
		}
	}
	return nil
}
