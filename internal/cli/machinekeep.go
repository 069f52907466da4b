package cli

import (
	"fmt"

	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) machineKeep() *cobra.Command {
	r := plan.Request{Kind: plan.MoveMachine, Live: true, KeepEvery: 3600, Destination: &plan.Place{}}
	var planOnly, yes bool
	c := &cobra.Command{
		Use:   "keep HOST:NAME HOST",
		Short: "Keep a copy of a machine that runs up to date on another host, until it goes over",
		Args:  exactly(2),
		Long: `Keeps a copy of a machine that runs up to date on another host. Its disks are copied and proven while it goes on; what it writes is copied again and
again, and after each time the copy is whole. When the job is told so (job answer JOB now) the machine goes over: it is shut down, what was written last is
copied, and it is started there. Where its host is not to be reached any more it can be started from the copy as that is (job answer JOB without). Cancelling
the job ends it: the copy is held for a while, and the machine goes on where it is.`,
		Example: `  bagaglio machine keep lighthouse:ticketing quay --pool quay-store --every 1h --after 1GiB
  bagaglio job show 7
  bagaglio job answer 7 now`,
		ValidArgsFunction: func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 {
				return a.completeHost(cmd, nil, typed)
			}
			return a.completeMachine(cmd, args, typed)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if r.Destination.Pool == "" {
				return usage("name the pool that the copy is to go into: --pool POOL")
			}
			r.Machine, r.To = args[0], args[1]
			w, err := a.remote()
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, r, planOnly, yes)
		},
	}
	f := c.Flags()
	f.StringVar(&r.Destination.Pool, "pool", "", "the pool of the other host that the copy goes into")
	f.StringVar(&r.Destination.Path, "folder", "", "the folder in that pool (default: one that is called as the machine)")
	f.StringVar(&r.As, "as", "", "convert the disks to this format (default: what the pool's rules ask for, or as they are)")
	f.Var(seconds{&r.KeepEvery}, "every", "how often what it wrote is copied")
	f.Var(length{&r.KeepAfter}, "after", "copy it sooner, whenever so much was written: it is looked at once a minute")
	f.Var(
		seconds{&r.LongestStop},
		"longest-stop",
		fmt.Sprintf("for how long what is left may take to copy when it goes over (default %ds)", plan.UsualStop),
	)
	f.StringToStringVar(&r.Networks, "network", nil, "connect cards on the network OLD to NEW of the other host: OLD=NEW")
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}
