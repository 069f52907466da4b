package cli

import (
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) capture() *cobra.Command {
	r := plan.Request{Kind: plan.Convert}
	var planOnly, yes, whole bool
	c := &cobra.Command{
		Use:   "capture DEVICE DESTINATION",
		Short: "Make an image of a physical disk, and prove it",
		Long: `Makes an image of a physical disk, and proves it. The partition table, boot code and all partitions travel, but for those that are left out;
of filesystems only what they use is read, where their map of that can be relied on. The receipt tells which. A DEVICE is written HOST:/dev/NAME, or
/dev/NAME on the spot.`,
		Example: `  bagaglio capture local:/dev/sdb quay-store:gate-kiosk.qcow2
  bagaglio capture /dev/sdb ./gate-kiosk.qcow2 --without data`,
		Args: exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if r.Source, err = place(args[0]); err != nil {
				return err
			}
			if !r.Source.IsDevice() {
				return usage(
					"%q is no device: write HOST:/dev/NAME, or /dev/NAME for one of this computer; an image becomes another one by bagaglio convert",
					args[0],
				)
			}
			r.UsedOnly = !whole
			if r.As == "" && isFolder(args[1]) {
				r.As = "qcow2"
			}
			if err := newImage(&r, args[1]); err != nil {
				return err
			}
			w, err := a.worker(r.Source, *r.Destination)
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, r, planOnly, yes)
		},
	}
	f := c.Flags()
	f.StringVar(&r.As, "as", "", "format of the image (default: what the destination's name says)")
	f.StringVar(&r.Layout, "layout", "", "layout of the format (default: its first)")
	optionFlags(f, &r.Options)
	f.StringSliceVar(&r.Without, "without", nil, "leave out this partition, by its number, name or label; it reads as zeros")
	fitFlags(f, &r)
	f.BoolVar(&whole, "whole", false, "read all of it, also what filesystems do not use")
	f.BoolVar(&r.Replace, "replace", false, "replace what lies at the destination, once the new image is proven")
	f.BoolVar(&r.NoProof, "no-proof", false, "do not read the new image back; the outcome is then unproven")
	f.BoolVar(&r.NoTag, "no-tag", false, "put no tag beside the new image")
	f.BoolVar(
		&r.PastDamage,
		"past-damage",
		false,
		"go on where the disk cannot be read, with zeros in the place; the job then ends with damage",
	)
	byRulesFlag(f, &r)
	paceFlags(c, &a.pace.speed, &a.pace.hours)
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	for flag, complete := range map[string]cobra.CompletionFunc{"as": completeFormats, "layout": completeLayouts} {
		if err := c.RegisterFlagCompletionFunc(flag, complete); err != nil {
			panic(err) // only for a flag that does not exist
		}
	}
	return c
}
