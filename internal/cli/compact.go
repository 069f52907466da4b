package cli

import (
	"bagaglio/core/disk"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) compact() *cobra.Command {
	r := plan.Request{Kind: plan.Convert, Replace: true}
	var planOnly, yes bool
	c := &cobra.Command{
		Use:               "compact DISK",
		Short:             "Make a disk anew in its place, without blocks that are zero",
		Args:              exactly(1),
		ValidArgsFunction: a.completeDisk,
		Long: `Makes a disk anew in its own place, proves that, and holds the old one for a while (bagaglio held). Blocks that are all zero are not stored any more. With --layout
it becomes thin or thick. Without it, the disk stays as it is when no room would be won. It takes room for both until the old one is cleared. Shut down the machine that uses the disk first.`,
		Example: `  bagaglio compact lighthouse-store:ticketing.qcow2
  bagaglio compact ./cargo-ledger.raw --layout thick`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if r.Source, err = source(args[0], r.Source); err != nil {
				return err
			}
			to := plan.Place{Pool: r.Source.Pool, Path: r.Source.Path}
			r.Destination = &to
			w, err := a.worker(r.Source, to)
			if err != nil {
				return err
			}
			report, err := w.look(cmd.Context(), r.Source)
			if err != nil {
				return err
			}
			r.IfSmaller = r.Layout == ""
			keepOptions(&r, report.Description)
			return a.planAndRun(cmd.Context(), w, r, planOnly, yes)
		},
	}
	f := c.Flags()
	f.StringVar(&r.Layout, "layout", "", "layout of its format (default: the one that it has, or the thin one)")
	a.sourceFlags(f, &r.Source)
	f.BoolVar(&r.ClearHeld, "clear-held", false, "to make room, remove for good what the pool holds of replaced disks")
	f.BoolVar(&r.UsedOnly, "used-only", false, "give back what filesystems do not use, too")
	asItIsFlag(f, &r)
	byFlag(f, &r)
	paceFlags(c, &a.pace.speed, &a.pace.hours)
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}

// keepOptions makes a request for a disk of the same kind as the one that is there: its format, its units, and what it stands on.
func keepOptions(r *plan.Request, d disk.Description) {
	r.As = d.Format
	f, err := disk.Lookup(d.Format)
	if err != nil {
		return // the plan says so
	}
	if r.Layout == "" {
		if l, err := f.Layout(d.Layout); err == nil && !l.Thick {
			r.Layout = d.Layout
		}
	}
	l, err := f.Layout(r.Layout)
	if err != nil {
		return
	}
	if l.Stands && len(d.Chain) > 0 {
		r.Base = d.Chain[0]
	}
	for _, o := range l.Options {
		switch {
		case o.Name == "block_size" && d.BlockSize >= o.Least && d.BlockSize <= o.Most:
			r.Options.BlockSize = d.BlockSize
		case o.Name == "sector_size" && d.SectorSize > 0:
			r.Options.SectorSize = d.SectorSize
		}
	}
}

func (a *app) join() *cobra.Command {
	r := plan.Request{Kind: plan.Convert, As: "raw", Tag: plan.TagBeside}
	var planOnly, yes bool
	c := &cobra.Command{
		Use:               "join FIRST-PIECE DESTINATION",
		Short:             "Join the pieces of a disk, and check them by their tag",
		Args:              exactly(2),
		ValidArgsFunction: a.completeDisk,
		Long: `Joins the pieces that a disk was cut into for a drive that holds no long files. With the tag that lies beside them, each piece and the whole are
checked, and a piece that is damaged or missing is named. On a computer that has only standard tools: sha256sum -c NAME.SHA256SUMS and cat NAME.[0-9]* > NAME.`,
		Example: `  bagaglio join seabag:ticketing.raw.001 lighthouse-store:ticketing.raw
  bagaglio join ./ticketing.raw.001 ./ticketing.qcow2 --as qcow2`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if r.Source, err = source(args[0], r.Source); err != nil {
				return err
			}
			to, err := place(args[1])
			if err != nil {
				return err
			}
			r.Destination = &to
			w, err := a.worker(r.Source, to)
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, r, planOnly, yes)
		},
	}
	f := c.Flags()
	f.StringVar(&r.As, "as", "raw", "format of the joined disk")
	f.StringVar(&r.Layout, "layout", "", "layout of that format (default: its first)")
	f.BoolVar(&r.Replace, "replace", false, "replace what lies at the destination, once the new image is proven")
	asItIsFlag(f, &r)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}
