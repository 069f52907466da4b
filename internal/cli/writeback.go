package cli

import (
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) writeBack() *cobra.Command {
	r := plan.Request{Kind: plan.WriteBack}
	var planOnly, yes bool
	c := &cobra.Command{
		Use:   "write-back IMAGE DEVICE",
		Short: "Write an image onto a physical disk, over all that is on it, and prove it",
		Long: `Writes an image onto a physical disk of the computer that the service runs on, or of this one on the spot. All that is on the disk is lost: it is
refused while anybody uses it, and has to be confirmed by its serial number (by its size in bytes where it tells none). What its first and last MiB held
is saved before. Then it is read back from the disk. The partition table is made to reach to the end of a larger one.`,
		Example: `  bagaglio write-back quay-store:gate-kiosk.qcow2 local:/dev/sdb --confirm-serial K7-2204
  bagaglio write-back ./gate-kiosk.qcow2 /dev/sdb --confirm-serial K7-2204 --differing-only`,
		Args:              exactly(2),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if r.Source, err = source(args[0], r.Source); err != nil {
				return err
			}
			to, err := place(args[1])
			if err != nil {
				return err
			}
			if !to.IsDevice() {
				return usage("%q is no device: write HOST:/dev/NAME, or /dev/NAME for one of this computer", args[1])
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
	f.StringVar(
		&r.ConfirmSerial,
		"confirm-serial",
		"",
		"the serial number of the disk that is written over, or its size in bytes where it tells none",
	)
	f.BoolVar(&r.DifferingOnly, "differing-only", false, "write only what is not the same there")
	f.StringVar(&r.Wipe, "wipe", "", "wipe what the image does not reach of the disk: zeros, or discard where the disk can give it back")
	a.sourceFlags(f, &r.Source)
	f.BoolVar(&r.NoProof, "no-proof", false, "do not read the disk back; the outcome is then unproven")
	asItIsFlag(f, &r)
	paceFlags(c, &a.pace.speed, &a.pace.hours)
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}
