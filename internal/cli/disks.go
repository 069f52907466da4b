package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

// mostMissed is how many files that could not be looked at are named one by one.
const mostMissed = 10

func (a *app) poolDisks() *cobra.Command {
	var search, only, sort string
	var descending, files, refresh bool
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
			first, err := service.ListDisks(cmd.Context(), args[0], api.ListDisksParams{Limit: ptr(1)})
			if err != nil {
				return err
			}
			if refresh || first.Refreshed == nil {
				if err := a.lookThrough(cmd.Context(), service, args[0]); err != nil {
					return err
				}
			}
			list, err := service.AllDisks(cmd.Context(), args[0], p)
			if err != nil {
				return err
			}
			a.remarkList(list)
			if a.json {
				return a.printJSON(list.Items)
			}
			return table(a.out, diskRows(list.Items, files))
		}),
	}
	f := c.Flags()
	f.StringVar(&search, "search", "", "only those with this in their path")
	f.StringVar(&only, "only", "", "broken, overlays (that stand on others), bases (that others stand on) or orphans (that no machine uses)")
	f.StringVar(&sort, "sort", "path", "by path, virtual_size, allocated_size, file_size, room or modified")
	f.BoolVar(&descending, "descending", false, "the largest or last first")
	f.BoolVar(&refresh, "refresh", false, "look through the pool again before")
	f.BoolVar(&files, "files", false, "show the files of each disk too")
	a.jsonFlag(c)
	return c
}

func ptr[T any](v T) *T { return &v }

// remarkList says what else is to be known of a list.
func (a *app) remarkList(list api.DiskList) {
	known := "this is what was found so far"
	if list.Refreshed != nil {
		known = "this is how it was at " + when(*list.Refreshed)
	}
	switch {
	case list.Problem != nil:
		a.remark("The pool cannot be looked through (%s): %s.", *list.Problem, known)
	case list.Refreshing && list.Of > 0:
		a.remark("The pool is being looked through, %d of %d files so far: %s.", list.Seen, list.Of, known)
	case list.Refreshed != nil:
		a.remark("As of %s.", when(*list.Refreshed))
	}
	for _, m := range list.Missed[:min(len(list.Missed), mostMissed)] {
		a.remark("Not looked at: %s (%s).", m.Name, m.Why)
	}
	if more := len(list.Missed) - mostMissed; more > 0 {
		a.remark("Not looked at: %d more.", more)
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
		if d.Called != nil {
			remark = "“" + *d.Called + "”"
		}
		if len(d.StandsOn) > 0 {
			on = d.StandsOn[0]
		}
		if len(d.Standing) > 0 {
			remark = strings.TrimPrefix(fmt.Sprintf("%s; %d stand(s) on it", remark, len(d.Standing)), "; ")
		}
		if d.Filesystem != nil {
			remark = strings.TrimPrefix(remark+"; "+*d.Filesystem+" without partitions", "; ")
		}
		if d.Orphan != nil {
			remark = strings.TrimPrefix(remark+"; "+*d.Orphan, "; ")
		}
		allocated := size(d.AllocatedSize)
		if d.AtLeast != nil && *d.AtLeast {
			allocated = "over " + allocated
		}
		row := []string{
			d.Path,
			d.Format,
			d.Layout,
			size(d.VirtualSize),
			allocated,
			size(d.FileSize),
			fmt.Sprint(len(d.Files)),
			strings.Join(d.Machines, ", "),
			on,
			remark,
		}
		if d.Problem != "" {
			row = []string{
				d.Path,
				d.Format,
				"-",
				"-",
				"-",
				size(d.FileSize),
				fmt.Sprint(len(d.Files)),
				strings.Join(d.Machines, ", "),
				"",
				"BROKEN: " + d.Problem,
			}
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

func (a *app) poolLook() *cobra.Command {
	c := &cobra.Command{
		Use:               "look NAME",
		Short:             "Look through a pool now",
		Args:              exactly(1),
		ValidArgsFunction: a.completePool,
		Long:              "Pools are looked through in the background, when something changes in them and now and then. This does it now, and waits for the end.\nInterrupted, it ends the look too: what was found so far stays listed.",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := a.lookThrough(cmd.Context(), service, args[0]); err != nil {
				return err
			}
			list, err := service.ListDisks(cmd.Context(), args[0], api.ListDisksParams{Limit: ptr(1)})
			if err != nil {
				return err
			}
			a.remarkList(list)
			if a.json {
				return a.printJSON(map[string]any{"pool": args[0], "disks": list.Total, "room": list.Room, "missed": list.Missed})
			}
			_, err = fmt.Fprintf(a.out, "%d disk(s), %s\n", list.Total, size(list.Room))
			return err
		}),
	}
	a.jsonFlag(c)
	return c
}

// lookThrough has a pool looked through, and says how far that is. Interrupted, it ends it.
func (a *app) lookThrough(ctx context.Context, service *client.Service, pool string) error {
	ended := make(chan error, 1)
	go func() {
		list, err := service.ListDisks(ctx, pool, api.ListDisksParams{Limit: ptr(1), Refresh: ptr(true)})
		if err == nil && list.Problem != nil {
			err = errors.New(*list.Problem)
		}
		ended <- err
	}()
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for {
		select {
		case err := <-ended:
			if ctx.Err() != nil {
				stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
				defer cancel()
				_ = service.StopLooking(stopping, pool) // it may have ended meanwhile
			}
			return err
		case <-tick.C:
			list, err := service.ListDisks(ctx, pool, api.ListDisksParams{Limit: ptr(1)})
			if err == nil && list.Of > 0 {
				a.remark("  %d of %d files, %d disk(s) so far", list.Seen, list.Of, list.Total)
			}
		}
	}
}
