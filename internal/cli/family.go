package cli

import (
	"strings"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) family() *cobra.Command {
	c := &cobra.Command{
		Use:   "family POOL:DISK",
		Short: "Show what a disk stands on, and all that stands on that, as a tree",
		Long: `Shows a disk with all that it stands on, and all that stands on any of those, as a tree: below each what stands on it, with the machines that name it. As of when
the pool was looked through last. What others stand on is not to be written to, moved or removed without them.`,
		Example:           `  bagaglio family quay-store:ticketing/ticketing.qcow2`,
		Args:              exactly(1),
		ValidArgsFunction: a.completeDisk,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			at, err := place(args[0])
			if err != nil {
				return err
			}
			if at.Pool == "" {
				return usage("%q lies in no pool", args[0])
			}
			family, err := service.Family(cmd.Context(), at.Pool, at.Path)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(family)
			}
			for _, h := range family.Away {
				a.remark("Host %s cannot be asked (%s): what its machines name is not known.", h.Host, h.Why)
			}
			rows := [][]string{{"DISK", "FORMAT", "LAYOUT", "ROOM", "MACHINES", ""}}
			return table(a.out, append(rows, kinRows(family.Items, at.Path, "", "")...))
		}),
	}
	a.jsonFlag(c)
	return c
}

// kinRows are those that stand on a base, each with those that stand on it; asked is the disk that was asked for.
func kinRows(family []api.Kin, asked, base, indent string) (rows [][]string) {
	for _, k := range family {
		if (k.Base == nil) != (base == "") || k.Base != nil && *k.Base != base {
			continue
		}
		name, remark := k.Path, k.Problem
		switch {
		case k.Pool != nil:
			name = *k.Pool + ":" + name
		case k.Path == asked:
			name += " *"
		}
		name = indent + name
		if k.Called != nil {
			remark = strings.TrimSuffix("“"+*k.Called+"”; "+remark, "; ")
		}
		rows = append(rows, []string{name, k.Format, k.Layout, size(k.Room), strings.Join(k.Machines, ", "), remark})
		if k.Pool == nil {
			rows = append(rows, kinRows(family, asked, k.Path, indent+"  ")...)
		}
	}
	return rows
}
