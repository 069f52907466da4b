package plan

import (
	"fmt"
	"strings"

	"bagaglio/core/inspect"
)

// Selection is what the request reads of its source.
func (r Request) Selection() inspect.Selection {
	return inspect.Selection{UsedOnly: r.UsedOnly, Without: r.Without}
}

// usualSector is the size of the sectors that disks of machines have, in bytes, where nothing else is said.
const usualSector = 512

// checkSectors: a table that counts in other sectors than the disk will have is not read by anybody.
func (p *maker) checkSectors() {
	r, d := p.Disk.Request, p.facts.Source.Description
	will := max(d.SectorSize, usualSector)
	if r.Kind == Convert {
		will = max(r.Options.SectorSize, usualSector)
	}
	if counts := p.facts.Source.Counts; counts > 0 && will != counts && (r.Source.IsDevice() || d.SectorSize != 0) {
		p.add(Warns, "sectors", fmt.Sprintf(
			"The partition table counts in sectors of %d bytes: a machine that gives the new disk sectors of %d sees no partitions. Give it %d there.",
			counts,
			will,
			counts,
		))
	}
}

// checkShares says what is read of each partition, and what that means.
func (p *maker) checkShares() {
	for _, s := range p.facts.Source.Shares {
		of := Bytes(s.Length)
		switch {
		case s.Left && missed(s) != "":
			p.add(Warns, "partition", fmt.Sprintf("%s is left out, and reads as zeros: %s", s.Called(), missed(s)))
		case s.Left:
			p.add(Informs, "partition", fmt.Sprintf("%s is left out, and reads as zeros: %s.", s.Called(), of))
		case s.Whole != "":
			then := ""
			if how := p.Disk.Request.InUse; how == InUseFreeze || how == InUseKeepUp {
				then = "; less of it may be, once it is frozen"
			}
			p.add(Informs, "partition", fmt.Sprintf("%s is read whole, %s: %s%s.", s.Called(), of, s.Whole, then))
		case s.Skipped > 0:
			p.add(Informs, "partition", fmt.Sprintf("%s: %s are read of %s, which is what its filesystem uses; the rest reads as zeros.",
				s.Called(), Bytes(s.Length-s.Skipped), of))
		default:
			p.add(Informs, "partition", fmt.Sprintf("%s is read whole: %s.", s.Called(), of))
		}
	}
}

// missed says what does not work without a partition of a type, empty where that is only its content.
func missed(s inspect.Share) string {
	switch kind := strings.ToLower(s.Type); {
	case strings.HasPrefix(kind, "efi"):
		return "a machine with UEFI does not start without it."
	case kind == "bios boot":
		return "the loader of a machine with BIOS lies there, and it does not start without it."
	case kind == "reserved":
		return "a system that keeps its volumes there may not change them any more."
	case kind == "recovery":
		return "the system cannot be repaired from it any more, and may not start when it looks for it."
	case s.Active:
		return "it is the active one: a machine with BIOS starts from it."
	case strings.HasPrefix(strings.ToLower(s.Name+s.Label), "boot"):
		return "by its name the system starts from it."
	}
	return ""
}
