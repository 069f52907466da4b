package cli

import (
	"context"
	"fmt"
	"strings"

	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) capture() *cobra.Command {
	r := plan.Request{Kind: plan.Convert}
	var planOnly, yes, whole bool
	var on machineOf
	c := &cobra.Command{
		Use:   "capture DEVICE DESTINATION",
		Short: "Make an image of a physical disk, and prove it",
		Long: `Makes an image of a physical disk, and proves it. The partition table, boot code and all partitions travel, but for those that are left out;
of filesystems only what they use is read, where their map of that can be relied on. The receipt tells which. A DEVICE is written HOST:/dev/NAME, or
/dev/NAME on the spot.`,
		Example: `  bagaglio capture local:/dev/sdb quay-store:gate-kiosk.qcow2
  bagaglio capture /dev/sdb ./gate-kiosk.qcow2 --without data
  bagaglio capture local:/dev/sdb lamp-room: --machine lighthouse --name gate-kiosk --start`,
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
			if on.host != "" {
				return a.captureMachine(cmd.Context(), r, on, args[1], planOnly, yes)
			}
			if r.As == "" && isFolder(args[1]) {
				r.As = "qcow2"
			}
			if err := newImage(&r, args[1]); err != nil {
				return err
			}
			if err := earlierOf(&r); err != nil {
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
	f.BoolVar(
		&r.Dying,
		"dying",
		false,
		"the disk fails: read what reads well first, each place once; a map of it lies beside the image, and a later capture goes on",
	)
	f.StringVar(
		&r.GoOnFrom,
		"go-on-from",
		"",
		"with --dying: take what this earlier image has, in the destination's pool with its map beside it, and try the rest again",
	)
	fitFlags(f, &r)
	newPlaceFlag(f, &r)
	f.StringVar(
		&r.InUse,
		"in-use",
		"",
		"read a disk that is in use: freeze (its filesystems, meanwhile), keep-up (read again what is written meanwhile, and freeze only for the last of that) or as-it-is (files that are written meanwhile are torn)",
	)
	f.IntVar(
		&r.LongestFreeze,
		"longest-freeze",
		0,
		fmt.Sprintf("with --in-use freeze and keep-up: seconds that filesystems are frozen at most (default %d)", plan.UsualFreeze),
	)
	f.StringVar(
		&r.Tell,
		"tell",
		"",
		"with --in-use freeze and keep-up: a program in /etc/bagaglio/hooks of the disk's computer that is run before and afterwards, and "+
			"when a machine takes the computer's place",
	)
	f.BoolVar(
		&r.Recopy,
		"recopy",
		false,
		"with --in-use as-it-is: read the disk again, and copy what differs, until nothing does or five times",
	)
	f.StringVar(
		&on.host,
		"machine",
		"",
		"make a machine of it on this host, with what the computer has; DESTINATION is then a pool of that host, or a folder in it",
	)
	f.StringVar(&on.name, "name", "", "with --machine: what the machine is called (default: as the computer)")
	f.BoolVar(&on.fit, "fit", false, "with --machine: change what its guest needs to start there, on the copy")
	f.BoolVar(&on.start, "start", false, "with --machine: start it, and see it come up")
	f.IntVar(&on.within, "within", 0, "with --start: seconds that it has to come up")
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
	byFlag(f, &r)
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

// machineOf is what is made of a captured disk besides its image.
type machineOf struct {
	host, name string
	fit, start bool
	within     int
}

// captureMachine captures a disk into a machine on a host.
func (a *app) captureMachine(ctx context.Context, captured plan.Request, on machineOf, to string, planOnly, yes bool) error {
	pool, folder, ok := strings.Cut(to, ":")
	if !ok || onTheSpot(to) {
		return usage("a machine's disk goes into a pool of its host: write POOL: or POOL:FOLDER, and not %q", to)
	}
	r := plan.Request{
		Kind:          plan.CopyMachine,
		Source:        captured.Source,
		To:            on.host,
		Destination:   &plan.Place{Pool: pool, Path: strings.Trim(folder, "/")},
		Name:          on.name,
		Fit:           on.fit,
		Start:         on.start,
		Within:        on.within,
		As:            captured.As,
		Layout:        captured.Layout,
		Options:       captured.Options,
		UsedOnly:      captured.UsedOnly,
		Without:       captured.Without,
		Size:          captured.Size,
		Smallest:      captured.Smallest,
		Grow:          captured.Grow,
		InUse:         captured.InUse,
		LongestFreeze: captured.LongestFreeze, Tell: captured.Tell,
		Recopy:     captured.Recopy,
		NoTag:      captured.NoTag,
		PastDamage: captured.PastDamage,
	}
	w, err := a.remote()
	if err != nil {
		return err
	}
	return a.planAndRun(ctx, w, r, planOnly, yes)
}
