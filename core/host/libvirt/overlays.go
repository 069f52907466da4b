package libvirt

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

// A state of the disks only is what lies below images which the guest writes to from then on. The daemon lists it; version 9.0 neither goes back to
// it nor drops it, which is done here by what it does for machines that run. One that is off is switched on for that and does not begin to work.

// layerOf is the file of the image that is put on a disk for a state.
func layerOf(file, name string) string {
	return strings.TrimSuffix(file, path.Ext(file)) + "-" + strings.NewReplacer("/", "-", "\\", "-").Replace(name) + ".qcow2"
}

// halted does something with a machine that runs: one that is off is on meanwhile, and its guest does nothing.
func (h *Host) halted(ctx context.Context, d libvirt.Domain, do func() error) error {
	off := false
	err := h.call(ctx, func() error {
		m, err := h.machine(d)
		switch {
		case err != nil:
			return err
		case m.State == host.Saved:
			return refused("it is saved, and its memory would not fit its disks any more")
		case m.State != host.Off:
			return nil
		}
		off = true
		_, err = h.l.DomainCreateWithFlags(d, uint32(libvirt.DomainStartPaused))
		return err
	})
	if err != nil {
		return err
	}
	err = do()
	if off {
		err = errors.Join(err, h.call(context.WithoutCancel(ctx), func() error { return h.l.DomainDestroy(d) }))
	}
	return err
}

// takeDisks keeps the disks as they are.
func (h *Host) takeDisks(ctx context.Context, d libvirt.Domain, t host.Taking) error {
	return h.halted(ctx, d, func() error {
		return h.call(ctx, func() error { return h.coverFor(d, t) })
	})
}

func (h *Host) coverFor(d libvirt.Domain, t host.Taking) error {
	all, err := h.running(d)
	if err != nil {
		return err
	}
	layers := map[string]string{}
	for _, s := range all {
		files := s.files()
		switch {
		case s.Kind != "" && s.Kind != "disk" || len(files) == 0: // a drive
		case s.Source.File == "":
			return refused("its disk %s is the device %s, beside which no image can lie", s.Target.Slot, files[0])
		default:
			layers[s.Target.Slot] = layerOf(files[0], t.Name)
		}
	}
	text := cover(all, layers)
	text.Name, text.Notes = t.Name, t.Notes
	out, err := xml.Marshal(text)
	if err != nil {
		return err
	}
	flags := libvirt.DomainSnapshotCreateDiskOnly | libvirt.DomainSnapshotCreateAtomic
	if t.AtRest {
		flags |= libvirt.DomainSnapshotCreateQuiesce
	}
	_, err = h.l.DomainSnapshotCreateXML(d, string(out), uint32(flags))
	return err
}

// layered notes the files of a state of the disks only: what has the content of then, and what was put on it.
func (s snapshot) layered(k *host.Snapshot) {
	then, err := machine.Describe(format, k.Definition)
	if err != nil {
		return
	}
	for _, d := range s.Disks {
		i := slices.IndexFunc(then.Disks, func(o machine.Disk) bool { return o.Slot == d.Name })
		if d.How != "external" || d.Source == nil || i < 0 {
			continue
		}
		if k.Layers == nil {
			k.Layers, k.Files = map[string]string{}, map[string]string{}
		}
		file := then.Disks[i].File
		k.Layers[file], k.Files[file] = d.Source.File, file
	}
}

// goBackToDisks has a machine start from new images on the disks of a state. What it had written since lies in files that nothing names then.
func (h *Host) goBackToDisks(ctx context.Context, d libvirt.Domain, k host.Snapshot) error {
	err := h.call(ctx, func() error {
		m, err := h.machine(d)
		if err == nil && m.State != host.Off {
			err = h.l.DomainDestroy(d)
		}
		if err == nil {
			_, err = h.l.DomainDefineXML(string(k.Definition))
		}
		return err
	})
	if err != nil {
		return err
	}
	return h.halted(ctx, d, func() error {
		return h.call(ctx, func() error { return h.goOnOver(d, k) })
	})
}

// goOnOver puts new images on the disks of a state, from which the machine goes on.
func (h *Host) goOnOver(d libvirt.Domain, k host.Snapshot) error {
	all, err := h.running(d)
	if err != nil {
		return err
	}
	layers := map[string]string{}
	for _, s := range all {
		if files := s.files(); len(files) > 0 && k.Layers[files[0]] != "" {
			if layers[s.Target.Slot], err = h.free(d, files[0], k.Name); err != nil {
				return err
			}
		}
	}
	text, err := xml.Marshal(cover(all, layers))
	if err != nil {
		return err
	}
	flags := libvirt.DomainSnapshotCreateDiskOnly | libvirt.DomainSnapshotCreateAtomic | libvirt.DomainSnapshotCreateNoMetadata
	if _, err := h.l.DomainSnapshotCreateXML(d, string(text), uint32(flags)); err != nil {
		return err
	}
	return h.redefine(d, k.Name, true, nil)
}

// free is the name of an image on a file that nothing which the daemon lists has.
func (h *Host) free(d libvirt.Domain, file, name string) (string, error) {
	all, err := h.listed(d)
	if err != nil {
		return "", err
	}
	for n := 2; ; n++ {
		at := layerOf(file, fmt.Sprintf("%s-%d", name, n))
		if !slices.ContainsFunc(all, func(k host.Snapshot) bool {
			return slices.Contains(slices.Collect(maps.Values(k.Layers)), at)
		}) {
			return at, nil
		}
	}
}

// redefine has the daemon list a state anew, with what the machine was then changed, or as the one that it goes on from.
func (h *Host) redefine(d libvirt.Domain, name string, present bool, change func([]byte) ([]byte, error)) error {
	k, err := h.l.DomainSnapshotLookupByName(d, name, 0)
	if err != nil {
		return err
	}
	text, err := h.l.DomainSnapshotGetXMLDesc(k, 0)
	if err != nil {
		return err
	}
	var is snapshot
	if err := xml.Unmarshal([]byte(text), &is); err != nil {
		return refused("reading the state %s: %v", name, err)
	}
	for _, then := range []*domainText{is.Machine, is.Stored} {
		if then == nil || change == nil {
			continue
		}
		changed, err := change(then.whole())
		if err != nil {
			return refused("writing what it was in %s: %v", name, err)
		}
		begin, end := bytes.IndexByte(changed, '>')+1, bytes.LastIndex(changed, []byte("</domain>"))
		text = strings.Replace(text, then.Text, string(changed[begin:end]), 1)
	}
	flags := libvirt.DomainSnapshotCreateRedefine
	if present {
		flags |= libvirt.DomainSnapshotCreateCurrent
	}
	_, err = h.l.DomainSnapshotCreateXML(d, text, uint32(flags))
	return err
}

// dropDisks writes what lies on the disks of a state down into them, and forgets it.
func (h *Host) dropDisks(ctx context.Context, d libvirt.Domain, k host.Snapshot, all []host.Snapshot) error {
	behind := slices.DeleteFunc(slices.Clone(all), func(o host.Snapshot) bool { return o.Parent != k.Name })
	for _, o := range all {
		for file := range k.Layers {
			if _, also := o.Layers[file]; also && o.Name != k.Name {
				return refused("%s is a state of the same images: drop it first", o.Name)
			}
		}
	}
	return h.halted(ctx, d, func() error {
		for file, layer := range k.Layers {
			if err := h.mergeOne(ctx, d, file, layer, behind); err != nil {
				return err
			}
		}
		return h.call(ctx, func() error {
			for _, o := range behind {
				if err := h.standsOn(d, o, k); err != nil {
					return err
				}
			}
			s, err := h.l.DomainSnapshotLookupByName(d, k.Name, 0)
			if err != nil {
				return err
			}
			return h.l.DomainSnapshotDelete(s, libvirt.DomainSnapshotDeleteMetadataOnly)
		})
	})
}

// mergeOne writes a layer down into the file that it was put on, or what the machine went on from when it went back to the state. Where it does not go on
// from either, nothing may stand on the layer.
func (h *Host) mergeOne(ctx context.Context, d libvirt.Domain, file, layer string, behind []host.Snapshot) error {
	slot, begun := "", false
	return h.follow(ctx, func() (done bool, err error) {
		drives, err := h.running(d)
		if err != nil {
			return false, err
		}
		at := slices.IndexFunc(drives, func(s stored) bool {
			files := s.files()
			i := slices.Index(files, file)
			if i > 0 && !begun && len(behind) == 0 {
				layer = files[i-1]
			}
			return i > 0 && files[i-1] == layer
		})
		switch {
		case at < 0 && begun:
			return true, nil
		case at < 0:
			return true, isMerged(drives, layer, behind)
		case !begun:
			begun, slot = true, drives[at].Target.Slot
			flags := libvirt.DomainBlockCommitDelete
			if drives[at].files()[0] == layer {
				flags |= libvirt.DomainBlockCommitActive
			}
			return false, h.l.DomainBlockCommit(d, slot, libvirt.OptString{file}, libvirt.OptString{layer}, 0, flags)
		case drives[at].Mirror == nil:
			found, _, _, _, _, err := h.l.DomainGetBlockJobInfo(d, slot, 0)
			if err == nil && found == 0 {
				if now, lookErr := h.stored(d, slot); lookErr == nil && slices.Contains(now.files(), layer) {
					err = refused("it gave up writing %s down into %s", layer, file)
				}
			}
			return false, err
		case drives[at].Mirror.Ready == "yes":
			return false, h.pivot(d, slot)
		}
		return false, nil
	})
}

// isMerged fails where the machine does not go on from a layer, and a state behind it does not say that an earlier call has merged it.
func isMerged(drives []stored, layer string, behind []host.Snapshot) error {
	for _, o := range behind {
		next := o.Layers[layer]
		if next != "" && !slices.ContainsFunc(drives, func(s stored) bool { return slices.Contains(s.files(), next) }) {
			return refused("%s stands on it, and the machine goes on from another state: drop that one first", o.Name)
		}
	}
	return nil
}

// standsOn has a state list what the layers of another one were written down into.
func (h *Host) standsOn(d libvirt.Domain, o, merged host.Snapshot) error {
	was, err := machine.Describe(format, merged.Definition)
	if err != nil {
		return refused("reading what it was in %s: %v", merged.Name, err)
	}
	return h.redefine(d, o.Name, o.Present, func(text []byte) ([]byte, error) {
		is, err := machine.Describe(format, text)
		if err != nil {
			return nil, err
		}
		for _, below := range was.Disks {
			layer := merged.Layers[below.File]
			i := slices.IndexFunc(is.Disks, func(d machine.Disk) bool { return d.File == layer && layer != "" })
			if i >= 0 {
				is.Disks[i].File, is.Disks[i].Format = below.File, below.Format
			}
		}
		return machine.Become(text, format, format, is)
	})
}
