package cli

import (
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) remove() *cobra.Command {
	r := plan.Request{Kind: plan.Remove}
	var planOnly, yes bool
	c := &cobra.Command{
		Use:   "remove POOL:DISK",
		Short: "Put a disk, or a file that belongs to none, into the holding folder of its pool",
		Long: `Puts a disk with its tag and checksums into the holding folder of its pool, or a file that belongs to no disk. Nothing is removed that another disk stands on,
that the definition of a machine names, or that is in use. It comes back by undoing the job, or from the holding folder (held restore), until its time is over or it
is removed there for good (held clear).`,
		Example: `  bagaglio remove quay-store:old/ticketing.vmdk
  bagaglio pool orphans quay-store`,
		Args:              exactly(1),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if r.Source, err = place(args[0]); err != nil {
				return err
			}
			if r.Source.Pool == "" {
				return usage("%q lies in no pool: a holding folder is one of a pool", args[0])
			}
			w, err := a.worker(r.Source, r.Source)
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, r, planOnly, yes)
		},
	}
	f := c.Flags()
	f.BoolVar(
		&r.WithoutKnowing,
		"without-knowing",
		false,
		"go on though it is not known whether something stands on the disk, or which machines use it",
	)
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}

func (a *app) machineRemove() *cobra.Command {
	var leave []string
	r := plan.Request{Kind: plan.RemoveMachine}
	c := a.staying(&r, "remove HOST:NAME", "Put a machine with its disks into the holding folder", 1, func([]string) error {
		if len(leave) > 0 {
			r.Disks = map[string]plan.DiskChoice{}
		}
		for _, slot := range leave {
			r.Disks[slot] = plan.DiskChoice{Leave: true}
		}
		return nil
	})
	c.Long = `Takes a machine that is off from the list of its host, and puts its disks with its definition into the holding folders of their pools. No disk goes that another
disk stands on, or that another machine has. All of it comes back by undoing the job, until the time of what is held is over or it is removed there for good
(held clear).`
	c.Example = `  bagaglio machine remove quay:crew-roster --stop
  bagaglio machine remove quay:cargo-ledger --leave sdb`
	f := c.Flags()
	f.BoolVar(&r.Stop, "stop", false, "shut it down first, when it runs")
	f.StringSliceVar(&leave, "leave", nil, "leave a disk where it is: SLOT")
	f.BoolVar(
		&r.WithoutKnowing,
		"without-knowing",
		false,
		"go on though it is not known whether something stands on a disk, or which machines use it",
	)
	return c
}
