package cli

import (
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) snapshot() *cobra.Command {
	return group(
		"snapshot",
		"States of a machine that its host keeps: see, take, go back to, drop",
		a.snapshotList(),
		a.snapshotTake(),
		a.snapshotGoBack(),
		a.snapshotDrop(),
	)
}

func (a *app) snapshotList() *cobra.Command {
	c := &cobra.Command{
		Use: "list HOST:NAME", Short: "List the snapshots of a machine as a tree, with the room that each takes", Args: exactly(1),
		ValidArgsFunction: a.completeMachine,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			host, name, err := hostAndName(args[0])
			if err != nil {
				return err
			}
			all, err := service.Snapshots(cmd.Context(), host, name)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				a.remark("%s keeps no state of %s.", host, name)
				return nil
			}
			return table(a.out, append([][]string{{"SNAPSHOT", "TAKEN", "MEMORY", "ROOM", "NOTES"}}, snapshotRows(all, "", "")...))
		}),
	}
	a.jsonFlag(c)
	return c
}

// snapshotRows are those taken behind a parent, each with those behind it. What names a parent that is not there begins a tree of its own.
func snapshotRows(all []api.Snapshot, parent, indent string) (rows [][]string) {
	there := map[string]bool{}
	for _, s := range all {
		there[s.Name] = true
	}
	for _, s := range all {
		if s.Parent != parent && (parent != "" || there[s.Parent]) {
			continue
		}
		row := []string{indent + s.Name, when(s.Taken), "-", "?", s.Notes}
		if s.Present {
			row[0] += " *"
		}
		if s.Memory {
			row[2] = "with"
		}
		if s.Room != nil {
			row[3] = size(*s.Room)
		}
		rows = append(append(rows, row), snapshotRows(all, s.Name, indent+"  ")...)
	}
	return rows
}

func (a *app) snapshotTake() *cobra.Command {
	r := plan.Request{Kind: plan.TakeSnapshot}
	c := a.ofSnapshot(&r, "take HOST:NAME SNAPSHOT", "Have the host keep the present state of a machine")
	c.Long = `Has the host of a machine keep its present state: of one that runs with its memory, or with --disks-only without, of one that is off its disks and its definition. Where that is kept is the
host's matter: inside of the images, or in files beside them. A snapshot is no copy elsewhere: it is lost with the drive that it lies on.`
	c.Example = `  bagaglio machine snapshot take quay:crew-roster before-the-season --notes "as of the last crew"`
	c.Flags().StringVar(&r.Notes, "notes", "", "notes on it")
	c.Flags().BoolVar(&r.DisksOnly, "disks-only", false, "of one that runs keep its disks only, as a power cut would leave them")
	c.Flags().
		BoolVar(&r.AtRest, "at-rest", false, "with --disks-only: have the agent in the guest put its filesystems at rest for that moment")
	return c
}

func (a *app) snapshotGoBack() *cobra.Command {
	r := plan.Request{Kind: plan.GoBack}
	c := a.ofSnapshot(&r, "go-back HOST:NAME SNAPSHOT", "Make a kept state of a machine the present one")
	c.Long = `Makes a kept state of a machine the present one. What was written since is lost, unless it is kept as another snapshot before.`
	c.Example = `  bagaglio machine snapshot go-back quay:crew-roster before-the-season --keep-present as-it-was`
	c.Flags().StringVar(&r.KeepPresent, "keep-present", "", "keep the present state as a snapshot of this name before")
	return c
}

func (a *app) snapshotDrop() *cobra.Command {
	r := plan.Request{Kind: plan.DropSnapshot}
	c := a.ofSnapshot(&r, "drop HOST:NAME SNAPSHOT", "Have the host forget a kept state: the present one, and others, stay as they are")
	c.Flags().BoolVar(&r.ListOnly, "list-only", false, "have only its list forget it, where images do not have it any more")
	c.Long = `Has the host of a machine forget a kept state. The present state, and snapshots that were taken behind it, stay as they are. It cannot be taken back.`
	return c
}

// ofSnapshot is a command that plans and does something with a snapshot.
func (a *app) ofSnapshot(r *plan.Request, use, short string) *cobra.Command {
	return a.staying(r, use, short, 2, func(args []string) error {
		r.Snapshot = args[1]
		return nil
	})
}

// staying is a command that plans and does something with a machine that stays on its host, its first word.
func (a *app) staying(r *plan.Request, use, short string, words int, read func(args []string) error) *cobra.Command {
	var planOnly, yes bool
	c := &cobra.Command{
		Use: use, Short: short, Args: exactly(words), ValidArgsFunction: a.completeStaying,
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, _, err := hostAndName(args[0]); err != nil {
				return err
			}
			r.Machine = args[0]
			if err := read(args); err != nil {
				return err
			}
			w, err := a.remote()
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, *r, planOnly, yes)
		},
	}
	f := c.Flags()
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}

// completeStaying offers machines, and then what one has: its snapshots, or the slots of its disks.
func (a *app) completeStaying(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) != 1 {
		return a.completeMachine(cmd, args, typed)
	}
	host, name, err := hostAndName(args[0])
	if err != nil || a.configure(cmd) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	service, err := a.dial()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	if strings.Contains(cmd.CommandPath(), " snapshot ") {
		all, err := service.Snapshots(cmd.Context(), host, name)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		for _, s := range all {
			out = append(out, s.Name)
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
	m, err := service.Machine(cmd.Context(), host, name)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	for _, d := range m.Disks {
		out = append(out, deref(d.Slot))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
