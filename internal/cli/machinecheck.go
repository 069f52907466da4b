package cli

import (
	"errors"
	"fmt"
	"strings"

	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) machineCheck() *cobra.Command {
	c := &cobra.Command{
		Use:               "check [HOST]",
		Short:             "Look for what is wrong with machines, and say what to do about it",
		Args:              between(0, 1),
		ValidArgsFunction: a.completeHost,
		Long: `Looks for disks that are not where a definition says, and where disks of that name are; for disks that do not open, disks that several machines write to, identities and
network addresses that several machines have, and definitions that cannot be read. Nothing is changed. The exit code is 1 where something is wrong.`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			found, err := service.MachineFindings(cmd.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			for _, h := range found.Away {
				a.remark("Host %s could not be asked: %s", h.Host, h.Why)
			}
			if a.json {
				err = a.printJSON(found.Items)
			} else {
				for _, f := range found.Items {
					text := strings.Join(f.Machines, ", ") + "\n  " + f.What + "\n"
					if f.Candidates != nil {
						for _, p := range *f.Candidates {
							text += "  - " + p.String() + "\n"
						}
					}
					text += "  " + f.Do + "\n"
					if f.Mends != nil {
						for _, r := range *f.Mends {
							text += "    " + commandOf(r) + "\n"
						}
					}
					if _, err := fmt.Fprintln(a.out, text); err != nil {
						return err
					}
				}
			}
			switch {
			case err != nil:
			case len(found.Items) > 0:
				err = told(errors.New("something is wrong with machines"))
			case len(found.Away) == 0:
				a.remark("Nothing is wrong with any machine, as far as is looked.")
			}
			return err
		}),
	}
	a.jsonFlag(c)
	return c
}
