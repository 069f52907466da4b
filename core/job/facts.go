package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// Ends are the folders that a request's places lie in. Destination is nil where the request has none.
type Ends struct {
	Source, Destination storage.Folder
}

// Prepare looks at both ends and makes the plan. It changes nothing. speed is what was last seen, in bytes a second, or 0.
func Prepare(ctx context.Context, ends Ends, r plan.Request, speed float64) (plan.Plan, error) {
	if err := r.Validate(); err != nil {
		return plan.Plan{}, err
	}
	facts := plan.Facts{Speed: speed}
	src, err := open(ctx, ends.Source, r.Source)
	if err != nil {
		facts.Source.Problem = explain(err)
		return plan.Make(r, facts)
	}
	defer src.Close()
	if facts.Source, err = look(ctx, ends.Source, src); err != nil {
		return plan.Plan{}, err
	}
	if warning := disguise(ends.Source, r.Source); warning != "" {
		facts.Source.Description.Warnings = append(facts.Source.Description.Warnings, warning)
	}
	if r.Kind == plan.Convert && facts.Source.Problem == nil {
		if facts.Destination, err = lookAhead(ctx, ends, r, src); err != nil {
			return plan.Plan{}, err
		}
	}
	return plan.Make(r, facts)
}

// disguise tells when a disk that is to be read in a named format looks like another one.
func disguise(folder storage.Folder, p plan.Place) string {
	if p.Format == "" {
		return ""
	}
	found, err := disk.Recognise(folder, p.Path)
	var mismatch *disk.MismatchError
	if errors.As(err, &mismatch) {
		found = mismatch.Found
	}
	if found == "" || found == p.Format {
		return ""
	}
	return fmt.Sprintf("the content looks like %s, but the disk is known or said to be %s and is read as such", found, p.Format)
}

func open(ctx context.Context, folder storage.Folder, p plan.Place) (disk.Reader, error) {
	return disk.Open(ctx, folder, p.Path, p.Format)
}

// look gathers the facts of an open source. Damage is a fact; an error means that looking itself did not work.
func look(ctx context.Context, folder storage.Folder, src disk.Reader) (f plan.SourceFacts, err error) {
	f.Description = src.Describe()
	if c, ok := src.(disk.Checker); ok {
		f.Problem, f.Checked = c.Check(ctx), true
	}
	if f.Problem == nil {
		f.Allocated, f.Problem = disk.Allocated(ctx, src)
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
func lookAhead(ctx context.Context, ends Ends, r plan.Request, src disk.Reader) (f plan.DestinationFacts, err error) {
	if f.Stored, err = disk.Count(ctx, src, disk.Units()...); err != nil {
		return f, err
	}
	name := r.Destination.Path
	if f.Space, err = ends.Destination.Space(); err != nil {
		f.Obstructed = explain(err)
		return f, nil
	}
	if clean, err := storage.Clean(name); err == nil && (clean == OwnFolder || strings.HasPrefix(clean, OwnFolder+"/")) {
		f.Obstructed = fmt.Errorf("%s is a folder of Bagaglio's own: choose another name", OwnFolder)
		return f, nil
	}
	info, err := ends.Destination.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return f, nil
	case err != nil:
		f.Obstructed = explain(err)
		return f, nil
	case info.IsDir:
		f.Obstructed = fmt.Errorf("%s is a folder: add a file name", r.Destination)
		return f, nil
	}
	f.Exists = true
	if from, err := ends.Source.Stat(r.Source.Path); err == nil && info.ID != "" {
		f.SameFile = from.ID == info.ID
	}
	f.OtherName, err = freeName(ends.Destination, name)
	return f, err
}

// freeName returns name with the first number behind it that is not taken.
func freeName(folder storage.Folder, name string) (string, error) {
	ext := path.Ext(name)
	for i := 2; ; i++ {
		other := fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), i, ext)
		if _, err := folder.Stat(other); errors.Is(err, fs.ErrNotExist) {
			return other, nil
		} else if err != nil {
			return "", err
		}
	}
}
