package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/machine"
	"bagaglio/core/machine/ovf"
	"bagaglio/core/storage"
	"bagaglio/core/storage/archive"
)

// PackMachine makes a package of a machine, as the open standard has them (DSP0243): an archive, or the files of one in a folder.
const PackMachine = "pack-machine"

// Kinds of steps of a package.
const (
	StepPack   = "pack"   // write it into the staging folder
	StepReread = "reread" // read it back and compare
	StepPut    = "put"    // give it its name
)

// PackageSubject is what the IDs of steps of a package begin with.
const PackageSubject = "package"

// PackRequest makes a package of a machine of a host. The destination is the archive, or a folder.
type PackRequest struct {
	Kind        string `json:"kind"`
	Machine     string `json:"machine"`
	Destination *Place `json:"destination"`
	As          string `json:"as"`
	Layout      string `json:"layout"`
	Stop        bool   `json:"stop"`
	Suspend     bool   `json:"suspend"`
}

func (r PackRequest) validate() error {
	switch {
	case r.Destination == nil || r.Destination.Pool == "" || r.Destination.Path == "":
		return errors.New("it names no archive or folder of a pool that the package is to be")
	case r.Stop && r.Suspend:
		return errors.New("it is shut down or suspended, not both")
	}
	if err := ofHost(r.Machine); err != nil {
		return err
	}
	as, layout := r.packs()
	if err := (ConvertRequest{As: as, Layout: layout}).validateTarget(); err != nil {
		return err
	}
	f, err := disk.Lookup(as)
	if err != nil {
		return err
	}
	if l, err := f.Layout(layout); err == nil && len(l.FileNames("disk"+f.Extensions[0], 1<<30, disk.Options{})) > 1 {
		return fmt.Errorf("a disk in a package is one file, and %s, %s, has several", as, layout)
	}
	return nil
}

// packs is the form of the disks: that of the standard's own examples, where nothing is said.
func (r PackRequest) packs() (as, layout string) {
	if r.As == "" {
		return "vmdk", "stream"
	}
	return r.As, r.Layout
}

// Packed is what was decided for a package.
type Packed struct {
	Into    Place           `json:"into"` // the archive, or the folder
	Archive bool            `json:"archive"`
	Name    string          `json:"name"` // of its files, without extensions
	Machine machine.Machine `json:"machine"`
	Disks   []PackedDisk    `json:"disks"`
}

// PackedDisk is a disk that goes into a package.
type PackedDisk struct {
	Source Place  `json:"source"`
	Format string `json:"format"` // of the source
	Was    string `json:"was"`    // its layout
	Name   string `json:"name"`   // in the package
	As     string `json:"as"`
	Layout string `json:"layout"`
	Size   int64  `json:"size"` // virtual, in bytes
	Bytes  int64  `json:"bytes"`
}

// PackFacts are what is known of a machine that is packed.
type PackFacts struct {
	StayingFacts
	Saved, Off bool
	Disks      []PackDiskFacts // in their order
	// There tells that something is at the destination, Free is its room in bytes, or storage.Unknown, and ReadOnly that nothing is written there.
	There, ReadOnly bool
	Free            int64
}

// PackDiskFacts are what is known of a disk; one without a path lies outside of all pools.
type PackDiskFacts struct {
	Lies      Place
	Is        disk.Description
	Allocated int64
	FileSize  int64 // of all of its files, in bytes
	Problem   error
	InUse     error
}

// ForPack makes the plan to pack a machine.
func ForPack(r Request, f PackFacts) Plan {
	on, _, _ := HostAndName(r.Machine) // it is a valid request
	p := staying{Plan: Plan{Version: Version, Request: r, Checks: []Check{}, Steps: []Step{}, Together: true}, r: r, f: f.StayingFacts}
	p.m = &Machine{
		Host: on, Name: f.Name, To: on, Before: f.Is, After: f.Is, Format: f.Format, Stored: string(f.Text), Extension: extension(f.Format),
		Stop: r.Stop, Suspend: r.Suspend,
	}
	p.Machine = p.m
	if f.Problem != nil {
		p.check(Blocks, "machine", fmt.Sprintf("The definition of %s cannot be read: %v.", p.m.Here(), f.Problem))
		return p.Plan
	}
	w := whole{Plan: p.Plan, r: r, f: MachineFacts{Off: f.Off, Saved: f.Saved, State: string(f.State)}, m: p.m}
	w.checkOff()
	p.Plan = w.Plan
	p.pack(f)
	return p.Plan
}

func (p *staying) pack(f PackFacts) {
	to := *p.r.Destination
	as, layout := PackRequest{As: p.r.As, Layout: p.r.Layout}.packs()
	body := &Packed{Into: to, Archive: archive.Claim(to.Path), Name: packedName(p.m.Name), Machine: f.Is}
	body.Machine.Disks = nil
	p.Packed = body
	if f.There {
		p.check(Blocks, "name", fmt.Sprintf("%s is there already, and nothing is overwritten: choose another name.", to))
	}
	if len(f.Disks) == 0 {
		p.check(Blocks, "disk", fmt.Sprintf("%s has no disk: there is nothing to prove.", p.m.Here()))
	}
	if f.ReadOnly {
		p.check(Blocks, "destination", "The pool is read only: nothing is written there.")
	}
	target, err := disk.Lookup(as)
	if err != nil {
		p.check(Blocks, "format", err.Error()+".")
		return
	}
	l, err := target.Layout(layout)
	if err != nil {
		p.check(Blocks, "format", err.Error()+".")
		return
	}
	needs := int64(0)
	for i, d := range f.Disks {
		is := f.Is.Disks[i]
		name := DiskName(f.Is, i)
		switch {
		case d.Lies.Path == "":
			p.check(Blocks, "pool", fmt.Sprintf("The disk %s (%s) lies outside of all pools: make its folder one.", name, is.Lies()))
			continue
		case d.Problem != nil:
			p.check(Blocks, "source", fmt.Sprintf("The disk %s (%s) cannot be used: %v.", name, d.Lies, d.Problem))
			continue
		case d.InUse != nil && (f.Off || !p.r.Stop && !p.r.Suspend):
			p.check(Blocks, "in-use", fmt.Sprintf("%v.", d.InUse))
		}
		packed := PackedDisk{
			Source: d.Lies,
			Format: d.Is.Format,
			Was:    d.Is.Layout,
			Name:   fmt.Sprintf("%s-disk%d%s", body.Name, i+1, target.Extensions[0]),
			As:     as,
			Layout: l.Name,
			Size:   l.RoundUp(d.Is.VirtualSize, disk.Options{}, 0),
			Bytes:  d.Allocated,
		}
		if packed.Size != d.Is.VirtualSize {
			p.check(
				Blocks,
				"size",
				fmt.Sprintf("%s, %s, cannot have the size of the disk %s, %s: choose another form.", as, l.Name, name, Bytes(d.Is.VirtualSize)),
			)
		}
		needs += d.Allocated
		body.Disks, body.Machine.Disks = append(body.Disks, packed), append(body.Machine.Disks, is)
		p.Before = append(p.Before, Side{
			Place: d.Lies, Format: d.Is.Format, Layout: d.Is.Layout, VirtualSize: d.Is.VirtualSize, AllocatedSize: d.Allocated, FileSize: d.FileSize,
		})
	}
	if f.Free != storage.Unknown && !l.Compresses && needs > f.Free {
		p.check(Blocks, "room", fmt.Sprintf("The package needs %s, and %s are free.", Bytes(needs), Bytes(f.Free)))
	}
	if len(f.Kept) > 0 {
		p.check(Informs, "snapshot", fmt.Sprintf("Its snapshots stay: the package is of the present state (%s).", f.Kept[0].Name))
	}
	p.lost(body)
	p.packSteps(body, needs)
}

// lost says what envelopes cannot say of the machine.
func (p *staying) lost(body *Packed) {
	var files []ovf.File
	for _, d := range body.Disks {
		files = append(files, ovf.File{Name: d.Name, Capacity: d.Size, Format: d.As, Layout: d.Layout})
	}
	text, err := ovf.Write(body.Machine, files)
	if err != nil {
		p.check(Blocks, "definition", fmt.Sprintf("The envelope cannot be written: %v.", err))
		return
	}
	says, err := machine.Describe("ovf", text)
	if err != nil {
		p.check(Blocks, "definition", fmt.Sprintf("The envelope could not be read: %v.", err))
		return
	}
	for _, d := range machine.Compare(body.Machine, says) {
		if d.Before != "" && d.What != "UUID" && !strings.HasSuffix(d.What, "file") && !strings.HasSuffix(d.What, "format") &&
			!strings.HasSuffix(d.What, "slot") {
			p.check(Warns, "definition", lostOrChanged(d))
		}
	}
}

func (p *staying) packSteps(body *Packed, bytes int64) {
	off := "See that " + p.m.Name + " is off"
	switch {
	case p.r.Suspend:
		off = "Suspend " + p.m.Name + ", unless it is off"
	case p.r.Stop:
		off = "Shut " + p.m.Name + " down, unless it is off"
	}
	p.step(StepOff, off)
	uses := []Use{{Pool: body.Into.Pool, Path: body.Into.Path, Writes: true}}
	for _, d := range body.Disks {
		uses = append(uses, Use{Pool: d.Source.Pool, Path: d.Source.Path})
	}
	add := func(kind, title string, bytes int64) {
		p.follow(Step{ID: PackageSubject + "." + kind, Kind: kind, Title: title, Bytes: bytes, Uses: slices.Clone(uses)})
	}
	what := "a folder"
	if body.Archive {
		what = "one archive"
	}
	add(StepPack, "Write its disks, its envelope and a manifest into the pool's staging folder, as "+what, bytes)
	add(StepReread, "Read it back from storage, compare each disk, and each file with the manifest", bytes)
	if p.r.Suspend {
		p.step(StepHalted, "See that it was suspended all the while")
	}
	add(StepPut, "Give it its name", 0)
	if p.r.Stop || p.r.Suspend {
		p.step(StepOn, "Let "+p.m.Name+" go on, if it ran")
	}
	p.BytesToRead, p.BytesToWrite = 2*bytes, bytes
	p.EstimatedSeconds = float64(3*bytes) / likelySpeed
}

// packedName is what the files of a package begin with: letters that any system has in names.
func packedName(name string) string {
	clean := strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-_.", c) {
			return c
		}
		return '-'
	}, name)
	if clean = strings.Trim(clean, ".-"); clean == "" {
		return "machine"
	}
	return clean[:min(len(clean), 60)]
}
