package cli

import (
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) machineAttach() *cobra.Command {
	r := plan.Request{Kind: plan.AttachDisk}
	c := a.staying(
		&r,
		"attach HOST:NAME POOL:DISK",
		"Give a machine a disk that lies in a pool of its host",
		2,
		func(args []string) (err error) {
			r.Source, err = place(args[1])
			return err
		},
	)
	c.Long = `Gives a machine a disk that lies in a pool of its host, also while it runs where its host can do that. A disk that another machine has, or that other disks
stand on, is refused: two that write to it destroy it.`
	c.Example = `  bagaglio machine attach quay:tide-board quay-store:arrived/cargo-2.qcow2 --bus virtio`
	f := c.Flags()
	f.StringVar(&r.Bus, "bus", "", "the bus that it gets (default: that of the first disk)")
	f.StringVar(&r.Serial, "serial", "", "the serial number that it gets")
	f.BoolVar(&r.ReadOnly, "read-only", false, "for reading only")
	f.StringVar(&r.Slot, "in-place-of", "", "take the disk of this slot from the machine before, as the empty one of a fresh machine")
	return c
}

func (a *app) machineDetach() *cobra.Command {
	r := plan.Request{Kind: plan.DetachDisk}
	c := a.staying(&r, "detach HOST:NAME SLOT", "Take a disk from a machine: its files stay", 2, func(args []string) error {
		r.Slot = args[1]
		return nil
	})
	c.Long = `Takes a disk from a machine, by its slot (machine show). Its files stay where they are: nothing is deleted. A machine that runs has to let go of it.`
	c.Example = `  bagaglio machine detach quay:cargo-ledger sdc`
	return c
}

func (a *app) machineHandOver() *cobra.Command {
	var at string
	r := plan.Request{Kind: plan.HandDisk}
	use := "hand-over HOST:NAME SLOT HOST:NAME"
	c := a.staying(&r, use, "Hand a disk over to another machine, in whose folder its files are then", 3, func(args []string) error {
		r.Slot, r.To = args[1], args[2]
		if _, _, err := hostAndName(r.To); err != nil || at == "" {
			return err
		}
		to, err := place(at)
		r.Destination = &to
		return err
	})
	c.Long = `Takes a disk from a machine, by its slot, and gives it to another one. Its files go into the folder of the one that gets it, so that nobody who clears up after the
old one takes them along. A machine that runs has to let go of it.`
	c.Example = `  bagaglio machine hand-over quay:cargo-ledger sdb quay:tide-board`
	f := c.Flags()
	f.StringVar(&at, "at", "", "where its image will lie: POOL:PATH (default: in the folder of the first disk of the one that gets it)")
	f.StringVar(&r.Bus, "bus", "", "the bus that it gets (default: that of the first disk)")
	f.StringVar(&r.Serial, "serial", "", "another serial number (default: the one that it has)")
	return c
}
