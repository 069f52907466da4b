package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
)

func (a *app) poolTest() *cobra.Command {
	var withoutDrive bool
	c := a.trial(
		"Try a pool out: reach, log in, list, write, rename, sync, free space, speed",
		a.completePool,
		func(s *client.Service, ctx context.Context, name string) (api.Trial, error) {
			return s.TestPool(ctx, name, withoutDrive)
		},
	)
	c.Flags().
		BoolVar(&withoutDrive, "without-drive", false, "take the folder as the pool from now on although its drive is not mounted: what is written goes to the disk that the folder lies on")
	return c
}

func (a *app) poolShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show NAME", Short: "Show what is known of a pool", Args: exactly(1), ValidArgsFunction: a.completePool,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			p, err := service.Pool(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(p)
			}
			rows := [][]string{{"pool", p.Name}, {"host", p.Host}, {"folder", p.Folder}, {"room", freeOf(p)}, {"filesystem", p.Filesystem}}
			if p.Volumes != nil {
				rows = append(rows, []string{"volumes", *p.Volumes})
			}
			if p.LargestFile != nil {
				rows = append(rows, []string{"largest file", plan.Bytes(*p.LargestFile)})
			}
			if f := p.Facts; f != nil {
				rows = append(
					rows,
					[]string{"holes in files", yes(f.Holes)},
					[]string{"files share blocks", yes(f.Clones)},
					[]string{"files can be swapped", yes(f.Swaps)},
					[]string{"case-sensitive", yes(f.CaseSensitive)},
					[]string{"removable", yes(f.Removable)},
					[]string{"read-only", yes(f.ReadOnly)},
				)
				if f.Mounted {
					rows = append(rows, []string{"mounted", "yes: it is not reachable while its drive is not"})
				}
				if f.ReadSpeed > 0 {
					rows = append(
						rows,
						[]string{
							"speed",
							fmt.Sprintf("reads %s/s, writes %s/s", humanize.IBytes(uint64(f.ReadSpeed)), humanize.IBytes(uint64(f.WriteSpeed))),
						},
					)
				}
				for _, caveat := range f.Caveats {
					rows = append(rows, []string{"note", caveat})
				}
				rows = append(rows, []string{"tried out", when(f.At)})
			}
			return table(a.out, append(rows, rulesRows(p.Rules)...))
		}),
	}
	a.jsonFlag(c)
	return c
}

func yes(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }

// rulesRows say what a pool accepts.
func rulesRows(r plan.Rules) [][]string {
	var rows [][]string
	add := func(name, format string, args ...any) {
		rows = append(rows, []string{"rule: " + name, fmt.Sprintf(format, args...)})
	}
	for _, t := range plan.Traits {
		if slices.Contains(r.Traits, t.Name) {
			add("trait", "%s: it %s", t.Name, t.About)
		}
	}
	for _, x := range r.Accepts {
		layouts := strings.Join(x.Layouts, ", ")
		if layouts == "" {
			layouts = "all layouts"
		}
		add("accepts", "%s: %s", x.Format, layouts)
	}
	if r.Allocation != "" {
		add("allocation", "%s", r.Allocation)
	}
	if r.LargestDisk > 0 {
		add("largest disk", "%s", plan.Bytes(r.LargestDisk))
	}
	if r.Granularity > 0 {
		add("granularity", "%s", plan.Bytes(r.Granularity))
	}
	if r.Name != "" {
		add("names", "%s", r.Name)
	}
	if r.MachineFolders {
		add("folders", "one for each machine")
	}
	if r.Owner != "" {
		add("owner", "%s", r.Owner)
	}
	if r.Mode != "" {
		add("mode", "%s", r.Mode)
	}
	if r.NoRunning {
		add("running machines", "not here")
	}
	return rows
}

func (a *app) poolRules() *cobra.Command {
	var accepts string
	var traits []string
	var changed plan.Rules
	var known strings.Builder
	for _, t := range plan.Traits {
		_, _ = fmt.Fprintf(&known, "  %-16s it %s\n", t.Name, t.About) // a strings.Builder takes everything
	}
	c := &cobra.Command{
		Use: "rules NAME", Short: "Show or change what a pool accepts", Args: exactly(1), ValidArgsFunction: a.completePool,
		Long: `Shows what a pool accepts, or changes what is named. --trait says what kind of destination it is; several are combined:

` + known.String() + `
Without any (--trait "") it takes everything. Every plan into the pool is checked against its rules, and offers what to do; with --by-rules all of
it is done.`,
		Example: `  bagaglio pool rules lamp-room --trait names-by-uuid,dynamic-only,whole-mebibytes --accept vhd --largest-disk 2040G`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			p, err := service.Pool(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			r, flags := p.Rules, cmd.Flags()
			if flags.Changed("trait") {
				if r, err = plan.Combine(traits); err != nil {
					return usage("%w", err)
				}
			}
			if flags.Changed("accept") {
				whole, err := plan.Combine(r.Traits)
				if err == nil {
					r.Accepts, err = plan.Narrow(whole.Accepts, readAccepts(accepts))
				}
				if err != nil {
					return usage("%w", err)
				}
			}
			for flag, set := range map[string]func(){
				"allocation":      func() { r.Allocation = changed.Allocation },
				"names":           func() { r.Name = changed.Name },
				"owner":           func() { r.Owner = changed.Owner },
				"mode":            func() { r.Mode = changed.Mode },
				"machine-folders": func() { r.MachineFolders = changed.MachineFolders },
				"no-running":      func() { r.NoRunning = changed.NoRunning },
				"largest-disk":    func() { r.LargestDisk = changed.LargestDisk },
				"granularity":     func() { r.Granularity = changed.Granularity },
			} {
				if flags.Changed(flag) {
					set()
				}
			}
			if flags.NFlag() > 1 || flags.NFlag() == 1 && !a.json {
				if err := r.Validate(); err != nil {
					return usage("%w", err)
				}
				if p, err = service.ChangePool(cmd.Context(), args[0], api.PoolChange{Rules: r}); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(p.Rules)
			}
			rows := rulesRows(p.Rules)
			if len(rows) == 0 {
				a.remark("Pool %s accepts everything.", p.Name)
			}
			return table(a.out, rows)
		}),
	}
	f := c.Flags()
	f.StringSliceVar(&traits, "trait", nil, "begin from what kind of destination it is, several joined by commas")
	f.StringVar(&accepts, "accept", "", acceptHelp)
	f.StringVar(&changed.Allocation, "allocation", "", "thin or thick")
	f.Var(length{&changed.LargestDisk}, "largest-disk", "virtual size, such as 2T")
	f.Var(length{&changed.Granularity}, "granularity", "the virtual size is a multiple of it, such as 1M")
	f.StringVar(&changed.Name, "names", "", "pattern of file names: NAME, MACHINE, UUID and EXT stand for parts, as in UUIDEXT")
	f.BoolVar(&changed.MachineFolders, "machine-folders", false, "each machine has a folder of its own")
	f.StringVar(&changed.Owner, "owner", "", "of files, as numbers UID:GID")
	f.StringVar(&changed.Mode, "mode", "", "of files, such as 0640")
	f.BoolVar(&changed.NoRunning, "no-running", false, "disks of running machines may not lie there")
	a.jsonFlag(c)
	return c
}

const acceptHelp = "formats, each with its layouts: qcow2=thin+thick,raw"

func readAccepts(text string) (accepts []plan.Accepted) {
	for one := range strings.SplitSeq(text, ",") {
		format, layouts, ok := strings.Cut(one, "=")
		x := plan.Accepted{Format: strings.TrimSpace(format)}
		if ok {
			x.Layouts = strings.Split(layouts, "+")
		}
		if x.Format != "" {
			accepts = append(accepts, x)
		}
	}
	return accepts
}
