package carry

import (
	"context"
	"slices"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
)

// files are those of a disk, and of what it stands on, copied as they are.
type files struct {
	plan.Disk
	ends Ends
}

func from(c plan.Copied) string { return c.From }
func to(c plan.Copied) string   { return c.To }

// named are the files that are copied, under their names on one side.
func (f files) named(name func(plan.Copied) string) (out []disk.VerbatimFile) {
	for _, c := range f.Copied {
		if !c.Stays {
			out = append(out, disk.VerbatimFile{Name: name(c), Size: c.Size, Thick: c.Thick})
		}
	}
	return out
}

func (f files) Open(context.Context) (disk.Reader, error) {
	return disk.OpenVerbatim(f.ends.Source, f.named(from))
}
func (f files) Dir() string { return f.Root }
func (f files) Size() int64 { return disk.VerbatimSize(f.named(to)) }

// Guest tells whether the one file is what a guest sees; what a copy proves is files all the same.
func (f files) Guest() bool { return false }

func (f files) Create(t disk.Target) (disk.Writer, error) {
	return disk.Verbatim(f.named(to)).Create(t)
}

func (f files) Resume(t disk.Target, given func(yield func(disk.Written, error) bool)) (disk.Writer, error) {
	return disk.Resume(disk.Verbatim(f.named(to)), t, given)
}

func (f files) Made(context.Context) (disk.Reader, error) {
	return disk.OpenVerbatim(storage.Fresh(storage.Sub(f.ends.Destination, f.ends.Staging)), f.named(to))
}

func (f files) Own([]string) (own []string) {
	for _, c := range f.Copied {
		if slices.Contains(f.Disk.Own, c.From) {
			own = append(own, c.To)
		}
	}
	return own
}
