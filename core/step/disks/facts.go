package disks

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"

	"github.com/google/uuid"
)

// Prepare looks at both ends and makes the plan. It changes nothing.
func Prepare(ctx context.Context, ends step.Ends, r plan.Request, known step.Known) (plan.Plan, error) {
	if err := r.Validate(); err != nil {
		return plan.Plan{}, err
	}
	if err := outsideOfOurs(r); err != nil {
		return plan.Plan{}, err
	}
	if r.Kind == plan.Remove {
		return prepareRemoval(ctx, ends, r, known)
	}
	if r.Source.IsFolder() {
		return prepareTree(ctx, ends, r, known)
	}
	facts := plan.Facts{Speeds: known.Speeds, Knowledge: known.Knowledge}
	src, err := inspect.Open(ctx, r.Source.Origin(ends.Source), r.Source.Format, r.Selection())
	if errors.Is(err, inspect.ErrNoPartition) {
		return plan.Plan{}, fmt.Errorf("%w: %w", plan.ErrRequest, err)
	}
	if err != nil {
		facts.Source.Problem = step.Explain(err)
		return plan.Make(r, facts)
	}
	defer src.Close()
	if facts.Source, err = look(ctx, ends.Source, src, disk.CheckSoon); err != nil {
		return plan.Plan{}, err
	}
	facts.Source.Shares = inspect.Shares(src)
	if _, err := (watched{ends.Source, files(src)}).look(); errors.Is(err, step.ErrInUse) {
		facts.Source.InUse = err
		_, facts.Source.Snaps = storage.As[snapshotter](ends.Source)
	}
	if facts.Source.Problem == nil {
		if err := lookBack(ends.Source, r, src, &facts.Source); err != nil {
			return plan.Plan{}, err
		}
	}
	if warning := disguise(ends.Source, r.Source); warning != "" {
		facts.Source.Description.Warnings = append(facts.Source.Description.Warnings, warning)
	}
	if facts.Other, err = lookAtOther(ctx, ends, r); err != nil {
		return plan.Plan{}, err
	}
	if r.Kind == plan.WriteBack && facts.Source.Problem == nil {
		facts.Source.Host, facts.Destination.Host = known.SourceHost, known.Host
		if facts.Device, err = lookAtDevice(ends, r, src); err != nil {
			return plan.Plan{}, err
		}
		return identified(ends, r, files(src), facts)
	}
	if r.Destination == nil || facts.Source.Problem != nil {
		return plan.Make(r, facts)
	}
	if facts.Target, err = r.TargetOf(facts.Source.Description); err != nil {
		return plan.Plan{}, err
	}
	if err := lookAround(ctx, ends, r, known, &facts.Source); err != nil {
		return plan.Plan{}, err
	}
	if err := lookAtFit(ends, r, src, &facts); err != nil {
		return plan.Plan{}, err
	}
	if r.NewPlace != nil {
		found, err := adapt.Find(ctx, src, *r.NewPlace)
		if err != nil {
			return plan.Plan{}, fmt.Errorf("looking what its guest needs in its new place: %w", err)
		}
		facts.Source.Adapt = &found
	}
	if facts.Destination, err = lookAhead(ctx, ends, r, src, facts.Source, facts.Target, known); err != nil {
		return plan.Plan{}, err
	}
	if facts.Destination.Onto, err = onto(ends, r, known); err != nil {
		return plan.Plan{}, err
	}
	if facts.Destination.Obstructed == nil {
		if err := keepingOf(ends, r, known, files(src)[0], &facts.Destination); err != nil {
			return plan.Plan{}, err
		}
	}
	facts.Destination.Rules, facts.Destination.UUID = known.Rules, uuid.NewString()
	facts.Destination.Neighbours, facts.Destination.Root = known.Neighbours, known.Root
	facts.Source.Host, facts.Destination.Host = known.SourceHost, known.Host
	return identified(ends, r, files(src), facts)
}

// identified makes the plan, and notes which files those of the source are, and which disk of a computer is written over.
func identified(ends step.Ends, r plan.Request, sources []string, facts plan.Facts) (plan.Plan, error) {
	p, err := plan.Make(r, facts)
	for _, s := range p.Steps {
		for i, u := range s.Uses {
			if facts.Device != nil && u.Writes {
				s.Uses[i].ID = facts.Device.ID
			}
			if u.Writes && facts.Device != nil || u.Pool != r.Source.Pool || !slices.Contains(sources, u.Path) {
				continue
			}
			if info, err := ends.Source.Stat(u.Path); err == nil { // otherwise the job tells
				s.Uses[i].ID = info.ID
			}
		}
	}
	return p, err
}

// onto is the disk of a computer that is read and that the new image would lie on, empty for any other. Where both are not of one computer,
// nothing of the kind is possible.
func onto(ends step.Ends, r plan.Request, known step.Known) (string, error) {
	if !r.Source.IsDevice() || known.SourceHost != known.Host {
		return "", nil
	}
	from, reads := storage.As[storage.Lying](ends.Source)
	to, lies := storage.As[storage.Lying](ends.Destination)
	if !reads || !lies {
		return "", nil
	}
	read, err := from.Disks(r.Source.Path)
	if err != nil {
		return "", err
	}
	beneath, err := to.Disks(r.Destination.Path)
	for _, d := range beneath {
		if slices.Contains(read, d) {
			return d, err
		}
	}
	return "", err
}

// look gathers the facts of an open source, and checks its tables. Damage is a fact; an error means that looking itself did not work.
func look(
	ctx context.Context,
	folder storage.Folder,
	src disk.Reader,
	check func(context.Context, disk.Reader) error,
) (f plan.SourceFacts, err error) {
	f.Description = src.Describe()
	_, f.Checked = src.(disk.Checker)
	if f.Problem = check(ctx, src); errors.Is(f.Problem, disk.ErrNotAll) { // the job looks at all of them
		f.Problem, f.Checked = nil, false
	}
	if f.Problem == nil {
		f.Allocated, f.AtLeast, f.Problem = disk.Allocated(ctx, src)
	}
	if ctx.Err() != nil {
		return f, ctx.Err()
	}
	if f.Problem != nil {
		return f, nil
	}
	f.FileSize, _, err = storage.Measure(folder, f.Description.Files)
	return f, err
}

// lookAhead gathers the facts of the destination.
func lookAhead(
	ctx context.Context,
	ends step.Ends, r plan.Request,
	src disk.Reader,
	source plan.SourceFacts,
	target plan.Target,
	known step.Known) (f plan.DestinationFacts, err error) {
	layout := target.Layout
	if layout.Name == "" { // it is only read, and can be copied all the same
		layout = target.Format.Layouts[0]
	}
	size := layout.RoundUp(src.Size(), r.Options, r.RoundTo)
	if source.Fit != nil {
		size = layout.RoundUp(source.Fit.Size, r.Options, r.RoundTo)
	}
	if f.Stored, _, err = disk.Count(ctx, src, disk.Units(size, layout, r.Options)...); err != nil {
		return f, err
	}
	if layout.Compresses && r.Kind == plan.Convert {
		if f.Shrinks, err = shrinks(ctx, src); err != nil {
			return f, err
		}
	}
	name := r.Destination.Path
	if f.Space, err = ends.Destination.Space(); err != nil {
		f.Obstructed = step.Explain(err)
		return f, nil
	}
	if known.Facts != nil && known.Facts.Filesystem == f.Space.Kind { // which were tried out
		f.Space.Holes = known.Facts.Holes
	}
	if clean, err := storage.Clean(name); err == nil && (clean == OwnFolder || strings.HasPrefix(clean, OwnFolder+"/")) {
		f.Obstructed = fmt.Errorf("%s is a folder of Bagaglio's own: choose another name", OwnFolder)
		return f, nil
	}
	held, err := ListHeld(ends.Destination)
	if err != nil {
		f.Obstructed = step.Explain(err)
		return f, nil
	}
	for _, h := range held {
		f.Held += h.Room
	}
	look := ahead{
		ends:             ends,
		request:          r,
		source:           source,
		DestinationFacts: &f,
		names:            func(name string) []string { return layout.FileNames(name, size, r.Options) },
	}
	if r.Kind == plan.Copy {
		look.names = copyNames(r, source)
		if err := lookAtCopy(ctx, ends, r, source, &f); err != nil {
			return f, err
		}
	}
	if layout.Gathers {
		look.fitting = layout.FileNames(name, layout.LimitFor(r.Options), r.Options)
	}
	if r.Base != "" {
		f.Base = look.base(ctx)
	}
	if err := look.obstacles(ctx); err != nil {
		return f, err
	}
	return f, look.underneath(ctx, known.StandingThere)
}

// ahead looks at what lies where the files of the new image are to be.
type ahead struct {
	*plan.DestinationFacts
	ends    step.Ends
	request plan.Request
	source  plan.SourceFacts
	names   func(name string) []string // of the files of an image
	fitting []string                   // names of files that would be taken for a part of it
}

// obstacles finds what lies where the new files will.
func (a *ahead) obstacles(ctx context.Context) error {
	name := a.request.Destination.Path
	files := a.names(name)
	info, err := a.ends.Destination.Stat(name)
	if err == nil && info.IsDir && !slices.ContainsFunc(files, func(f string) bool { return strings.HasPrefix(f, name+"/") }) {
		a.Obstructed = fmt.Errorf("%s is a folder: add a file name", a.request.Destination)
		return nil
	}
	sources, err := a.sources()
	if err != nil {
		return err
	}
	for _, file := range files {
		info, err := a.ends.Destination.Stat(file)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			a.Obstructed = step.Explain(err)
			return nil
		default:
			a.Exists = true
			if err := inUse(a.ends.Destination, file); a.InUse == nil && errors.Is(err, step.ErrInUse) {
				a.InUse = err
			}
			if name, ok := sources[info.ID]; ok {
				a.SameFile = name
			}
		}
	}
	if a.Leftover, err = a.leftover(files); err != nil || !a.Exists && len(a.Leftover) == 0 {
		return err
	}
	a.Others = a.others(ctx, files)
	a.OtherName, err = freeName(a.ends.Destination, name, a.names)
	return err
}

// underneath finds the disks that stand on what would be replaced. One that goes away itself does not count.
func (a *ahead) underneath(ctx context.Context, standing func(context.Context, []string) ([]string, error)) error {
	if !a.Exists || !a.request.Replace {
		return nil
	}
	if standing == nil {
		standing = standingIn(a.ends.Destination, path.Dir(a.request.Destination.Path))
	}
	replaced := append(a.names(a.request.Destination.Path), a.Others...)
	all, err := standing(ctx, replaced)
	for _, name := range all {
		goes := a.request.Release && a.request.Source.Pool == a.request.Destination.Pool &&
			(name == a.source.Opens || slices.Contains(a.source.FamilyFiles(), name))
		if !goes && !slices.Contains(replaced, name) {
			a.Standing = append(a.Standing, name)
		}
	}
	return err
}

// leftover are files that would be taken for a part of the image.
func (a *ahead) leftover(files []string) (names []string, err error) {
	if a.fitting == nil {
		return nil, nil
	}
	infos, err := a.ends.Destination.List(path.Dir(a.request.Destination.Path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, i := range infos {
		if slices.Contains(a.fitting, i.Name) && !slices.Contains(files, i.Name) {
			names = append(names, i.Name)
		}
	}
	return names, err
}

// sources are the source's files, and those of what comes along, by their identities.
func (a *ahead) sources() (map[string]string, error) {
	names := map[string]string{}
	for _, name := range slices.Concat(a.source.Description.Files, a.source.Description.Chain, a.source.FamilyFiles()) {
		info, err := a.ends.Source.Stat(name)
		if err != nil {
			return nil, err
		}
		if info.ID != "" {
			names[info.ID] = name
		}
	}
	return names, nil
}

// others are the files of the disk that lies at the destination which the new image does not have.
func (a *ahead) others(ctx context.Context, files []string) (others []string) {
	there, err := disk.Open(ctx, a.ends.Destination, a.request.Destination.Path, "")
	if err != nil {
		return nil // no disk: then it is the file alone
	}
	defer there.Close()
	for _, name := range there.Describe().Files {
		if !slices.Contains(files, name) {
			others = append(others, name)
		}
	}
	return others
}

func (a *ahead) base(ctx context.Context) *plan.BaseFacts {
	base, err := openBase(ctx, a.ends.Destination, a.request)
	if err != nil {
		return &plan.BaseFacts{Problem: step.Explain(err)}
	}
	defer base.Close()
	d := base.Describe()
	return &plan.BaseFacts{Description: d, Written: slices.ContainsFunc(a.names(a.request.Destination.Path), func(f string) bool {
		return slices.Contains(append(d.Files, d.Chain...), f)
	})}
}

// openBase opens what the new image is to stand on.
func openBase(ctx context.Context, folder storage.Folder, r plan.Request) (disk.Reader, error) {
	name, err := storage.Clean(r.Base)
	if err != nil {
		return nil, err
	}
	return disk.Open(ctx, folder, name, "")
}

// freeName returns name with the first number behind it for which no file of an image is there.
func freeName(folder storage.Folder, name string, files func(string) []string) (string, error) {
	ext := path.Ext(name)
	same := files(name) // those that do not go by the name are there under any
next:
	for i := 2; ; i++ {
		other := fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), i, ext)
		for _, file := range append(files(other), other) {
			if slices.Contains(same, file) {
				continue
			}
			if _, err := folder.Stat(file); err == nil {
				continue next
			} else if !errors.Is(err, fs.ErrNotExist) {
				return "", err
			}
		}
		return other, nil
	}
}
