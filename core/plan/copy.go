package plan

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
)

// Copied is a file that is copied as it is. To is relative to the root of the plan.
type Copied struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Size  int64  `json:"size"`
	Thick bool   `json:"thick,omitempty"` // it takes all of its room
	// Stays tells that it lies there already under that name: nothing is done to it, but that names in it may change.
	Stays bool `json:"stays,omitempty"`
	// Names are what it names by paths of its computer: relative to it from then on.
	Names map[string]string `json:"names,omitempty"`
}

// FamilyFiles are those of all disks that come along, what opens each first.
func (s SourceFacts) FamilyFiles() (files []string) {
	for _, k := range s.Family {
		files = append(files, k.Files...)
	}
	return files
}

// FileFact is a file of the source. Sizes are in bytes.
type FileFact struct {
	Name       string
	Size, Room int64 // Room may be storage.Unknown
}

// Copies says which files become which when a disk is copied: those of the image get the new name, and those that it stands on keep their
// place beside it. own are the former, by their old names; what opens the image is last. What would go with it and lies there already
// stays: all of it when the disk moves, and what the copy is to stand on when it is copied.
func Copies(r Request, s SourceFacts) (root string, copied []Copied, own []string, err error) {
	main := s.Opens
	own = slices.Clone(s.Description.Files)
	if i := slices.Index(own, main); i >= 0 {
		own = append(slices.Delete(own, i, i+1), main)
	}
	all := own
	if r.Chain != ChainAlone {
		all = slices.Concat(s.Tags, s.Description.Chain, s.FamilyFiles(), own)
	}
	from := path.Dir(main)
	for slices.ContainsFunc(all, func(f string) bool { return !below(from, f) }) {
		from = path.Dir(from) // at last the folder of the pool, in which everything lies
	}
	to := path.Clean(r.Destination.Path)
	root = path.Dir(to)
	if inside := relative(from, path.Dir(main)); inside != "." { // where the image lies below the folder of all
		if root != inside && !strings.HasSuffix(root, "/"+inside) {
			return "", nil, nil, fmt.Errorf(
				"%s and its chain lie in different folders and find each other by their places: the copy has to lie in a folder %s too",
				main,
				inside,
			)
		}
		root = path.Clean("./" + strings.TrimSuffix(root, inside))
	}
	oldBase, newBase := path.Base(main), path.Base(to)
	if ext := path.Ext(
		oldBase,
	); strings.Trim(ext, ".0123456789") == "" && ext != "" &&
		path.Ext(newBase) != ext { // the first of several pieces
		newBase += ext
	}
	for _, name := range all {
		c := Copied{From: name, To: relative(from, name)}
		for _, f := range s.Files {
			if f.Name == name {
				c.Size, c.Thick = f.Size, f.Size > 0 && f.Room >= f.Size
			}
		}
		under := slices.Contains(s.Description.Chain, name) || slices.Contains(s.Tags, name) && !s.ofFamily(name)
		c.Stays = name != main && slices.Contains(s.Stays, name) && (r.Release || under)
		if slices.Contains(own, name) {
			c.To = path.Join(relative(from, path.Dir(main)), renamed(relative(path.Dir(main), name), oldBase, newBase))
		}
		if i := slices.IndexFunc(copied, func(o Copied) bool { return o.To == c.To }); i >= 0 {
			return "", nil, nil, fmt.Errorf("%s and %s would both become %s: choose another name", copied[i].From, c.From, path.Join(root, c.To))
		}
		copied = append(copied, c)
	}
	return root, copied, own, nil
}

// ofFamily tells whether a tag is that of a disk which stands on the source.
func (s SourceFacts) ofFamily(tag string) bool {
	return slices.ContainsFunc(s.Family, func(k Kin) bool { return fingerprint.TagName(k.Path) == tag })
}

// below tells whether a file lies in a folder or below it.
func below(dir, file string) bool { return dir == "." || strings.HasPrefix(file, dir+"/") }

// relative is the name of a file seen from a folder that it lies below.
func relative(dir, file string) string {
	if dir == file {
		return "."
	}
	if dir == "." {
		return file
	}
	return strings.TrimPrefix(file, dir+"/")
}

// renamed is the new name of a file of an image, of which the one that opens it gets a new name.
func renamed(file, oldMain, newMain string) string {
	if file == oldMain+"/"+oldMain { // in a folder that is a disk, the file that is named as it is
		return newMain + "/" + newMain
	}
	if file == oldMain || strings.HasPrefix(file, oldMain+"/") {
		return newMain + strings.TrimPrefix(file, oldMain)
	}
	oldStem := strings.TrimSuffix(oldMain, path.Ext(oldMain))
	if rest, ok := strings.CutPrefix(file, oldStem); ok {
		return strings.TrimSuffix(newMain, path.Ext(newMain)) + rest
	}
	return file
}

// Names are the names of files of an image that change, by their old ones, as the image itself names them.
func (p Disk) Names() map[string]string {
	names := map[string]string{}
	for _, c := range p.Copied {
		if a, b := path.Base(c.From), path.Base(c.To); a != b {
			names[a] = b
		}
	}
	return names
}

// findRewrites says in which files names of others have to be changed: in what opens the image, and in what names it as its base. No other
// file is ever looked at for names, since it may be the content of a guest.
func (p *maker) findRewrites() {
	p.Rewrites = map[string]string{}
	names := p.Names()
	formats := map[string]string{} // by old names
	if len(names) > 0 {
		for _, k := range p.Family {
			if k.Direct {
				formats[k.Path] = k.Format
			}
		}
	}
	delete(names, path.Base(p.facts.Source.Opens))
	if len(names) > 0 {
		formats[p.facts.Source.Opens] = p.format.Name
	}
	for i, c := range p.Copied {
		format := formats[c.From]
		if names := p.namesIn(c); len(names) > 0 {
			p.Copied[i].Names, format = names, p.format.Name
		}
		if f, err := disk.Lookup(format); err == nil && f.Rename != nil {
			p.Rewrites[c.To] = f.Name
		}
	}
}

// namesIn are the paths of their computer by which a file names others that are copied with it, and what they are to be. All images of a chain whose
// bases are named so are of one format.
func (p *maker) namesIn(c Copied) map[string]string {
	names := map[string]string{}
	for _, a := range p.facts.Source.Description.Absolute {
		i := slices.IndexFunc(p.Copied, func(o Copied) bool { return o.From == a.Base })
		if a.File != c.From || i < 0 {
			continue
		}
		if to, err := filepath.Rel(path.Dir(c.To), p.Copied[i].To); err == nil {
			names[a.Name] = filepath.ToSlash(to)
		}
	}
	return names
}

// mostlyHoles is what part of files has to be stored at least for a host to take checksums of them.
const mostlyHoles = 4

// planCopy plans to copy files as they are.
func (p *maker) planCopy() {
	var err error
	if p.Root, p.Copied, p.Own, err = Copies(p.Disk.Request, p.facts.Source); err != nil {
		p.add(Blocks, "chain", capital(err.Error())+".", p.flatten())
		return
	}
	p.Family = p.facts.Source.Family
	p.findRewrites()
	after := *p.Disk.Before
	after.Place, after.FileSize = *p.Disk.Request.Destination, 0
	after.Place.Path = path.Join(p.Root, p.Copied[len(p.Copied)-1].To)
	if i := slices.IndexFunc(p.facts.Source.Description.Files, func(f string) bool { return f == p.facts.Source.Opens }); i < 0 { // a folder
		after.Place.Path = path.Clean(p.Disk.Request.Destination.Path)
	}
	for _, c := range p.Copied {
		if slices.Contains(p.Own, c.From) {
			after.FileSize += c.Size
		}
		if to := path.Join(p.Root, c.To); !c.Stays {
			p.use(after.Place.Pool, true, to)
		} else if _, changes := p.Rewrites[c.To]; changes {
			p.use(after.Place.Pool, true, to)
		}
	}
	p.Disk.After = &after
	p.step(StepLook, 0, "Open the source and check its tables")
	if p.facts.Destination.SameStorage && p.Disk.Request.Release {
		p.Renames, p.BytesToRead = true, 0
		p.step(StepRename, 0, "Give the files their new names: they stay where they are on the storage")
	} else {
		stored := p.facts.Destination.ToCopy
		p.BytesToWrite, p.BytesToRead = stored, stored
		p.step(StepFill, stored, "Copy the files as they are into the pool's staging folder")
		p.step(StepSecure, 0, "Sync them to stable storage")
		// Holes cost nothing to read back, but a host reads them as zeros like everything else.
		p.Sums = p.facts.Destination.Sums && stored >= p.copiedSize()/mostlyHoles && !p.Disk.Request.NoProof
		if p.Sums {
			p.prove(p.copiedSize(), "Have the host take the SHA-256 of each file, and compare it")
		} else {
			p.prove(stored, "Read them back from storage and compare every byte")
		}
		if p.Disk.Before.Format == "raw" && p.Disk.Before.Layout == "pieces" {
			p.step(StepSums, after.FileSize, "Take the SHA-256 of each piece")
		}
		p.step(StepPublish, 0, "Give them their names")
	}
	p.checkTag()
	p.checkCopy()
	p.checkDestination()
}

// copiedSize is the length of all files that are copied.
func (p *maker) copiedSize() (size int64) {
	for _, c := range p.Copied {
		if !c.Stays {
			size += c.Size
		}
	}
	return size
}

// prove adds the proof to the steps.
func (p *maker) prove(bytes int64, title string) {
	if p.Disk.Request.NoProof {
		return
	}
	p.BytesToRead += bytes
	p.step(StepProve, bytes, title)
}

// flatten offers one image with the content of a whole chain.
func (p *maker) flatten() Remedy {
	d := p.facts.Source.Description
	change := map[string]any{"kind": Convert, "as": d.Format, "chain": nil}
	return remedy("Make one image of the whole chain", change)
}

// checkCopy: what holds for files that are copied as they are.
func (p *maker) checkCopy() {
	s := p.facts.Source
	d := s.Description
	if len(d.Snapshots) > 0 {
		p.add(Informs, "snapshot", fmt.Sprintf("%d snapshot(s) kept inside the image are taken along.", len(d.Snapshots)))
	}
	switch {
	case d.Base == "":
	case len(d.Chain) > 0 && slices.Contains(p.facts.Source.Stays, d.Chain[0]):
		p.add(Informs, "chain", fmt.Sprintf("The source stands on %s, which stays where it is.", d.Base), p.flatten())
	case p.Disk.Request.Chain == ChainAlone:
		severity, message := Informs, fmt.Sprintf("The source stands on %s, which lies at the destination already.", d.Base)
		if p.facts.Destination.BaseMissing {
			severity, message = Blocks, fmt.Sprintf(
				"The source stands on %s, and there is no such file at the destination: without it the copy does not open.",
				d.Base,
			)
		}
		p.add(severity, "chain", message, remedy("Copy the whole chain", map[string]any{"chain": nil}), p.flatten())
	default:
		p.add(
			Informs,
			"chain",
			fmt.Sprintf("The source stands on %s: %d file(s) of the whole chain are copied.", d.Base, len(p.Copied)),
			p.flatten(),
		)
	}
	if len(p.Rewrites) > 0 {
		p.add(Informs, "names", "Files get other names, and what names them is changed to the new ones: everything else stays as it is.")
	}
	if n := len(p.Family); n > 0 {
		stay := 0
		for _, k := range p.Family {
			if slices.Contains(p.facts.Source.Stays, k.Path) && p.Disk.Request.Release {
				stay++
			}
		}
		p.add(
			Informs,
			"family",
			fmt.Sprintf(
				"%d disk(s) that stand on it come along%s.",
				n,
				map[bool]string{true: fmt.Sprintf("; %d of them keep their places", stay)}[stay > 0],
			),
		)
	}
	if p.Disk.Request.NoProof {
		p.add(Warns, "proof", "The copy will not be read back: the job ends as unproven.", remedy("Prove it", map[string]any{"no_proof": nil}))
	}
}

// checkRelease: whether the source may go once the copy is proven.
func (p *maker) checkRelease() {
	if !p.Disk.Request.Release {
		return
	}
	stay := remedy("Copy it instead: the source stays", map[string]any{"release": nil})
	s := p.facts.Source
	p.checkLinks()
	switch {
	case s.ReadOnly:
		p.add(Blocks, "release", "The source is read-only: it can be copied, but not moved away.", stay)
	case len(s.Standing) > 0:
		p.Checks = append(p.Checks, StandsOnSource(p.Disk.Request, s.Standing, len(s.Description.Chain) == 0))
	case p.Renames:
		p.add(Informs, "release", "Both places are on one filesystem: nothing is copied.")
	default:
		p.add(Informs, "release", "The source is held for a while once the copy is proven, to be restored.")
	}
	p.handOver()
	if !p.Renames {
		p.step(StepRelease, 0, "Hold the source for a while, out of the way")
	}
}

// Kinds of how a chain is copied.
const (
	ChainWhole = "whole" // the default
	ChainAlone = "alone" // what it stands on lies at the destination already
)
