package cli

import (
	"os"

	"bagaglio/internal/demo"

	"github.com/spf13/cobra"
)

func (a *app) demo() *cobra.Command {
	o := demo.Options{Out: a.out, Present: printPlan}
	c := &cobra.Command{
		Use: "demo", Short: "Make a small world of disks and show the main job on it", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if o.Binary, err = os.Executable(); err != nil {
				return err
			}
			return demo.Show(cmd.Context(), o)
		},
	}
	c.Flags().BoolVar(&o.Stay, "stay", false, "keep the service and its console running afterwards")
	c.Flags().StringVar(&o.Listen, "listen", "127.0.0.1:0", "address of the service; port 0 takes a free one")
	return c
}
