package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/storage/archive"
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
	// Parents are the disks that others stand on, by those, both by their files in its pool; and Standing tells which disks do so by what they say themselves.
	Parents  map[string]string
	Standing map[string][]string
	// Way is the way in which it is deployed, and Ways are all, where there are several. Properties are what it asks for.
	Way        string
	Ways       []Way
	Properties []Property
}

// Way is one of the ways in which a package can be deployed.
type Way struct{ ID, Label string }

// Property is something that the guest of a package asks for, with the value that it has where nobody says otherwise.
type Property struct {
	Key, Label, Value string
	Secret            bool
}

// packageExtension is that of envelopes of packages.
const packageExtension = ".ovf"

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
			if d.Path != "" && !slices.Contains(p.Named, d.Path) && !slices.Contains(p.Named, archive.FirstChunk(d.Path)) {
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
	for _, d := range w.f.Disks {
		if parent := p.Parents[d.Path]; parent != "" && !slices.Contains(p.Standing[d.Path], parent) {
			w.check(Blocks, "package", fmt.Sprintf("The envelope says that %s stands on %s, and the image does not say so: "+
				"what it has by itself is not its content.", d, parent))
		}
	}
	w.checkWays(p)
	w.checkProperties(p)
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

// checkWays says in which way the package is deployed, and offers the others.
func (w *whole) checkWays(p *Package) {
	var others []Remedy
	for _, way := range p.Ways {
		if way.ID != p.Way && len(others) < mostOffered {
			others = append(others, remedy("Deploy it as "+cmp.Or(way.Label, way.ID), map[string]any{"deployment": way.ID}))
		}
	}
	if len(others) > 0 {
		w.check(
			Informs,
			"deployment",
			fmt.Sprintf("The package can be deployed in %d ways, and is in the way %s.", len(p.Ways), p.Way),
			others...)
	}
}

// checkProperties asks for the values of properties. What is given stands in the notes of the machine: nobody hands it to the guest.
func (w *whole) checkProperties(p *Package) {
	var missing, secret []string
	for _, x := range p.Properties {
		value, given := w.r.Properties[x.Key]
		if value = cmp.Or(value, x.Value); x.Secret {
			secret = append(secret, x.Key)
		} else if value == "" && !given {
			missing = append(missing, strings.TrimSpace(x.Key+" "+x.Label))
		}
	}
	for key := range w.r.Properties {
		if !slices.ContainsFunc(p.Properties, func(x Property) bool { return x.Key == key }) {
			w.check(Blocks, "properties", fmt.Sprintf("The package asks for no property %s.", key))
		}
	}
	if len(missing) > 0 {
		w.check(
			Warns,
			"properties",
			fmt.Sprintf("It asks for properties that nobody has given (%s): give them (--property KEY=VALUE).", strings.Join(missing, ", ")),
		)
	}
	if len(secret) > 0 {
		w.check(
			Warns,
			"properties",
			fmt.Sprintf("It asks for secrets, which are written nowhere (%s): give them to its guest yourself.", strings.Join(secret, ", ")),
		)
	}
	if notes := w.propertyNotes(); notes != "" {
		w.check(Informs, "properties", "The values of its properties stand in its notes: its guest does not get them by itself.")
	}
}

// propertyNotes are lines with the values of properties, empty where there are none.
func (w *whole) propertyNotes() string {
	if w.f.Package == nil {
		return ""
	}
	var lines []string
	for _, x := range w.f.Package.Properties {
		if value := cmp.Or(w.r.Properties[x.Key], x.Value); value != "" && !x.Secret {
			lines = append(lines, x.Key+" = "+value)
		}
	}
	return strings.Join(lines, "\n")
}
