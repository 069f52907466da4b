package libvirt

import (
	"cmp"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bagaglio/core/host"
	"bagaglio/core/machine"

	"github.com/digitalocean/go-libvirt"
)

// snapshot is what is read, and written, of the daemon's text of one (formatsnapshot of its documentation).
type snapshot struct {
	XMLName xml.Name `xml:"domainsnapshot"`
	Name    string   `xml:"name"`
	Notes   string   `xml:"description,omitempty"`
	Created int64    `xml:"creationTime,omitempty"` // seconds since 1970
	Parent  string   `xml:"parent>name,omitempty"`
	Memory  *struct {
		How string `xml:"snapshot,attr"`
	} `xml:"memory"`
	// Machine is what ran, and Stored what it was to be when it was started again, where that differs.
	Machine *domainText  `xml:"domain"`
	Disks   []coveredOne `xml:"disks>disk"`
	Stored  *domainText  `xml:"inactiveDomain"`
}

type domainText struct {
	Kind string `xml:"type,attr"`
	Text string `xml:",innerxml"`
}

// definition is the text of the machine as it was then, nil where the daemon does not tell.
func (s snapshot) definition() []byte {
	text := cmp.Or(s.Stored, s.Machine)
	if text == nil {
		return nil
	}
	return text.whole()
}

func (d domainText) whole() []byte {
	return fmt.Appendf(nil, "<domain type='%s'>%s</domain>", d.Kind, d.Text)
}

// Snapshots lists those that the daemon knows.
func (h *Host) Snapshots(ctx context.Context, m host.Machine) (all []host.Snapshot, err error) {
	d, err := domain(m)
	if err != nil {
		return nil, err
	}
	err = h.call(ctx, func() error {
		all, err = h.listed(d)
		return err
	})
	return all, err
}

// listed are those that the daemon lists.
func (h *Host) listed(d libvirt.Domain) (all []host.Snapshot, err error) {
	found, _, err := h.l.DomainListAllSnapshots(d, 1, 0)
	if err != nil {
		return nil, err
	}
	for _, f := range found {
		text, err := h.l.DomainSnapshotGetXMLDesc(f, 0)
		if libvirt.IsNotFound(err) { // it was dropped meanwhile
			continue
		}
		var is snapshot
		if err == nil {
			err = xml.Unmarshal([]byte(text), &is)
		}
		if err != nil {
			return nil, err
		}
		now, err := h.l.DomainSnapshotIsCurrent(f, 0)
		if err != nil {
			return nil, err
		}
		k := host.Snapshot{
			Name: is.Name, Parent: is.Parent, Notes: is.Notes, Taken: time.Unix(is.Created, 0),
			Present: now == 1, Memory: is.Memory != nil && is.Memory.How != "no", Definition: is.definition(),
		}
		is.layered(&k)
		all = append(all, k)
	}
	slices.SortStableFunc(all, func(a, b host.Snapshot) int {
		return cmp.Or(a.Taken.Compare(b.Taken), depth(all, a)-depth(all, b)) // the daemon's times are whole seconds
	})
	return all, nil
}

// depth is how many are before one.
func depth(all []host.Snapshot, s host.Snapshot) (n int) {
	for ; s.Parent != "" && n < len(all); n++ {
		i := slices.IndexFunc(all, func(p host.Snapshot) bool { return p.Name == s.Parent })
		if i < 0 {
			break
		}
		s = all[i]
	}
	return n
}

// Take has the daemon keep the present state: of a machine that runs inside of the images, with its memory, and otherwise of the disks only.
func (h *Host) Take(ctx context.Context, m host.Machine, t host.Taking) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	if t.Disks {
		return h.takeDisks(ctx, d, t)
	}
	text, err := xml.Marshal(snapshot{Name: t.Name, Notes: t.Notes})
	if err != nil {
		return err
	}
	err = h.call(ctx, func() error {
		_, err := h.l.DomainSnapshotCreateXML(d, string(text), 0)
		return err
	})
	now, lookErr := h.Machine(ctx, m.Name)
	if errors.Is(err, host.ErrRefused) && lookErr == nil && now.State == host.Off { // it has no tool for that
		return h.takeDisks(ctx, d, t)
	}
	return err
}

// Adopt makes a state known that lies inside of the images (formatsnapshot: what is needed to define one again).
func (h *Host) Adopt(ctx context.Context, m host.Machine, s host.Snapshot) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	is, err := machine.Describe(m.Format, s.Definition)
	if err != nil {
		return err
	}
	text := adopted{Name: s.Name, Notes: s.Notes, Created: s.Taken.Unix(), State: "shutoff", Parent: s.Parent}
	text.Memory.How = "no"
	if s.Memory {
		text.State, text.Memory.How = "running", "internal"
	}
	if len(s.Layers) > 0 {
		text.State = "disk-snapshot"
	}
	for _, disk := range is.Disks {
		one := coveredOne{Name: disk.Slot, How: "internal"}
		if layer := s.Layers[disk.File]; layer != "" {
			one.How, one.Driver, one.Source = "external", &driverOf{"qcow2"}, &coveringFile{layer}
		}
		text.Disks = append(text.Disks, one)
	}
	out, err := xml.Marshal(text)
	if err != nil {
		return err
	}
	const end = "</domainsnapshot>"
	whole := strings.TrimSuffix(string(out), end) + string(s.Definition) + end
	flags := libvirt.DomainSnapshotCreateRedefine
	if s.Present {
		flags |= libvirt.DomainSnapshotCreateCurrent
	}
	return h.call(ctx, func() error {
		_, err := h.l.DomainSnapshotCreateXML(d, whole, uint32(flags))
		return err
	})
}

// adopted is the text of a state that is defined again.
type adopted struct {
	XMLName xml.Name `xml:"domainsnapshot"`
	Name    string   `xml:"name"`
	Notes   string   `xml:"description,omitempty"`
	State   string   `xml:"state"`
	Created int64    `xml:"creationTime"`
	Parent  string   `xml:"parent>name,omitempty"`
	Memory  struct {
		How string `xml:"snapshot,attr"`
	} `xml:"memory"`
	Disks []coveredOne `xml:"disks>disk"`
}

// GoBack makes a state the present one.
func (h *Host) GoBack(ctx context.Context, m host.Machine, name string) error {
	d, k, _, err := h.named(ctx, m, name)
	if err != nil {
		return err
	}
	if len(k.Layers) > 0 {
		return h.goBackToDisks(ctx, d, k)
	}
	return h.ofSnapshot(ctx, m, name, func(s libvirt.DomainSnapshot) error { return h.l.DomainRevertToSnapshot(s, 0) })
}

// Drop forgets a state.
func (h *Host) Drop(ctx context.Context, m host.Machine, name string) error {
	d, k, all, err := h.named(ctx, m, name)
	if err != nil {
		return err
	}
	if len(k.Layers) > 0 {
		return h.dropDisks(ctx, d, k, all)
	}
	return h.ofSnapshot(ctx, m, name, func(s libvirt.DomainSnapshot) error { return h.l.DomainSnapshotDelete(s, 0) })
}

// named is the state of a name, and all others.
func (h *Host) named(ctx context.Context, m host.Machine, name string) (d libvirt.Domain, k host.Snapshot, all []host.Snapshot, err error) {
	if d, err = domain(m); err != nil {
		return d, k, nil, err
	}
	if all, err = h.Snapshots(ctx, m); err != nil {
		return d, k, nil, err
	}
	if i := slices.IndexFunc(all, func(o host.Snapshot) bool { return o.Name == name }); i >= 0 {
		k = all[i]
	}
	return d, k, all, nil
}

// Disown forgets what is listed of a state.
func (h *Host) Disown(ctx context.Context, m host.Machine, name string) error {
	return h.ofSnapshot(ctx, m, name, func(s libvirt.DomainSnapshot) error {
		return h.l.DomainSnapshotDelete(s, libvirt.DomainSnapshotDeleteMetadataOnly)
	})
}

func (h *Host) ofSnapshot(ctx context.Context, m host.Machine, name string, do func(libvirt.DomainSnapshot) error) error {
	d, err := domain(m)
	if err != nil {
		return err
	}
	return h.call(ctx, func() error {
		s, err := h.l.DomainSnapshotLookupByName(d, name, 0)
		if err == nil {
			err = do(s)
		}
		var told libvirt.Error
		if errors.As(err, &told) && told.Code == uint32(libvirt.ErrNoDomainSnapshot) {
			return refused("it has no snapshot %s", name)
		}
		return err
	})
}
