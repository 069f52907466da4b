package plan

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"bagaglio/core/disk"
)

// Rules are what a pool accepts. The zero value accepts everything. Sizes are in bytes.
type Rules struct {
	Traits      []string   `json:"traits,omitempty"`       // that they were combined of
	Accepts     []Accepted `json:"accepts,omitempty"`      // empty for all formats
	Allocation  string     `json:"allocation,omitempty"`   // Thin, Thick, or empty for both
	LargestDisk int64      `json:"largest_disk,omitempty"` // virtual size
	Granularity int64      `json:"granularity,omitempty"`  // the virtual size is a multiple of it
	// Name is the pattern of file names: NAME stands for the name without extension, MACHINE for the machine's, UUID for a fresh one, and
	// EXT for the extension of the format. Empty for any.
	Name string `json:"name,omitempty"`
	// MachineFolders asks for a folder for each machine.
	MachineFolders bool   `json:"machine_folders,omitempty"`
	Owner          string `json:"owner,omitempty"`      // of files, as numbers UID:GID
	Mode           string `json:"mode,omitempty"`       // of files, octal
	NoRunning      bool   `json:"no_running,omitempty"` // disks of running machines may not lie there
}

// Accepted is a format that a pool accepts, in all layouts or in those that are named.
type Accepted struct {
	Format  string   `json:"format"`
	Layouts []string `json:"layouts,omitempty"`
}

// How an image takes its room.
const (
	Thin  = "thin"
	Thick = "thick"
)

var (
	ownerForm = regexp.MustCompile(`^\d{1,9}:\d{1,9}$`)
	modeForm  = regexp.MustCompile(`^0?[0-7]{3}$`)
)

// Validate returns an error for rules that make no sense.
func (r Rules) Validate() error {
	for _, a := range r.Accepts {
		f, err := disk.Lookup(a.Format)
		if err != nil {
			return err
		}
		for _, name := range a.Layouts {
			if _, err := f.Layout(name); err != nil {
				return err
			}
		}
	}
	switch {
	case r.Allocation != "" && r.Allocation != Thin && r.Allocation != Thick:
		return fmt.Errorf("allocation %q is neither %s nor %s", r.Allocation, Thin, Thick)
	case r.LargestDisk < 0 || r.Granularity < 0 || r.Granularity > 1<<40:
		return errors.New("sizes in rules are not negative, and the granularity is at most 1 TiB")
	case r.Name != "" && (strings.Contains(r.Name, "/") || !strings.Contains(r.Name, "UUID") && !strings.Contains(r.Name, "NAME")):
		return fmt.Errorf("the name pattern %q is for a file, and has NAME or UUID in it", r.Name)
	case r.Owner != "" && !ownerForm.MatchString(r.Owner):
		return fmt.Errorf("the owner %q is written as numbers, UID:GID", r.Owner)
	case r.Mode != "" && !modeForm.MatchString(r.Mode):
		return fmt.Errorf("the mode %q is written octal, such as 0640", r.Mode)
	}
	return nil
}

// FileMode is the mode that files are to have, 0 when that is free.
func (r Rules) FileMode() uint32 {
	n, _ := strconv.ParseUint(r.Mode, 8, 32) // checked by Validate
	return uint32(n)
}

// Accept tells whether a layout may lie in the pool.
func (r Rules) Accept(format string, l disk.Layout) bool {
	if r.Allocation == Thin && l.Thick || r.Allocation == Thick && !l.Thick {
		return false
	}
	for _, a := range r.Accepts {
		if a.Format == format && (len(a.Layouts) == 0 || slices.Contains(a.Layouts, l.Name)) {
			return true
		}
	}
	return len(r.Accepts) == 0
}

// Choices are the layouts that may lie in the pool and stand alone, the first the one to take when nothing else is asked for.
func (r Rules) Choices() (choices []Accepted) {
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			if !l.Stands && r.Accept(f.Name, l) {
				choices = append(choices, Accepted{f.Name, []string{l.Name}})
			}
		}
	}
	return choices
}

const uuidForm = `[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}`

// Fits tells whether a file name keeps to the pattern, with the extension of its format.
func (r Rules) Fits(name, ext string) bool {
	if r.Name == "" {
		return true
	}
	form := regexp.QuoteMeta(r.Name)
	for part, means := range map[string]string{"UUID": uuidForm, "NAME": `.+`, "MACHINE": `.+`, "EXT": regexp.QuoteMeta(ext)} {
		form = strings.ReplaceAll(form, part, means)
	}
	return regexp.MustCompile("^" + form + "$").MatchString(path.Base(name))
}

// Fitting makes a name that keeps to the pattern. machine may be empty, then the disk's own name stands for it.
func (r Rules) Fitting(name, machine, uuid, ext string) string {
	if r.Name == "" {
		return name
	}
	plain := strings.TrimSuffix(path.Base(name), path.Ext(name))
	if machine == "" {
		machine = plain
	}
	parts := strings.NewReplacer("UUID", uuid, "MACHINE", machine, "EXT", ext, "NAME", plain) // what is put in is not looked at again
	return path.Join(path.Dir(name), parts.Replace(r.Name))
}
