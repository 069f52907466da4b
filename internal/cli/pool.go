package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) pool() *cobra.Command {
	return group(
		"pool",
		"Pools: the places where disks lie",
		a.poolList(),
		a.poolShow(),
		a.poolAdd(),
		a.poolTest(),
		a.poolRules(),
		a.poolRemove(),
		a.poolReach(),
		a.poolUnreach(),
		a.poolDisks(),
		a.poolLook(),
		a.poolOrphans(),
		a.poolDrain(),
		a.poolSpread(),
	)
}

func (a *app) poolList() *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List the pools", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			pools, err := service.Pools(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(pools)
			}
			rows := [][]string{{"POOL", "HOST", "FREE", "OF", "FILESYSTEM", "RULES", "FOLDER"}}
			for _, p := range pools {
				row := []string{p.Name, p.Host, "?", "?", p.Filesystem, traitsOf(p.Rules), p.Folder}
				if p.Free != nil {
					row[2], row[3] = size(*p.Free), size(*p.Total)
				}
				if p.Problem != nil {
					row = []string{p.Name, p.Host, "-", "-", "-", traitsOf(p.Rules), *p.Problem}
				}
				rows = append(rows, row)
			}
			return table(a.out, rows)
		},
	}
	a.jsonFlag(c)
	return c
}

// traitsOf names the rules of a pool in a word or two.
func traitsOf(r plan.Rules) string {
	switch {
	case len(r.Traits) > 0:
		return strings.Join(r.Traits, ", ")
	case len(rulesRows(r)) > 0:
		return "its own"
	}
	return "any"
}

func (a *app) poolAdd() *cobra.Command {
	var host, accepts, volumes string
	var traits []string
	var largest int64
	var nested bool
	c := &cobra.Command{
		Use: "add NAME FOLDER", Short: "Add a folder of the service's computer, or of another host, as a pool", Args: exactly(2),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			n := api.NewPool{Name: args[0], Folder: args[1], Host: &host}
			if host == "local" {
				folder, err := filepath.Abs(args[1])
				if err != nil {
					return err
				}
				n.Folder = folder
			}
			rules, err := plan.Combine(traits)
			if err == nil {
				rules.Accepts, err = plan.Narrow(rules.Accepts, readAccepts(accepts))
			}
			if err != nil {
				return usage("%w", err)
			}
			rules.LargestDisk = largest
			n.Rules, n.Nested = &rules, &nested
			if volumes != "" {
				n.Volumes = &volumes
			}
			p, err := service.AddPool(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.did(p, "Pool %s: %s, %s.", p.Name, p.Folder, freeOf(p))
		}),
	}
	c.Flags().StringVar(&host, "host", "local", "that the folder is on")
	c.Flags().
		StringVar(&volumes, "volumes", "", "of the host that are its disks: lvm:GROUP, lvm:GROUP/THINPOOL or zfs:DATASET; the folder has tags and definitions then")
	c.Flags().BoolVar(&nested, "nested", false, "although the folder lies in another pool, or has one inside: disks are then listed in both")
	c.Flags().StringSliceVar(&traits, "trait", nil, "what kind of destination it is, several joined by commas: see bagaglio pool rules --help")
	c.Flags().StringVar(&accepts, "accept", "", acceptHelp)
	c.Flags().Var(length{&largest}, "largest-disk", "largest virtual size that it takes, such as 2040G")
	a.jsonFlag(c)
	return c
}

// freeOf says how much room a pool has.
func freeOf(p api.Pool) string {
	if p.Problem != nil {
		return *p.Problem
	}
	if p.Free == nil {
		return "how much is free is not known"
	}
	return fmt.Sprintf("%s of %s free", size(*p.Free), size(*p.Total))
}

func (a *app) poolRemove() *cobra.Command {
	c := &cobra.Command{
		Use: "remove NAME", Short: "Forget a pool; its files stay", Args: exactly(1), ValidArgsFunction: a.completePool,
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			if err := service.RemovePool(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"pool": args[0]}, "Pool %s is forgotten. Its files are where they were.", args[0])
		},
	}
	a.jsonFlag(c)
	return c
}

func (a *app) poolReach() *cobra.Command {
	c := &cobra.Command{
		Use:   "reach NAME PORTER FOLDER",
		Short: "Say that a pool's storage lies at a folder of another computer with a porter too",
		Long: `Says that the storage of a pool is the same that another computer with a porter has at a folder, as computers have that share storage. It is tried out: what is
written through the pool has to be read there. From then on either porter does the work of the pool, and goes on with what the other one began.`,
		Args:              exactly(3),
		ValidArgsFunction: a.completePool,
		Example:           "  bagaglio pool reach annex-store beacon /mnt/annex-store",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			pool, err := service.AddWay(cmd.Context(), args[0], api.Way{Host: args[1], Folder: args[2]})
			if err != nil {
				return err
			}
			return a.did(pool, "What is written in %s was read in %s of %s: either can do its work.", args[0], args[2], args[1])
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) poolUnreach() *cobra.Command {
	c := &cobra.Command{
		Use: "unreach NAME PORTER", Short: "Forget another way to a pool", Args: exactly(2), ValidArgsFunction: a.completePool,
		Example: "  bagaglio pool unreach annex-store beacon",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.RemoveWay(cmd.Context(), args[0], args[1]); err != nil {
				return err
			}
			return a.did(map[string]string{"pool": args[0], "porter": args[1]}, "%s is not reached over %s any more.", args[0], args[1])
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) poolOrphans() *cobra.Command {
	c := &cobra.Command{
		Use:               "orphans NAME",
		Short:             "List what belongs to nothing in a pool: files, disks that do not open, disks that no machine uses",
		Args:              exactly(1),
		ValidArgsFunction: a.completePool,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			list, err := service.AllDisks(cmd.Context(), args[0], api.ListDisksParams{Only: ptr(api.Broken)})
			if err != nil {
				return err
			}
			a.remarkList(list)
			unused, err := service.AllDisks(cmd.Context(), args[0], api.ListDisksParams{Only: ptr(api.Orphans)})
			if err != nil {
				return err
			}
			strays, err := service.Strays(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"strays": strays, "broken": list.Items, "unused": unused.Items})
			}
			rows := [][]string{{"FILE", "SIZE", "MODIFIED", "WHY"}}
			for _, f := range strays {
				rows = append(rows, []string{f.Name, size(f.Size), when(f.Modified), "belongs to no disk"})
			}
			for _, d := range list.Items {
				rows = append(rows, []string{d.Path, size(d.FileSize), when(d.Modified), d.Problem})
			}
			for _, d := range unused.Items {
				if d.Problem != "" {
					continue // it is among the broken ones
				}
				why := "no machine that is known uses it"
				if d.Orphan != nil {
					why = *d.Orphan
				}
				rows = append(rows, []string{d.Path, size(d.FileSize), when(d.Modified), why})
			}
			if len(rows) == 1 {
				a.remark("Nothing in pool %s is left over.", args[0])
				return nil
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}

// completePool offers the names of pools.
func (a *app) completePool(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 || a.configure(cmd) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	service, err := a.dial()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return names(cmd.Context(), service, ""), cobra.ShellCompDirectiveNoFileComp
}

// console prints a link that opens the console.
func (a *app) console() *cobra.Command {
	c := &cobra.Command{
		Use: "console", Short: "Print a link that opens the console once", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			link, err := service.ConsoleLink(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(link)
			}
			_, err = fmt.Fprintln(a.out, link.Url)
			return err
		},
	}
	a.jsonFlag(c)
	return c
}
