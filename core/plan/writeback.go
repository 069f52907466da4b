package plan

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"bagaglio/core/device"
	"bagaglio/core/fit"
)

// WriteBackRequest writes an image onto a disk of a computer.
type WriteBackRequest struct {
	Kind           string `json:"kind"`
	Source         Place  `json:"source"`
	Destination    *Place `json:"destination"`
	ConfirmSerial  string `json:"confirm_serial"`
	DifferingOnly  bool   `json:"differing_only"`
	Wipe           string `json:"wipe"`
	NoProof        bool   `json:"no_proof"`
	AsItIs         bool   `json:"as_it_is"`
	WithoutKnowing bool   `json:"without_knowing"`
}

// Ways to wipe what an image does not reach of a disk.
const (
	WipeZeros   = "zeros"   // zeros are written
	WipeDiscard = "discard" // the disk is told that it is not used any more, and that it has to read as zeros
)

func (r WriteBackRequest) validate() error {
	if err := r.Source.validate(); err != nil {
		return err
	}
	switch {
	case r.Source.IsDevice():
		return fmt.Errorf("a disk of a computer is captured to an image first (%s)", r.Source)
	case r.Destination == nil || !r.Destination.IsDevice():
		return errors.New("its destination is no disk of a computer: HOST:/dev/NAME")
	case r.Wipe != "" && r.Wipe != WipeZeros && r.Wipe != WipeDiscard:
		return fmt.Errorf("a disk is wiped with %q or %q, not %q", WipeZeros, WipeDiscard, r.Wipe)
	}
	return nil
}

// DeviceFacts are what is known of the disk that is written over.
type DeviceFacts struct {
	Problem error // why it cannot be written over; then the rest says nothing
	device.Device
	ID string // see storage.Info
	// On is what is on it now, in words.
	On []string
	// Table is where the partition table goes, nil where it stays as the image has it; Untabled is why it stays where it would have to go.
	Table    *fit.Layout
	Untabled error
}

// Confirms is what has to be said so that it is written over: its serial number, or its size in bytes where it tells none.
func (d DeviceFacts) Confirms() string {
	if d.Serial != "" {
		return d.Serial
	}
	return strconv.FormatInt(d.Size, 10)
}

// Called is how people know it.
func (d DeviceFacts) Called() string {
	words := []string{d.Path}
	if d.Model != "" {
		words = append(words, d.Model)
	}
	if d.Serial != "" {
		words = append(words, "serial "+d.Serial)
	}
	return strings.Join(append(words, Bytes(d.Size)), ", ")
}

// writeBack plans to write an image onto a disk of a computer.
func (p *maker) writeBack() {
	d, before := p.facts.Device, p.Disk.Before
	if d.Problem != nil {
		p.add(Blocks, "device", fmt.Sprintf("The disk cannot be written over: %v.", d.Problem))
		return
	}
	place := *p.Disk.Request.Destination
	p.Disk.After = &Side{Place: place, Format: "raw", Layout: "thick", VirtualSize: d.Size, AllocatedSize: d.Size, FileSize: d.Size}
	p.Device, p.Disk.Fit = d.ID, d.Table
	p.use(place.Pool, true, place.Path)
	p.checkDevice()
	p.BytesToWrite = before.VirtualSize
	p.step(StepLook, 0, "Open the image and check its tables")
	p.step(StepSave, 0, "Save what the first and the last MiB of the disk hold")
	if rest := d.Size - before.VirtualSize; p.Disk.Request.Wipe != "" && rest > 0 {
		p.step(StepWipe, rest, "Wipe what the image does not reach, and read that back")
	}
	if p.Disk.Request.DifferingOnly {
		p.step(StepOverwrite, before.VirtualSize, "Write over the disk what is not the same there, and sync it")
	} else {
		p.step(StepOverwrite, before.VirtualSize, "Write over the disk, and sync it")
	}
	if p.Disk.Request.NoProof {
		p.add(Warns, "proof", "The disk will not be read back: the job ends as unproven.", remedy("Prove it", map[string]any{"no_proof": nil}))
	}
	p.step(StepReadBack, before.VirtualSize, "Read it back from the disk and compare the fingerprints")
	if d.Table != nil {
		p.step(StepTable, 0, "Have the partition table reach to the end of the disk")
	}
	p.checkTag()
}

// checkDevice: it is the one that is meant, nobody uses it, and the image fits to it.
func (p *maker) checkDevice() {
	d, size := p.facts.Device, p.Disk.Before.VirtualSize
	switch said := p.Disk.Request.ConfirmSerial; {
	case said == "":
		p.add(
			Blocks,
			"serial",
			fmt.Sprintf("All that is on %s is lost. Say that you mean this disk by its %s (--confirm-serial).", d.Called(), confirmedBy(d)),
		)
	case said != d.Confirms():
		p.add(Blocks, "serial", fmt.Sprintf("%s was confirmed, and this is another disk: %s.", said, d.Called()))
	default:
		p.add(Warns, "device", fmt.Sprintf("All that is on %s is lost.", d.Called()))
	}
	for _, on := range d.On {
		p.add(Warns, "device", capital(on)+" is lost.")
	}
	if d.ReadOnly {
		p.add(Blocks, "device", fmt.Sprintf("%s is read only: open its switch, or blockdev --setrw %s.", d.Path, d.Path))
	}
	for _, u := range d.Uses {
		p.add(Blocks, "device", fmt.Sprintf("The disk is in use: %s%s.", u, u.Remedy()))
	}
	switch {
	case size > d.Size:
		p.add(Blocks, "size", fmt.Sprintf(
			"The image has %s, and the disk %s. Make a smaller one first: bagaglio resize IMAGE NEW --size %d.", Bytes(size), Bytes(d.Size), d.Size))
	case size < d.Size && p.Disk.Request.Wipe != "":
		p.add(Informs, "size", fmt.Sprintf("%s at the end of the disk are not used by the image, and are wiped.", Bytes(d.Size-size)))
	case size < d.Size:
		p.add(Informs, "size", fmt.Sprintf("%s at the end of the disk are not used by the image, and stay as they are.", Bytes(d.Size-size)),
			remedy("Wipe them", map[string]any{"wipe": WipeZeros}))
	}
	if d.Untabled != nil {
		p.add(Warns, "table", fmt.Sprintf("The second copy of the partition table does not get to the end of the disk: %v.", d.Untabled))
	}
	if counts := p.facts.Source.Counts; counts > 0 && counts != d.SectorSize {
		p.add(
			Warns,
			"sectors",
			fmt.Sprintf("The partition table counts in sectors of %d bytes, and the disk has %d: no computer sees its partitions there.",
				counts, d.SectorSize),
		)
	}
}

func confirmedBy(d *DeviceFacts) string {
	if d.Serial != "" {
		return "serial number"
	}
	return "size in bytes, since it tells no serial number"
}
