package planner

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/machine/ovf"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage"
	"bagaglio/core/storage/archive"
	"bagaglio/internal/machines"
	"bagaglio/internal/records"
)

// enveloped is a request with the envelope of the archive that it has as its source.
func (s *Planner) enveloped(ctx context.Context, r plan.Request) (plan.Request, error) {
	if !archive.Claim(r.Source.Path) {
		return r, nil
	}
	folder, err := s.folder(ctx, r.Source.Pool)
	if err != nil {
		return r, err
	}
	inside, err := archive.Open(folder, r.Source.Path)
	if err != nil {
		return r, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	all, err := inside.List(r.Source.Path)
	if err != nil {
		return r, err
	}
	var envelopes []string
	for _, info := range all {
		if path.Ext(info.Name) == ovf.Extension {
			envelopes = append(envelopes, info.Name)
		}
	}
	if len(envelopes) != 1 {
		return r, fmt.Errorf("%w: %s has %d envelopes (%s): a package has one", records.ErrInvalid, r.Source, len(envelopes), ovf.Extension)
	}
	r.Source.Path = envelopes[0]
	return r, nil
}

// preparePack plans to pack a machine.
func (s *Planner) preparePack(ctx context.Context, r plan.Request) (plan.Plan, error) {
	m, has, err := s.stayingOf(ctx, r.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	clean, err := storage.Clean(r.Destination.Path)
	if err != nil {
		return plan.Plan{}, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	if clean == disks.OwnFolder || strings.HasPrefix(clean, disks.OwnFolder+"/") {
		return plan.Plan{}, fmt.Errorf("%w: %s is a folder of Bagaglio's own: choose another name", records.ErrInvalid, disks.OwnFolder)
	}
	r.Destination = &plan.Place{Pool: r.Destination.Pool, Path: clean}
	f := plan.PackFacts{StayingFacts: has, Off: m.State == host.Off, Saved: m.State == host.Saved}
	to, err := s.folder(ctx, r.Destination.Pool)
	if err != nil {
		return plan.Plan{}, err
	}
	space, err := to.Space()
	if err != nil {
		return plan.Plan{}, err
	}
	f.Free, f.ReadOnly = space.Free, space.ReadOnly
	if _, err := to.Stat(r.Destination.Path); err == nil {
		f.There = true
	} else if !errors.Is(err, fs.ErrNotExist) {
		return plan.Plan{}, err
	}
	for _, d := range m.Disks {
		one, err := s.packedDisk(ctx, d, r.Suspend)
		if err != nil {
			return plan.Plan{}, err
		}
		f.Disks = append(f.Disks, one)
	}
	return plan.ForPack(r, f), nil
}

// packedDisk looks at a disk that goes into a package.
func (s *Planner) packedDisk(ctx context.Context, d machines.Disk, suspended bool) (f plan.PackDiskFacts, err error) {
	if f.Lies = (plan.Place{Pool: d.InPool, Path: d.Path}); d.InPool == "" {
		return plan.PackDiskFacts{}, nil
	}
	folder, err := s.watched(ctx, d.InPool, suspended)
	if err != nil {
		return f, err
	}
	r, err := disk.Open(ctx, folder, d.Path, d.Format)
	if err != nil {
		f.Problem = err
		return f, ctx.Err()
	}
	defer r.Close()
	f.Is = r.Describe()
	for _, name := range f.Is.Files {
		info, err := folder.Stat(name)
		if err != nil {
			return f, err
		}
		f.FileSize += info.Size
	}
	for off := int64(0); off < r.Size(); {
		e, err := r.Extent(off)
		if err != nil {
			f.Problem = err
			return f, ctx.Err()
		}
		if off = e.End(); e.Kind == disk.Data {
			f.Allocated += e.Len
		}
	}
	if u, ok := storage.As[storage.Usage](folder); ok {
		for _, name := range f.Is.Files {
			why, err := u.InUse(name)
			if err == nil && why != "" {
				err = fmt.Errorf("%s: %w: %s", name, step.ErrInUse, why)
			}
			f.InUse = errors.Join(f.InUse, err)
		}
	}
	return f, nil
}

// endsOfPackage are the folders of the disks of a package, and that which it goes into.
func (s *Planner) endsOfPackage(ctx context.Context, p plan.Plan) (ends step.Ends, err error) {
	ends.Pools = map[string]storage.Folder{}
	if ends.Destination, err = s.folder(ctx, p.Packed.Into.Pool); err != nil {
		return ends, err
	}
	for _, d := range p.Packed.Disks {
		if ends.Pools[d.Source.Pool], err = s.watched(ctx, d.Source.Pool, p.Request.Suspend); err != nil {
			return ends, err
		}
	}
	return ends, nil
}

// standsOn are the files of all that an image stands on, as it says itself; none where it cannot be read, for which its own plan has a check.
func (s *Planner) standsOn(ctx context.Context, at plan.Place) ([]string, error) {
	folder, err := s.inside(ctx, at, false)
	if err != nil {
		return nil, err
	}
	d, err := disk.Open(ctx, folder, at.Path, "")
	if err != nil {
		return nil, ctx.Err()
	}
	defer d.Close()
	return d.Describe().Chain, nil
}

// mostUnpacked is how many bytes a compressed file may hold of which nobody says how much that is.
const mostUnpacked = 16 << 40

// unpacks notes which disks are compressed in the package that a machine comes in, and how much they may hold: what the envelope says of the disk, and a part more
// for the tables of a format.
func (s *Planner) unpacks(ctx context.Context, r plan.Request, m *machines.Machine) error {
	if r.Machine != "" || path.Ext(r.Source.Path) != ovf.Extension {
		return nil
	}
	folder, err := s.inside(ctx, r.Source, false)
	if err != nil {
		return err
	}
	text, err := machine.Text(folder, r.Source.Path)
	if err != nil {
		return err
	}
	said, err := ovf.Look(text)
	if err != nil {
		return fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	for _, name := range said.Compressed {
		most := int64(mostUnpacked)
		if n := said.Capacities[name]; n > 0 {
			most = n + n/32 + 64<<20
		}
		for i, d := range m.Disks {
			if d.Path == path.Join(path.Dir(r.Source.Path), storage.ShownName(name)) {
				m.Disks[i].Unpacks = most
			}
		}
	}
	return nil
}

// packageOf is what speaks of the files of a package, by its envelope; nil for any other definition.
func (s *Planner) packageOf(ctx context.Context, r plan.Request) (*plan.Package, error) {
	at := r.Source
	if path.Ext(at.Path) != ovf.Extension {
		return nil, nil
	}
	folder, err := s.inside(ctx, at, false)
	if err != nil {
		return nil, err
	}
	p := &plan.Package{Capacities: map[string]int64{}, Parents: map[string]string{}, Standing: map[string][]string{}}
	text, err := machine.Text(folder, at.Path)
	if err != nil {
		return nil, err
	}
	said, err := ovf.Look(text)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	p.Lost, p.Stops = said.Lost, said.Stops
	_, way, ways, err := ovf.Choose(text, r.Deployment)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", records.ErrInvalid, err)
	}
	p.Way = way
	for _, w := range ways {
		p.Ways = append(p.Ways, plan.Way(w))
	}
	for _, x := range said.Properties {
		p.Properties = append(p.Properties, plan.Property(x))
	}
	for name, parent := range said.Parents {
		file := path.Join(path.Dir(at.Path), name)
		p.Parents[file] = path.Join(path.Dir(at.Path), parent)
		top := plan.Place{Pool: at.Pool, Path: file}
		if slices.Contains(said.Compressed, name) {
			top.Unpacks = mostUnpacked
		}
		if p.Standing[file], err = s.standsOn(ctx, top); err != nil {
			return nil, err
		}
	}
	for name, n := range said.Capacities {
		p.Capacities[path.Join(path.Dir(at.Path), name)] = n
	}
	for name, n := range said.Lengths {
		file := plan.Place{Pool: at.Pool, Path: path.Join(path.Dir(at.Path), storage.ShownName(name))}
		within, err := s.inside(ctx, file, false)
		if err != nil {
			return nil, err
		}
		info, err := within.Stat(file.Path)
		if err == nil && info.Size != n {
			p.Problem = errors.Join(p.Problem, fmt.Errorf("%s has %d bytes, and the envelope says %d", storage.Printable(name), info.Size, n))
		}
	}
	sums, err := ovf.Manifest(folder, at.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		p.Problem = err
	default:
		p.Manifest = true
	}
	for _, sum := range sums {
		p.Named = append(p.Named, path.Join(path.Dir(at.Path), sum.File))
	}
	who, err := ovf.Certificate(folder, at.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		p.Problem = errors.Join(p.Problem, err)
	default:
		p.Signed = who
	}
	return p, nil
}
