package plan

import (
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/disk"
)

// Trait is one property of a kind of destination, as rules. Traits are combined.
type Trait struct {
	Name, About string
	Rules       Rules
}

// Traits are those that are known.
var Traits = []Trait{
	{"names-by-uuid", "lists only files that are named by a UUID", Rules{Name: "UUIDEXT"}},
	{"machine-folders", "keeps each machine in a folder of its own", Rules{MachineFolders: true}},
	{"flat-only", "reads disks as plain files, without tables inside", Rules{Accepts: []Accepted{
		{
			Format:  "raw",
			Layouts: []string{"thin", "thick"},
		},
		{Format: "vmdk", Layouts: []string{"flat", "split-flat"}},
		{Format: "vhd", Layouts: []string{"fixed"}},
		{Format: "hdd", Layouts: []string{"plain"}},
	}}},
	{"dynamic-only", "wants images that grow with what is stored in them", Rules{Accepts: []Accepted{
		{
			Format:  "qcow2",
			Layouts: []string{"thin", "overlay"},
		},
		{Format: "vmdk", Layouts: []string{"sparse", "split-sparse", "delta"}},
		{Format: "vhd", Layouts: []string{"dynamic", "differencing"}},
		{
			Format:  "vhdx",
			Layouts: []string{"dynamic", "differencing"},
		},
		{Format: "vdi", Layouts: []string{"dynamic"}},
		{Format: "hdd", Layouts: []string{"expanding"}},
	}}},
	{"whole-mebibytes", "takes virtual sizes of whole mebibytes", Rules{Granularity: 1 << 20}},
	{"thin-only", "takes no image that is stored whole from the start", Rules{Allocation: Thin}},
	{"nothing-running", "is not for disks of machines that run", Rules{NoRunning: true}},
}

// Combine makes the rules of a destination that has all of those traits. The error is for one that is not known, and for those that leave
// nothing that the destination would accept.
func Combine(names []string) (r Rules, err error) {
	for _, name := range names {
		i := slices.IndexFunc(Traits, func(t Trait) bool { return t.Name == name })
		if i < 0 {
			var known []string
			for _, t := range Traits {
				known = append(known, t.Name)
			}
			return r, fmt.Errorf("there is no trait %q: combine some of %s", name, strings.Join(known, ", "))
		}
		t := Traits[i].Rules
		if r.Accepts, err = Narrow(r.Accepts, t.Accepts); err != nil {
			return r, fmt.Errorf("nothing is accepted by all of %s: leave one out", strings.Join(names, ", "))
		}
		r.MachineFolders, r.NoRunning = r.MachineFolders || t.MachineFolders, r.NoRunning || t.NoRunning
		r.Granularity = max(r.Granularity, t.Granularity) // one trait has it
		r.Name, r.Allocation = r.Name+t.Name, r.Allocation+t.Allocation
		r.Traits = append(r.Traits, name)
	}
	slices.Sort(r.Traits)
	if len(slices.Compact(slices.Clone(r.Traits))) < len(r.Traits) {
		return r, fmt.Errorf("a trait is named twice in %s", strings.Join(names, ", "))
	}
	return r, nil
}

// Narrow is what both accept. Empty accepts everything; the error is for two that have nothing in common.
func Narrow(a, b []Accepted) (both []Accepted, err error) {
	if len(a) == 0 || len(b) == 0 {
		return slices.Concat(a, b), nil
	}
	for _, f := range disk.Formats() {
		for _, x := range a {
			for _, y := range b {
				if x.Format != f.Name || y.Format != f.Name {
					continue
				}
				layouts := slices.Clone(y.Layouts)
				if len(x.Layouts) > 0 {
					layouts = slices.Clone(x.Layouts)
				}
				if len(x.Layouts) > 0 && len(y.Layouts) > 0 {
					layouts = slices.DeleteFunc(layouts, func(l string) bool { return !slices.Contains(y.Layouts, l) })
				}
				if len(layouts) > 0 || len(x.Layouts)+len(y.Layouts) == 0 {
					both = append(both, Accepted{f.Name, layouts})
				}
			}
		}
	}
	if len(both) == 0 {
		return nil, fmt.Errorf("what is asked for has no format and layout in common")
	}
	return both, nil
}

// Combined are the rules of traits, with what no trait says as it is in these.
func (r Rules) Combined(traits []string) (Rules, error) {
	c, err := Combine(traits)
	c.Owner, c.Mode, c.LargestDisk = r.Owner, r.Mode, r.LargestDisk
	return c, err
}
