package plan

import (
	"fmt"
	"slices"
)

// StepManifest compares the files of a package with its manifest.
const StepManifest = "manifest"

// Package is what speaks of the files of a package of a machine.
type Package struct {
	Manifest bool     // there is one
	Named    []string // files that it names, in their pool
	Signed   string   // who signed it, in words
	Problem  error    // why the manifest or its certificate cannot be used
	// Lost are things that are not carried, Stops what the disks cannot be had for, in words, and Capacities the virtual sizes that it says of disks, by
	// their files in its pool.
	Lost, Stops []string
	Capacities  map[string]int64
}

// checkPackage says what speaks of the files of the package that a machine comes in.
func (w *whole) checkPackage(parts []Plan) {
	p := w.f.Package
	if p == nil {
		return
	}
	switch {
	case p.Problem != nil:
		w.check(Blocks, "manifest", fmt.Sprintf("The package cannot be relied on: %v.", p.Problem))
	case !p.Manifest:
		w.check(Warns, "manifest", "Nothing says what the files of the package were: it has no manifest.")
	default:
		w.check(
			Informs,
			"manifest",
			fmt.Sprintf("Each of the %d files that the manifest names is compared with it before anything is written.", len(p.Named)),
		)
		for _, d := range w.f.Disks {
			if d.Path != "" && !slices.Contains(p.Named, d.Path) {
				w.check(Warns, "manifest", fmt.Sprintf("The manifest does not name %s: nothing says what that was.", d))
			}
		}
	}
	for _, why := range p.Stops {
		w.check(Blocks, "package", capital(why)+".")
	}
	for _, what := range p.Lost {
		w.check(Warns, "package", "Not carried: "+what+".")
	}
	for i, d := range w.f.Disks {
		if said, ok := p.Capacities[d.Path]; ok && i < len(parts) && len(parts[i].Before) > 0 && parts[i].Before[0].VirtualSize != said {
			w.check(Warns, "package", fmt.Sprintf("The envelope says that the disk %s has %s, and it has %s.",
				d, Bytes(said), Bytes(parts[i].Before[0].VirtualSize)))
		}
	}
	if p.Signed != "" {
		w.check(
			Informs,
			"certificate",
			fmt.Sprintf("The manifest was signed by %s. Whether they are to be believed is for you to say.", p.Signed),
		)
	}
}
