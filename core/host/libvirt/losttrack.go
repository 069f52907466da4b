package libvirt

import (
	"slices"

	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

// haltedFor are reasons for which a daemon says that a machine is paused which nobody has suspended: it could not read or write, or the daemon does not know why, which it says
// where a guest is halted again in the moment in which it goes on.
var haltedFor = []libvirt.DomainPausedReason{libvirt.DomainPausedIoerror, libvirt.DomainPausedUnknown}

// goesOver is what a daemon says of a disk whose guest is going over to what it was copied to (formatdomain, "mirror").
const goesOver = "pivot"

// lostTrack tells whether the emulator has gone over to what a disk was copied to, and the daemon does not know: one that was ended in that moment says for ever that it is
// going over (9.0), though nothing is under way. It asks the emulator itself, by its own protocol (QMP, query-block).
func (h *Host) lostTrack(d libvirt.Domain, s stored) (over bool, err error) {
	under, _, _, _, _, err := h.l.DomainGetBlockJobInfo(d, s.Target.Slot, 0)
	if err != nil || under > 0 {
		return false, err
	}
	drives, err := h.drives(d)
	return slices.ContainsFunc(drives, func(n node) bool { return n.File == fileName(s.Mirror.Source.File) }), err
}

// settle has the definition name what a disk is stored in since. The daemon itself learns that when the machine is switched on the next time.
func (h *Host) settle(d libvirt.Domain, slot string, s stored) error {
	text, err := h.l.DomainGetXMLDesc(d, libvirt.DomainXMLInactive|libvirt.DomainXMLSecure)
	if err != nil {
		return err
	}
	is, err := machine.Describe(format, []byte(text))
	if err != nil {
		return err
	}
	for i, disk := range is.Disks {
		if disk.Slot == slot {
			is.Disks[i].File, is.Disks[i].Format = s.Mirror.Source.File, s.Mirror.Format.Kind
		}
	}
	now, err := machine.Become([]byte(text), format, format, is)
	if err == nil {
		_, err = h.l.DomainDefineXML(string(now))
	}
	return err
}
