package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) pool() *cobra.Command {
	return group("pool", "Pools: the places where disks lie", a.poolList(), a.poolShow(), a.poolAdd(), a.poolTest(), a.poolRules(), a.poolRemove(), a.poolDisks(), a.poolOrphans(), a.poolDrain(), a.poolSpread())
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
				row := []string{p.Name, p.Host, size(p.Free), size(p.Total), p.Filesystem, traitsOf(p.Rules), p.Folder}
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
	var host, accepts string
	var traits []string
	var largest int64
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
			n.Rules = &rules
			p, err := service.AddPool(cmd.Context(), n)
			if err != nil {
				return err
			}
			a.remark("Pool %s: %s, %s.", p.Name, p.Folder, freeOf(p))
			return nil
		}),
	}
	c.Flags().StringVar(&host, "host", "local", "that the folder is on")
	c.Flags().StringSliceVar(&traits, "trait", nil, "what kind of destination it is, several joined by commas: see bagaglio pool rules --help")
	c.Flags().StringVar(&accepts, "accept", "", acceptHelp)
	c.Flags().Var(length{&largest}, "largest-disk", "largest virtual size that it takes, such as 2040G")
	return c
}

// freeOf says how much room a pool has.
func freeOf(p api.Pool) string {
	if p.Problem != nil {
		return *p.Problem
	}
	if p.Free < 0 {
		return "how much is free is not known"
	}
	return fmt.Sprintf("%s of %s free", size(p.Free), size(p.Total))
}

func (a *app) poolRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a pool; its files stay", Args: exactly(1), ValidArgsFunction: a.completePool,
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			if err := service.RemovePool(cmd.Context(), args[0]); err != nil {
				return err
			}
			a.remark("Pool %s is forgotten. Its files are where they were.", args[0])
			return nil
		},
	}
}

func (a *app) poolDisks() *cobra.Command {
	var search, only, sort string
	var descending, files bool
	c := &cobra.Command{
		Use: "disks NAME", Short: "List the disks in a pool", Args: exactly(1), ValidArgsFunction: a.completePool,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			p := api.ListDisksParams{Search: &search, Descending: &descending, Sort: (*api.ListDisksParamsSort)(&sort)}
			if only != "" {
				if p.Only = (*api.ListDisksParamsOnly)(&only); !p.Only.Valid() {
					return usage("--only takes broken, overlays, bases or orphans, not %s", only)
				}
			}
			if !p.Sort.Valid() {
				return usage("--sort takes path, virtual_size, allocated_size, file_size, room or modified, not %s", sort)
			}
			list, err := everything(cmd.Context(), service, args[0], p, false)
			if err != nil {
				return err
			}
			a.remarkList(list)
			if a.json {
				return a.printJSON(list.Disks)
			}
			return table(a.out, diskRows(list.Disks, files))
		}),
	}
	f := c.Flags()
	f.StringVar(&search, "search", "", "only those with this in their path")
	f.StringVar(&only, "only", "", "broken, overlays (that stand on others), bases (that others stand on) or orphans (that no machine uses)")
	f.StringVar(&sort, "sort", "path", "by path, virtual_size, allocated_size, file_size, room or modified")
	f.BoolVar(&descending, "descending", false, "the largest or last first")
	f.BoolVar(&files, "files", false, "show the files of each disk too")
	a.jsonFlag(c)
	return c
}

// everything asks for a list page by page, and if wanted for all files too that belong to no disk.
func everything(ctx context.Context, service *client.Service, pool string, p api.ListDisksParams, strays bool) (api.DiskList, error) {
	p.Limit, p.Offset, p.StraysOffset = ptr(1000), ptr(0), ptr(0)
	all, err := service.ListDisks(ctx, pool, p)
	for page := all; err == nil && (len(page.Disks) == *p.Limit || strays && len(page.Strays) > 0 && len(all.Strays) < all.StrayCount); {
		*p.Offset, *p.StraysOffset = len(all.Disks), len(all.Strays)
		if page, err = service.ListDisks(ctx, pool, p); err == nil {
			all.Disks, all.Strays = append(all.Disks, page.Disks...), append(all.Strays, page.Strays...)
		}
	}
	return all, err
}

func ptr[T any](v T) *T { return &v }

// remarkList says what else is to be known of a list.
func (a *app) remarkList(list api.DiskList) {
	if list.Refreshing {
		a.remark("The pool is still being looked through: this is what was known at %s.", when(list.Refreshed))
	}
	if list.Problem != nil {
		a.remark("The pool cannot be looked through (%s): this is what was known at %s.", *list.Problem, when(list.Refreshed))
	}
	if list.StrayCount > 0 {
		a.remark("%d file(s) belong to no disk: see bagaglio pool orphans.", list.StrayCount)
	}
}

// diskRows are the lines of a list of disks, each with those of its files if wanted.
func diskRows(disks []api.DiskEntry, files bool) [][]string {
	rows := [][]string{{"DISK", "FORMAT", "LAYOUT", "VIRTUAL SIZE", "ALLOCATED", "FILE SIZE", "FILES", "MACHINE", "STANDS ON", ""}}
	for _, d := range disks {
		on, remark := "", ""
		if len(d.StandsOn) > 0 {
			on = d.StandsOn[0]
		}
		if len(d.Standing) > 0 {
			remark = fmt.Sprintf("%d stand(s) on it", len(d.Standing))
		}
		if d.Orphan != nil {
			remark = strings.TrimPrefix(remark+"; "+*d.Orphan, "; ")
		}
		row := []string{d.Path, d.Format, d.Layout, size(d.VirtualSize), size(d.AllocatedSize), size(d.FileSize), fmt.Sprint(len(d.Files)), strings.Join(d.Machines, ", "), on, remark}
		if d.Problem != "" {
			row = []string{d.Path, d.Format, "-", "-", "-", size(d.FileSize), fmt.Sprint(len(d.Files)), strings.Join(d.Machines, ", "), "", "BROKEN: " + d.Problem}
		}
		rows = append(rows, row)
		if !files {
			continue
		}
		for _, f := range d.Files {
			rows = append(rows, []string{"  " + f.Name, "", "", "", size(f.Room), size(f.Size)})
		}
	}
	return rows
}

func (a *app) poolOrphans() *cobra.Command {
	c := &cobra.Command{
		Use: "orphans NAME", Short: "List what belongs to nothing in a pool: files, disks that do not open, disks that no machine uses", Args: exactly(1), ValidArgsFunction: a.completePool,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			list, err := everything(cmd.Context(), service, args[0], api.ListDisksParams{Only: ptr(api.Broken)}, true)
			if err != nil {
				return err
			}
			unused, err := everything(cmd.Context(), service, args[0], api.ListDisksParams{Only: ptr(api.Orphans)}, false)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"strays": list.Strays, "broken": list.Disks, "unused": unused.Disks})
			}
			rows := [][]string{{"FILE", "SIZE", "MODIFIED", "WHY"}}
			for _, f := range list.Strays {
				rows = append(rows, []string{f.Name, size(f.Size), when(f.Modified), "belongs to no disk"})
			}
			for _, d := range list.Disks {
				rows = append(rows, []string{d.Path, size(d.FileSize), when(d.Modified), d.Problem})
			}
			for _, d := range unused.Disks {
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
	return &cobra.Command{
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
			_, err = fmt.Fprintln(a.out, link.Url)
			return err
		},
	}
}
