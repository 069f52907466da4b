package disks

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/volumes"
)

// lookAround gathers what is to be known of a source whose files are copied as they are, or that is to be released.
func lookAround(ctx context.Context, ends step.Ends, r plan.Request, known step.Known, f *plan.SourceFacts) (err error) {
	standing := known.Standing
	if standing == nil {
		standing = standingIn(ends.Source, path.Dir(f.Opens))
	}
	if r.Family {
		if err := gather(ctx, ends.Source, standing, f); err != nil {
			return err
		}
	}
	tagged := f.Description.Chain
	for _, k := range f.Family {
		tagged = append(tagged[:len(tagged):len(tagged)], k.Path)
	}
	for _, name := range tagged {
		tag := fingerprint.TagName(name)
		if _, err := ends.Source.Stat(tag); err == nil {
			f.Tags = append(f.Tags, tag)
		}
	}
	for _, name := range slices.Concat(f.Description.Files, f.Description.Chain, f.FamilyFiles(), f.Tags) {
		info, err := ends.Source.Stat(name)
		if err != nil {
			return err
		}
		f.Files = append(f.Files, plan.FileFact{Name: name, Size: info.Size, Room: info.Room})
	}
	if err := findLinks(ends.Source, f); err != nil {
		return err
	}
	f.Root = known.SourceRoot
	if err := findStays(ends, r, known, f); err != nil {
		return err
	}
	if known.Users != nil {
		if f.Users, err = known.Users(ctx, append([]string{f.Opens}, f.Description.Files...)); err != nil {
			return err
		}
	}
	if !r.Release && !r.Replace {
		return nil
	}
	space, err := ends.Source.Space()
	if err != nil {
		return err
	}
	f.ReadOnly = space.ReadOnly
	released := f.Description.Files
	if r.Kind == plan.Copy && r.Chain != plan.ChainAlone {
		released = slices.Concat(released, f.Description.Chain, f.FamilyFiles())
	}
	released = slices.DeleteFunc(slices.Clone(released), func(name string) bool { return name != f.Opens && slices.Contains(f.Stays, name) })
	all, err := standing(ctx, released)
	for _, other := range all {
		if !slices.Contains(released, other) && !slices.Contains(f.FamilyFiles(), other) {
			f.Standing = append(f.Standing, other)
		}
	}
	return err
}

// findLinks finds those files of a source that are links.
func findLinks(folder storage.Folder, f *plan.SourceFacts) error {
	l, ok := storage.As[storage.Linker](folder)
	if !ok {
		return nil
	}
	for _, file := range f.Files {
		to, err := l.Link(file.Name)
		if err != nil {
			return err
		}
		if to != "" {
			f.Links = append(f.Links, plan.Link{Name: file.Name, To: to})
		}
	}
	return nil
}

// gather looks at the disks that stand on the source, which come along.
func gather(
	ctx context.Context,
	folder storage.Folder,
	standing func(context.Context, []string) ([]string, error),
	f *plan.SourceFacts,
) error {
	paths, err := standing(ctx, f.Description.Files)
	if err != nil {
		return err
	}
	var chains [][]string
	for _, name := range paths {
		r, err := disk.Open(ctx, folder, name, "")
		if err != nil {
			return fmt.Errorf("opening %s, which stands on the source: %w", name, err)
		}
		d := r.Describe()
		if err := r.Close(); err != nil {
			return err
		}
		f.Family = append(f.Family, plan.Kin{Path: name, Format: d.Format, Layout: d.Layout, Files: d.Files})
		chains = append(chains, d.Chain)
	}
	for i := range f.Family {
		f.Family[i].Direct = !slices.ContainsFunc(f.Family, func(k plan.Kin) bool { return slices.Contains(chains[i], k.Path) })
	}
	if _, err := (watched{folder, f.FamilyFiles()}).look(); errors.Is(err, step.ErrInUse) {
		f.InUse = err
	} else if err != nil {
		return err
	}
	return nil
}

// findStays finds the files that would go along, and lie at the destination already under the names that they would get.
func findStays(ends step.Ends, r plan.Request, known step.Known, f *plan.SourceFacts) error {
	if _, moves := storage.As[storage.Mover](ends.Destination); r.Kind != plan.Copy || r.Release && !moves {
		return nil
	}
	root, copied, _, err := plan.Copies(r, *f)
	if err != nil {
		return nil // the plan says so
	}
	for _, c := range copied {
		to := path.Join(root, c.To)
		if path.Base(c.From) != path.Base(to) {
			continue
		}
		same := r.Source.Pool != "" && r.Source.Pool == r.Destination.Pool && c.From == to ||
			known.Root != (volumes.Ground{}) && known.SourceRoot.Path(c.From) == known.Root.Path(to)
		if !same {
			if same, err = sameFolder(ends, path.Dir(c.From), path.Dir(to)); err != nil {
				return err
			}
		}
		if same {
			f.Stays = append(f.Stays, c.From)
		}
	}
	return nil
}

// sameFolder tells whether a folder of the source is one of the destination.
func sameFolder(ends step.Ends, from, to string) (bool, error) {
	b, err := ends.Destination.Stat(to)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	a, err := ends.Source.Stat(from)
	return a.ID != "" && a.ID == b.ID, err
}

// mostBeside bounds how many files of a folder are looked at.
const mostBeside = 1000

// standingIn finds the disks in a folder that stand on files.
func standingIn(folder storage.Folder, dir string) func(context.Context, []string) ([]string, error) {
	return func(ctx context.Context, on []string) (standing []string, err error) {
		infos, err := folder.List(dir)
		if errors.Is(err, errors.ErrUnsupported) {
			return nil, nil
		}
		for _, i := range infos[:min(len(infos), mostBeside)] {
			if !i.Regular || disk.Claim(i.Name) == "" || disk.Claim(i.Name) == "raw" {
				continue
			}
			r, err := disk.Open(ctx, folder, i.Name, "")
			if err != nil {
				continue // it opens on nothing
			}
			if slices.ContainsFunc(r.Describe().Chain, func(f string) bool { return slices.Contains(on, f) }) {
				standing = append(standing, i.Name)
			}
			if err := r.Close(); err != nil {
				return nil, err
			}
		}
		return standing, err
	}
}

// copyNames are the names of the files that a copy would have under a name.
func copyNames(r plan.Request, source plan.SourceFacts) func(string) []string {
	return func(name string) (names []string) {
		to := *r.Destination
		to.Path = name
		r.Destination = &to
		root, copied, _, err := plan.Copies(r, source)
		if err != nil {
			return nil // the plan says so
		}
		for _, c := range copied {
			if !c.Stays {
				names = append(names, path.Join(root, c.To))
			}
		}
		return names
	}
}

// lookAtCopy gathers what matters when files are copied as they are.
func lookAtCopy(ctx context.Context, ends step.Ends, r plan.Request, source plan.SourceFacts, f *plan.DestinationFacts) error {
	var files []disk.VerbatimFile
	root, copied, _, err := plan.Copies(r, source)
	if err != nil {
		return nil // the plan says so
	}
	copied = slices.DeleteFunc(copied, func(c plan.Copied) bool { return c.Stays })
	for _, c := range copied {
		files = append(files, disk.VerbatimFile{Name: c.From, Size: c.Size})
	}
	content, err := disk.OpenVerbatim(ends.Source, files)
	if err != nil {
		return err
	}
	f.ToCopy, _, err = disk.Allocated(ctx, content)
	if err = errors.Join(err, content.Close()); err != nil {
		return err
	}
	for _, c := range copied { // what took all of its room does so again
		if c.Thick {
			f.ToCopy = max(f.ToCopy, c.Size)
		}
	}
	if s, ok := storage.As[storage.Summer](ends.Destination); ok {
		f.Sums = s.Sums()
	}
	from, err := ends.Source.Space()
	if err != nil {
		return err
	}
	m, moves := storage.As[storage.Mover](ends.Destination)
	for _, c := range copied {
		moves = moves && m.Moves(ends.Source, c.From, path.Join(root, c.To))
	}
	f.SameStorage = moves && (from.ID != "" && from.ID == f.Space.ID || len(source.Stays) > 0)
	if r.Chain == plan.ChainAlone && source.Description.Base != "" {
		base, err := disk.Origin{Folder: ends.Destination, Name: r.Destination.Path}.Beside(source.Description.Base)
		if err == nil {
			_, err = ends.Destination.Stat(base)
		}
		f.BaseMissing = errors.Is(err, fs.ErrNotExist) || errors.Is(err, storage.ErrOutside)
	}
	return nil
}
