package machines

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/internal/store"
)

// Kinds of findings.
const (
	FindsMissing    = "missing"       // a disk that is not where the definition says
	FindsUnopened   = "does-not-open" // a disk that is there and does not open
	FindsBase       = "base"          // a disk that others stand on, and that a machine writes to
	FindsKept       = "kept"          // a snapshot that a host lists, and images do not have
	FindsShared     = "shared"        // a disk that several machines write to
	FindsIdentity   = "identity"      // an identity that several machines have
	FindsAddress    = "address"       // a network address that several machines have
	FindsLeft       = "leftover"      // a disk that is an image which a job had put on it, and no job has any more
	FindsDefinition = "definition"    // a definition that cannot be read
)

// Finding is something that is wrong with machines.
type Finding struct {
	Kind     string
	Machines []string // HOST:NAME of those that it is about
	Disk     plan.Place
	What, Do string
	// Candidates are disks that may be meant.
	Candidates []plan.Place
	// Mends are requests that would settle it, each of them alone.
	Mends []plan.Request
}

// mostCandidates bounds how many are told.
const mostCandidates = 5

// Check looks for what is wrong with the machines of a host, or of all hosts when name is empty: those that cannot be asked are told. What concerns several
// machines is found among all hosts that can be asked.
func (m *Machines) Check(ctx context.Context, name string) (found []Finding, away []Away, err error) {
	all, away, err := m.List(ctx, "")
	if err != nil {
		return nil, nil, err
	}
	if name != "" {
		if _, err := m.on(ctx, name); err != nil {
			return nil, nil, err
		}
		away = slices.DeleteFunc(away, func(a Away) bool { return a.Host != name })
	}
	for _, x := range all {
		if x.Problem != nil {
			found = append(found, Finding{
				Kind: FindsDefinition, Machines: []string{called(x)}, What: fmt.Sprintf("Its definition cannot be read: %v.", x.Problem),
				Do: "Define it anew on its host (machine add).",
			})
		}
		if x.Problem == nil {
			f, err := m.checkKept(ctx, x)
			if err != nil {
				away = append(away, Away{x.Host, err})
			}
			found = append(found, f...)
		}
		for _, d := range x.Disks {
			f, unseen, err := m.checkDisk(ctx, x, d)
			if err != nil {
				return nil, nil, err
			}
			if found = append(found, f...); unseen != nil && (name == "" || x.Host == name) {
				away = append(away, Away{x.Host, unseen})
			}
		}
	}
	found = append(found, shared(all)...)
	found = append(found, twins(all)...)
	if name != "" {
		found = slices.DeleteFunc(found, func(f Finding) bool {
			return !slices.ContainsFunc(f.Machines, func(of string) bool { return strings.HasPrefix(of, name+":") })
		})
	}
	return found, away, nil
}

func called(x Machine) string { return x.Host + ":" + x.Name }

// checkDisk looks whether a disk is there, and opens. Unseen is why that could not be looked at.
func (m *Machines) checkDisk(ctx context.Context, x Machine, d Disk) (found []Finding, unseen, err error) {
	if d.InPool == "" {
		return nil, nil, nil
	}
	at := plan.Place{Pool: d.InPool, Path: d.Path}
	folder, err := m.places.Folder(ctx, d.InPool)
	if err != nil {
		return nil, fmt.Errorf("the disk %s of %s: %w", at, x.Name, err), nil
	}
	_, err = folder.Stat(d.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		f := Finding{
			Kind:     FindsMissing,
			Machines: []string{called(x)},
			Disk:     at,
			What:     fmt.Sprintf("It names %s, which is not there: it does not start.", at),
			Do:       "Restore it from what is held (held list), put it there, or have the definition name it where it is.",
		}
		f.Candidates, err = m.candidates(ctx, at)
		if len(f.Candidates) > 0 {
			f.Do = "Disks of that name are elsewhere: move one there, or have the machine use it where it is."
		}
		for _, c := range f.Candidates {
			if d.Slot != "" && m.isOn(ctx, c.Pool, x.Host) {
				f.Mends = append(f.Mends, plan.Request{
					Kind: plan.AttachDisk, Machine: called(x), Source: c, Slot: d.Slot, Bus: d.Bus, Serial: d.Serial, ReadOnly: d.ReadOnly,
				})
			}
		}
		return []Finding{f}, nil, err
	case err == nil && d.Known != nil && d.Known.Problem != "":
		return []Finding{{
			Kind: FindsUnopened, Machines: []string{called(x)}, Disk: at, What: fmt.Sprintf("Its disk %s does not open: %s.", at, d.Known.Problem),
			Do: "Look at it (look), and fetch what it lacks.",
		}}, nil, nil
	case err != nil:
		return nil, fmt.Errorf("the disk %s of %s: %w", at, x.Name, err), nil
	}
	left, err := m.checkLeft(ctx, x, d, at)
	if err != nil {
		return nil, nil, err
	}
	found, err = m.checkBase(ctx, x, d, at)
	return append(left, found...), nil, err
}

// isOn tells whether a pool lies on a host.
func (m *Machines) isOn(ctx context.Context, pool, on string) bool {
	p, err := m.places.Record(ctx, pool)
	return err == nil && p.Host == on
}

// checkKept looks whether the images of a machine have the snapshots that its host lists as being inside of them.
func (m *Machines) checkKept(ctx context.Context, x Machine) (found []Finding, err error) {
	kept, err := guests{m, x.Host}.Snapshots(ctx, x.Machine)
	if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, host.ErrRefused) || errors.Is(err, host.ErrNoMachine) {
		return nil, nil
	}
	for _, k := range kept {
		if len(k.Files) > 0 {
			continue
		}
		for _, d := range x.Disks {
			if d.Known == nil || d.Known.Problem != "" || d.ReadOnly || slices.Contains(d.Known.Snapshots, k.Name) || len(d.Known.Chain) > 0 {
				continue
			}
			found = append(found, Finding{
				Kind:     FindsKept,
				Machines: []string{called(x)},
				Disk:     plan.Place{Pool: d.InPool, Path: d.Path},
				What: fmt.Sprintf(
					"Its host lists the snapshot %s, and its disk %s:%s has none of that name: it cannot be gone back to.",
					k.Name,
					d.InPool,
					d.Path,
				),
				Do:    "Have the host forget it.",
				Mends: []plan.Request{{Kind: plan.DropSnapshot, Machine: called(x), Snapshot: k.Name, ListOnly: true}},
			})
		}
	}
	return found, err
}

// checkBase looks whether others stand on a disk that a machine writes to: whatever it writes damages them.
func (m *Machines) checkBase(ctx context.Context, x Machine, d Disk, at plan.Place) ([]Finding, error) {
	standing, err := m.records.Standing(ctx, at.Pool, []string{at.Path})
	standing = slices.DeleteFunc(standing, func(file string) bool { return file == at.Path })
	if err != nil || len(standing) == 0 || d.ReadOnly {
		return nil, err
	}
	return []Finding{{
		Kind: FindsBase, Machines: []string{called(x)}, Disk: at,
		What: fmt.Sprintf("Whatever it writes to its disk %s damages %s, which stands on it.", at, strings.Join(standing, ", ")),
		Do:   "Keep it off, and have what stands on the disk stand alone first (convert, into a layout that does).",
	}}, nil
}

// candidates are disks of the same name in all pools.
func (m *Machines) candidates(ctx context.Context, lost plan.Place) (all []plan.Place, err error) {
	pools, err := m.records.Pools(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range pools {
		disks, _, _, err := m.records.Disks(ctx, p.Name, store.DiskQuery{Search: path.Base(lost.Path), Limit: mostCandidates})
		if err != nil {
			return nil, err
		}
		for _, d := range disks {
			if path.Base(d.Path) == path.Base(lost.Path) && len(all) < mostCandidates {
				all = append(all, plan.Place{Pool: p.Name, Path: d.Path})
			}
		}
	}
	return all, nil
}

// shared finds disks that several machines write to.
func shared(all []Machine) (found []Finding) {
	users, mends := map[string][]Machine{}, map[string][]plan.Request{}
	var order []string
	for _, x := range all {
		for _, d := range x.Disks {
			if d.ReadOnly || d.File == "" && d.InPool == "" {
				continue
			}
			at := x.Host + ":" + d.File
			if d.InPool != "" {
				at = d.InPool + ":" + d.Path
			}
			if users[at] == nil {
				order = append(order, at)
			}
			users[at] = append(users[at], x)
			if d.Slot != "" {
				mends[at] = append(mends[at], plan.Request{Kind: plan.DetachDisk, Machine: called(x), Slot: d.Slot})
			}
		}
	}
	for _, at := range order {
		if by := users[at]; len(by) > 1 {
			found = append(found, Finding{
				Kind: FindsShared, Machines: names(by), What: fmt.Sprintf("They write to one disk, %s%s.", at, running(by)),
				Do:    "Never run both. Give one of them a copy of its own (machine copy), or take the disk from it.",
				Mends: mends[at],
			})
		}
	}
	return found
}

// twins finds identities and network addresses that several machines have.
func twins(all []Machine) (found []Finding) {
	for _, kind := range []struct {
		name, what string
		of         func(Machine) []string
	}{
		{FindsIdentity, "identity (UUID)", func(x Machine) []string { return []string{x.Is.UUID} }},
		{FindsAddress, "network address (MAC)", func(x Machine) (macs []string) {
			for _, n := range x.Is.Networks {
				macs = append(macs, n.MAC)
			}
			return macs
		}},
	} {
		by := map[string][]Machine{}
		var order []string
		for _, x := range all {
			for _, id := range kind.of(x) {
				if id = strings.ToLower(id); id == "" || slices.ContainsFunc(by[id], func(o Machine) bool { return called(o) == called(x) }) {
					continue
				}
				if by[id] == nil {
					order = append(order, id)
				}
				by[id] = append(by[id], x)
			}
		}
		for _, id := range order {
			if len(by[id]) > 1 {
				found = append(found, Finding{
					Kind: kind.name, Machines: names(by[id]), What: fmt.Sprintf("They have one %s, %s%s.", kind.what, id, running(by[id])),
					Do: "Give the copy a new one (machine copy --identity new), or forget the one that is not needed (machine forget).",
				})
			}
		}
	}
	return found
}

func names(all []Machine) (out []string) {
	for _, x := range all {
		if name := called(x); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// running says how many of several are not off.
func running(all []Machine) string {
	on := 0
	for _, x := range all {
		if x.State != host.Off {
			on++
		}
	}
	if on > 1 {
		return fmt.Sprintf(", and %d of them run", on)
	}
	return ""
}
