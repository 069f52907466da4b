package libvirt

import (
	"context"
	"encoding/xml"
	"errors"
	"maps"
	"slices"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

// stored is what a disk of a machine that runs is stored in (formatdomain, "backingStore" and "mirror").
type stored struct {
	Kind   string `xml:"device,attr"`
	Target struct {
		Slot string `xml:"dev,attr"`
	} `xml:"target"`
	layer
	Mirror *struct {
		Job    string   `xml:"job,attr"`
		Ready  string   `xml:"ready,attr"`
		Format driverOf `xml:"format"`
		Source struct {
			File string `xml:"file,attr"`
		} `xml:"source"`
	} `xml:"mirror"`
}

type layer struct {
	Source struct {
		File   string `xml:"file,attr"`
		Device string `xml:"dev,attr"`
	} `xml:"source"`
	Below *layer `xml:"backingStore"`
}

// files are those of a chain, the topmost first. What lies over the network has none.
func (l *layer) files() (all []string) {
	for ; l != nil; l = l.Below {
		if file := l.Source.File + l.Source.Device; file != "" { // it is one of the two
			all = append(all, file)
		}
	}
	return all
}

// running are the drives of a machine that runs, as they are stored.
func (h *Host) running(d libvirt.Domain) ([]stored, error) {
	state, _, err := h.l.DomainGetState(d, 0)
	if err != nil {
		return nil, err
	}
	if now := states[libvirt.DomainState(state)]; now != host.Running && now != host.Suspended {
		return nil, refused("it does not run")
	}
	text, err := h.l.DomainGetXMLDesc(d, 0)
	if err != nil {
		return nil, err
	}
	var is struct {
		Disks []stored `xml:"devices>disk"`
	}
	if err := xml.Unmarshal([]byte(text), &is); err != nil {
		return nil, refused("reading what runs: %v", err)
	}
	return is.Disks, nil
}

// of is the drive of a slot.
func of(all []stored, slot string) (stored, error) {
	i := slices.IndexFunc(all, func(s stored) bool { return s.Target.Slot == slot })
	if i < 0 {
		return stored{}, refused("it has no disk %s", slot)
	}
	return all[i], nil
}

// stored is what a disk of a machine is stored in that runs.
func (h *Host) stored(d libvirt.Domain, slot string) (stored, error) {
	all, err := h.running(d)
	if err != nil {
		return stored{}, err
	}
	return of(all, slot)
}

// Layers are the files that a disk is stored in.
func (h *Host) Layers(ctx context.Context, m host.Machine, slot string) (all []string, err error) {
	d, err := domain(m)
	if err != nil {
		return nil, err
	}
	err = h.call(ctx, func() error {
		s, err := h.stored(d, slot)
		if all = s.files(); err != nil || s.Mirror == nil || s.Mirror.Ready != goesOver {
			return err
		}
		if over, err := h.lostTrack(d, s); err != nil || !over {
			return err
		}
		if at := slices.Index(all, s.Mirror.Source.File); at > 0 {
			all = all[at:]
		}
		return nil
	})
	return all, err
}

// covering is the text by which new images are put on disks (formatsnapshot, "external").
type covering struct {
	XMLName xml.Name     `xml:"domainsnapshot"`
	Name    string       `xml:"name,omitempty"`
	Notes   string       `xml:"description,omitempty"`
	Disks   []coveredOne `xml:"disks>disk"`
}

type coveredOne struct {
	Name   string        `xml:"name,attr"`
	How    string        `xml:"snapshot,attr"`
	Driver *driverOf     `xml:"driver"`
	Source *coveringFile `xml:"source"`
}

type driverOf struct {
	Kind string `xml:"type,attr"`
}

type coveringFile struct {
	File string `xml:"file,attr"`
}

// cover is the text for images on some of the drives.
func cover(all []stored, layers map[string]string) (c covering) {
	for _, s := range all {
		one := coveredOne{Name: s.Target.Slot, How: "no"}
		if file, ok := layers[one.Name]; ok {
			one.How, one.Driver, one.Source = "external", &driverOf{"qcow2"}, &coveringFile{file}
		}
		c.Disks = append(c.Disks, one)
	}
	return c
}

// Cover puts new images on disks, at one moment.
func (h *Host) Cover(ctx context.Context, m host.Machine, layers map[string]string, atRest bool) (halted time.Duration, err error) {
	d, err := domain(m)
	if err != nil {
		return 0, err
	}
	flags := libvirt.DomainSnapshotCreateDiskOnly | libvirt.DomainSnapshotCreateAtomic | libvirt.DomainSnapshotCreateNoMetadata | libvirt.DomainSnapshotCreateReuseExt
	if atRest {
		flags |= libvirt.DomainSnapshotCreateQuiesce
	}
	for _, slot := range slices.Sorted(maps.Keys(layers)) {
		ahead, err := h.catchUp(ctx, d, slot)
		if err == nil && ahead == layers[slot] {
			err = refused(
				"its guest wrote to %s already, of which the daemon knew nothing: that is written down below it, and the image is of no use any more",
				ahead,
			)
		}
		if err != nil {
			return 0, err
		}
	}
	err = h.call(ctx, func() error {
		all, err := h.running(d)
		if err != nil {
			return err
		}
		covered := 0
		for slot, file := range layers {
			s, err := of(all, slot)
			if err != nil {
				return err
			}
			if files := s.files(); len(files) > 0 && files[0] == file {
				covered++
			}
		}
		if covered == len(layers) {
			return nil
		}
		for _, file := range layers { // a daemon that was ended had it ready
			if err := h.forget(d, file); err != nil {
				return err
			}
		}
		text, err := xml.Marshal(cover(all, layers))
		if err == nil {
			begun := time.Now() // it stands still for a part of that
			_, err = h.l.DomainSnapshotCreateXML(d, string(text), uint32(flags))
			halted = time.Since(begun)
		}
		return err
	})
	return halted, err
}

// What a disk is being copied for (formatdomain, "mirror").
const (
	jobMerge  = "active-commit"
	jobMirror = "copy"
)

// Merge writes down into a file what lies above it.
func (h *Host) Merge(ctx context.Context, m host.Machine, slot, into string) (time.Duration, error) {
	return h.goOver(ctx, m, slot, into, jobMerge, func(d libvirt.Domain, s stored) error {
		if !slices.Contains(s.files(), into) {
			return refused("its disk %s does not stand on %s", slot, into)
		}
		return h.l.DomainBlockCommit(d, slot, libvirt.OptString{into}, nil, 0, libvirt.DomainBlockCommitActive|libvirt.DomainBlockCommitDelete)
	})
}

// Fold writes down into a file what lies between that and what the guest writes to.
func (h *Host) Fold(ctx context.Context, m host.Machine, slot, from, into string) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	if _, err := h.catchUp(ctx, d, slot); err != nil {
		return err
	}
	begun := false
	return h.follow(ctx, func() (done bool, err error) {
		s, err := h.stored(d, slot)
		if err != nil {
			return false, err
		}
		files := s.files()
		above, below := slices.Index(files, from), slices.Index(files, into)
		switch {
		case below < 0:
			return false, refused("its disk %s does not stand on %s", slot, into)
		case above < 0: // an earlier call did it
			return true, nil
		case above == 0 || above >= below:
			return false, refused("%s is no image between %s and what its guest writes to", from, into)
		}
		if under, _, _, _, _, err := h.l.DomainGetBlockJobInfo(d, slot, 0); err != nil || under > 0 {
			return false, err
		}
		if begun { // it ended between both looks, or gave up
			s, err = h.stored(d, slot)
			if err == nil && slices.Contains(s.files(), from) {
				err = refused("it gave up writing down its disk %s", slot)
			}
			return false, err
		}
		begun = true
		return false, h.l.DomainBlockCommit(d, slot, libvirt.OptString{into}, libvirt.OptString{from}, 0, libvirt.DomainBlockCommitDelete)
	})
}

// mirrored is the text for an image that is mirrored to (formatdomain, "disk").
type mirrored struct {
	XMLName xml.Name     `xml:"disk"`
	Kind    string       `xml:"type,attr"`
	Source  coveringFile `xml:"source"`
	Driver  driverOf     `xml:"driver"`
}

// Mirror copies the topmost image of a disk to another one.
func (h *Host) Mirror(ctx context.Context, m host.Machine, slot string, to machine.Disk) (time.Duration, error) {
	text, err := xml.Marshal(mirrored{Kind: "file", Source: coveringFile{to.File}, Driver: driverOf{to.Format}})
	if err != nil {
		return 0, err
	}
	return h.goOver(ctx, m, slot, to.File, jobMirror, func(d libvirt.Domain, _ stored) error {
		flags := libvirt.DomainBlockCopyShallow | libvirt.DomainBlockCopyReuseExt | libvirt.DomainBlockCopyTransientJob
		return h.l.DomainBlockCopy(d, slot, string(text), nil, flags)
	})
}

// followEvery is how often it is looked how far a disk is copied.
const followEvery = 20 * time.Millisecond

// goOver has a guest go on from a file, to which a job of the daemon copies first what it has. One that an earlier call began is gone on with.
func (h *Host) goOver(
	ctx context.Context, m host.Machine, slot, file, job string, begin func(libvirt.Domain, stored) error,
) (halted time.Duration, err error) {
	d, err := domain(m)
	if err != nil {
		return 0, err
	}
	if _, err := h.catchUp(ctx, d, slot); err != nil {
		return 0, err
	}
	begun := false
	err = h.follow(ctx, func() (done bool, err error) {
		s, err := h.stored(d, slot)
		if err != nil {
			return false, err
		}
		files := s.files()
		switch {
		case s.Mirror != nil && s.Mirror.Job != job:
			return false, refused("its disk %s is being copied for something else (%s)", slot, s.Mirror.Job)
		case s.Mirror != nil && s.Mirror.Ready == "yes":
			at := time.Now()
			err := h.pivot(d, slot)
			halted += time.Since(at)
			return false, err
		case s.Mirror != nil && s.Mirror.Ready == goesOver:
			over, err := h.lostTrack(d, s)
			if err == nil && over {
				err = h.settle(d, slot, s)
			}
			return over, err
		case s.Mirror != nil: // it is on its way
			return false, nil
		case len(files) > 0 && files[0] == file:
			return true, nil
		case begun:
			return false, refused("it gave up copying its disk %s", slot)
		}
		begun = true
		if err = begin(d, s); err != nil { // an earlier call's may have come through meanwhile
			if s, lookErr := h.stored(d, slot); lookErr == nil && s.Mirror != nil {
				return false, nil
			}
		}
		return false, err
	})
	return halted, err
}

// follow calls the daemon again and again, until what it waits for is done.
func (h *Host) follow(ctx context.Context, look func() (done bool, err error)) error {
	for {
		done := false
		err := h.call(ctx, func() (err error) { done, err = look(); return err })
		if err != nil || done {
			return err
		}
		if err := h.waits(ctx); err != nil {
			return err
		}
	}
}

// GiveUp ends what an earlier call to Merge, Fold or Mirror began: the guest goes on from what it has.
func (h *Host) GiveUp(ctx context.Context, m host.Machine, slot string) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	return h.call(ctx, func() error {
		if _, err := h.stored(d, slot); err != nil {
			return err
		}
		if under, _, _, _, _, err := h.l.DomainGetBlockJobInfo(d, slot, 0); err != nil || under == 0 {
			return err
		}
		return h.l.DomainBlockJobAbort(d, slot, 0)
	})
}

// pivot has a guest go on from what its disk was copied to. It is halted for that, some hundredths of a second: emulators up to 7.2 at least end with
// a failed assertion (bdrv_co_write_req_prepare) where it writes in that moment, which one that writes all the time made happen twice in three times.
func (h *Host) pivot(d libvirt.Domain, slot string) error {
	m, err := h.machine(d)
	if err != nil {
		return err
	}
	if m.State != host.Running {
		return h.l.DomainBlockJobAbort(d, slot, libvirt.DomainBlockJobAbortPivot)
	}
	if err := h.l.DomainSuspend(d); err != nil {
		return err
	}
	err = h.l.DomainBlockJobAbort(d, slot, libvirt.DomainBlockJobAbortPivot)
	return errors.Join(err, h.l.DomainResume(d))
}
