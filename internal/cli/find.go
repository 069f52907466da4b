package cli

import (
	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) find() *cobra.Command {
	c := &cobra.Command{
		Use:   "find TEXT",
		Short: "Find what has a text in its name: pools, hosts, machines, disks, jobs, routines",
		Args:  exactly(1),
		Example: `  bagaglio find ticketing
  bagaglio find tide --json`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			found, err := service.Find(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(found)
			}
			rows := [][]string{{"KIND", "NAME", "WHAT IT IS"}}
			for _, hit := range found.Items {
				rows = append(rows, []string{string(hit.Kind), hit.Name, deref(hit.Note)})
			}
			if found.Away != nil {
				a.remark("These hosts could not be asked for their machines: %s.", *found.Away)
			}
			if found.More {
				a.remark("There is more of some kinds: say more of the name.")
			}
			if len(found.Items) == 0 {
				a.remark("Nothing has %q in its name.", args[0])
				return nil
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}
