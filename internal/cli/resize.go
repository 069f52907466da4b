package cli

import (
	"fmt"
	"slices"
	"strings"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

func (a *app) resize() *cobra.Command {
	r := plan.Request{Kind: plan.Convert}
	var planOnly, yes bool
	c := &cobra.Command{
		Use:   "resize DISK NEW",
		Short: "Make an image with another size, with its partitions and filesystems made to fit, and prove it",
		Long: `Makes a new image with another virtual size. The partition table is written for it; where the disk becomes larger, a partition and its filesystem
take what there is more; where it becomes smaller, filesystems give what they do not use, and partitions move together. Filesystems are changed on
copies, by the system's own tools, and each of their files is compared before and after. DISK is only read.`,
		Example: `  bagaglio resize quay-store:ticketing.qcow2 quay-store:ticketing-large.qcow2 --size 200G
  bagaglio resize ./crew-roster.raw ./crew-roster-small.raw --size smallest`,
		Args:              exactly(2),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if r.Source, err = source(args[0], r.Source); err != nil {
				return err
			}
			if !r.Refits() {
				return usage("say which size: add --size LENGTH, or --size %s", smallest)
			}
			to, err := place(args[1])
			if err != nil {
				return err
			}
			w, err := a.worker(r.Source, to)
			if err != nil {
				return err
			}
			is, err := w.look(cmd.Context(), r.Source)
			if err != nil {
				return err
			}
			if r.As == "" && (isFolder(args[1]) || disk.Claim(to.Path) == "") {
				r.As = is.Format
			}
			if err := newImage(&r, args[1]); err != nil {
				return err
			}
			if r.Layout == "" && r.As == is.Format {
				r.Layout = sameLayout(is.Format, is.Layout)
			}
			return a.planAndRun(cmd.Context(), w, r, planOnly, yes)
		},
	}
	f := c.Flags()
	fitFlags(f, &r)
	f.StringVar(&r.As, "as", "", "format of the new image (default: what its name says, or that of the disk)")
	f.StringVar(&r.Layout, "layout", "", "layout of the format (default: that of the disk)")
	optionFlags(f, &r.Options)
	a.sourceFlags(f, &r.Source)
	selectionFlags(f, &r)
	f.BoolVar(&r.Replace, "replace", false, "replace what lies at the destination, once the new image is proven")
	f.BoolVar(&r.NoProof, "no-proof", false, "do not read the new image back; the outcome is then unproven")
	f.BoolVar(&r.NoTag, "no-tag", false, "put no tag beside the new image")
	asItIsFlag(f, &r)
	byRulesFlag(f, &r)
	paceFlags(c, &a.pace.speed, &a.pace.hours)
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	for flag, complete := range map[string]cobra.CompletionFunc{"as": completeFormats, "from": completeFormats, "layout": completeLayouts} {
		if err := c.RegisterFlagCompletionFunc(flag, complete); err != nil {
			panic(err) // only for a flag that does not exist
		}
	}
	return c
}

// sameLayout is a layout of a format when a disk can be made in it that stands alone; otherwise the format's own default.
func sameLayout(format, layout string) string {
	f, err := disk.Lookup(format)
	if err != nil {
		return ""
	}
	if l, err := f.Layout(layout); err != nil || l.Stands {
		return ""
	}
	return layout
}

// fitFlags are for work whose image may get another size.
func fitFlags(f *pflag.FlagSet, r *plan.Request) {
	f.Var(wish{r}, "size", "virtual size of the new image, such as 3G, or "+smallest+": what is on it is made to fit")
	f.StringVar(
		&r.Grow,
		"grow",
		"",
		"with a larger --size: number of the partition that takes it, or none (default: the last that it makes sense for)",
	)
}

// newPlaceFlag is for work on a disk whose guest may be fitted to its new place.
func newPlaceFlag(f *pflag.FlagSet, r *plan.Request) {
	f.Var(newPlace{r}, "fit-to", "change what its guest needs to start on this bus, on the copy: "+strings.Join(adapt.Buses, ", ")+
		"; with the firmware that starts it as BUS,bios or BUS,uefi")
}

// newPlace is the value of a flag for where a disk comes to.
type newPlace struct{ r *plan.Request }

func (w newPlace) String() string {
	if w.r == nil || w.r.NewPlace == nil {
		return ""
	}
	return strings.Trim(w.r.NewPlace.Bus+","+w.r.NewPlace.Firmware, ",")
}

func (w newPlace) Set(s string) error {
	w.r.NewPlace = &adapt.Wish{}
	for word := range strings.SplitSeq(s, ",") {
		switch {
		case slices.Contains(adapt.Buses, word):
			w.r.NewPlace.Bus = word
		case word == inspect.FirmwareBIOS || word == inspect.FirmwareUEFI:
			w.r.NewPlace.Firmware = word
		default:
			return fmt.Errorf("%q is no bus of disks (%s), and no firmware (bios, uefi)", word, strings.Join(adapt.Buses, ", "))
		}
	}
	return nil
}

func (w newPlace) Type() string { return "bus" }

// smallest asks for the smallest size that is possible.
const smallest = "smallest"

// wish is the value of a flag for the size that a disk is to have.
type wish struct{ r *plan.Request }

func (w wish) String() string {
	switch {
	case w.r == nil:
		return ""
	case w.r.Smallest:
		return smallest
	}
	return length{&w.r.Size}.String()
}

func (w wish) Set(s string) error {
	if s == smallest {
		w.r.Smallest, w.r.Size = true, 0
		return nil
	}
	w.r.Smallest = false
	return length{&w.r.Size}.Set(s)
}

func (w wish) Type() string { return "length" }
