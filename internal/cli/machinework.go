package cli

import (
	"fmt"
	"path"
	"strings"
	"time"

	"bagaglio/core/machine"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) machineMove() *cobra.Command {
	var r plan.Request
	c := a.carryMachine(
		&r,
		plan.MoveMachine,
		"move HOST:NAME|POOL:FILE [HOST]",
		"Move a machine to another host or pool: disks, definition, start",
	)
	c.Long = `Moves a machine: sees that it is off, carries all of its disks and proves them, makes it known to its new host, starts it and sees it come up, compares
it with what it was, and takes it from the list of its old host. Its old disks stay as they are there, or are held for a while (--release).
Until the new one has come up, all of it goes back where something fails.
Without a second host its definition is put beside its disks, into a folder that no host knows: on a drive that travels, say. From there it comes by
that file: POOL:FILE.`
	c.Example = `  bagaglio machine move quay:ticketing lighthouse --pool lamp-room --as qcow2 --stop --start
  bagaglio machine move lighthouse:tide-board lighthouse --pool gallery --as qcow2 --live`
	f := c.Flags()
	f.BoolVar(&r.Release, "release", false, "hold the old disks for a while, out of the way; otherwise they stay where they are")
	f.BoolVar(
		&r.Live,
		"live",
		false,
		"move it while it runs: to other pools of its host its guest goes on, to another host it stops for a moment; the old disks are held",
	)
	f.Var(
		seconds{&r.LongestStop},
		"longest-stop",
		fmt.Sprintf(
			"with --live, to another host: for how long what is left may take to copy when it is shut down (default %ds)",
			plan.UsualStop,
		),
	)
	f.BoolVar(
		&r.WithMemory,
		"with-memory",
		false,
		"with --live, to another host: take along what it has in memory, so that it goes on there where it was; nothing is shut down",
	)
	f.BoolVar(
		&r.StartFirst,
		"start-first",
		false,
		"start it on another host at once, from its disks where they lie, which are copied while it works there",
	)
	f.BoolVar(&r.LeaveSource, "leave-source", false, "leave the machine on the list of its old host: then it could be started there too")
	return c
}

func (a *app) machineCopy() *cobra.Command {
	var r plan.Request
	c := a.carryMachine(&r, plan.CopyMachine, "copy HOST:NAME|POOL:FILE [HOST]", "Copy a machine, with a new identity, to a host or pool")
	c.Long = `Copies a machine: as moving does, but the copy gets an identity and network addresses of its own, and the machine stays as it is.`
	c.Flags().BoolVar(&r.Linked, "linked", false, "have its disks stand on those of the machine, which rest from then on: nothing is copied")
	c.Flags().StringVar(&r.Snapshot, "snapshot", "", "copy this snapshot instead of the present state")
	c.Example = `  bagaglio machine copy quay:ticketing lighthouse --pool lamp-room --name ticketing-trial --stop
  bagaglio machine copy quay:crew-roster quay --pool quay-store --name crew-roster-may --snapshot before-the-season
  bagaglio machine copy quay:ticketing --pool seabag
  bagaglio machine copy seabag:ticketing/ticketing.machine.yaml lighthouse --pool lamp-room --start`
	return c
}

func (a *app) carryMachine(r *plan.Request, kind, use, short string) *cobra.Command {
	var planOnly, yes bool
	var pool, folder string
	var within time.Duration
	var wishes wishes
	c := &cobra.Command{
		Use: use, Short: short, Args: between(1, 2),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 {
				return a.completeHost(cmd, nil, typed)
			}
			return a.completeMachine(cmd, args, typed)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if pool == "" {
				return usage("name the pool that the disks are to go into: --pool POOL")
			}
			if err := ofMachine(r, args[0]); err != nil {
				return err
			}
			if err := wishes.into(r); err != nil {
				return err
			}
			r.Kind, r.To, r.Within = kind, strings.Join(args[1:], ""), int(within.Seconds())
			r.Destination = &plan.Place{Pool: pool, Path: folder}
			w, err := a.remote()
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, *r, planOnly, yes)
		},
	}
	f := c.Flags()
	f.StringVar(&pool, "pool", "", "the pool of the new host that the disks go into")
	f.StringVar(&folder, "folder", "", "the folder in that pool (default: one that is called as the machine)")
	f.StringVar(&r.As, "as", "", "convert the disks to this format (default: what the pool's rules ask for, or as they are)")
	f.StringVar(&r.Layout, "layout", "", "layout of that format (default: its first)")
	optionFlags(f, &r.Options)
	f.StringVar(&r.Name, "name", "", "the name of the machine in its new place (default: the one that it has)")
	f.StringVar(&r.Identity, "identity", "", "keep or new: its UUID and network addresses (default: a copy on a host gets new ones)")
	f.StringVar(&r.Definition, "definition", "", "without a host: the form of its definition (default machine-file)")
	wishes.flags(f)
	f.StringToStringVar(
		&r.Networks,
		"network",
		nil,
		"connect cards on the network OLD to NEW of its new host: OLD=NEW; OLD= leads out through the host itself",
	)
	f.BoolVar(
		&r.Fit,
		"fit",
		false,
		"change what its guest needs to start in its new place (another bus, firmware or network card), on the copies of its disks",
	)
	f.BoolVar(&r.Stop, "stop", false, "shut the machine down first, when it runs")
	if kind == plan.CopyMachine {
		f.BoolVar(&r.Suspend, "suspend", false, "suspend it while its disks are read, when it runs: the copy is what a power cut would leave")
	}
	f.BoolVar(&r.Start, "start", false, "start it in its new place, and see it come up")
	f.DurationVar(&within, "within", plan.WatchFor*time.Second, "how long it has to come up, at most 1h")
	f.BoolVar(&r.NoTag, "no-tag", false, "put no tags beside the disks")
	f.BoolVar(&r.PastDamage, "past-damage", false, "go on where a disk cannot be read, with zeros in the place; the job then ends with damage")
	f.BoolVar(&r.AsItIs, "as-it-is", false, "go on where a disk is not what was known of it")
	byFlag(f, r)
	paceFlags(c, &a.pace.speed, &a.pace.hours)
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}

// machineRows are those of a plan that carries a machine: what it is and will be, with a mark where that differs, and each disk.
func machineRows(p plan.Plan) [][]string {
	m := p.Machine
	rows := [][]string{{"", "BEFORE", "AFTER"}, {"machine", m.Here(), m.There()}}
	if plan.IsStaying(p.Request.Kind) {
		for _, d := range m.Differences {
			rows = append(rows, []string{"* " + d.What, orDash(d.Before), orDash(d.After)})
		}
		return rows
	}
	changed := map[string]machine.Difference{}
	for _, d := range m.Differences {
		changed[d.What] = d
	}
	for _, f := range machine.Facts(m.Before) {
		if d, ok := changed[f.What]; ok {
			rows = append(rows, []string{"* " + f.What, f.Value, orDash(d.After)})
			delete(changed, f.What)
		} else if !strings.HasPrefix(f.What, "disk ") {
			rows = append(rows, []string{"  " + f.What, f.Value, f.Value})
		}
	}
	for _, d := range m.Differences {
		if _, left := changed[d.What]; left {
			rows = append(rows, []string{"* " + d.What, "-", d.After})
		}
	}
	for i, before := range p.Before {
		if i >= len(p.After) {
			break
		}
		after := p.After[i]
		rows = append(rows, []string{},
			[]string{path.Base(before.Place.Path), before.Place.String(), after.Place.String()},
			[]string{"  format", before.Format + ", " + before.Layout, after.Format + ", " + after.Layout},
			[]string{"  virtual size", plan.Bytes(before.VirtualSize), plan.Bytes(after.VirtualSize)},
			[]string{"  allocated size", plan.Bytes(before.AllocatedSize), plan.Bytes(after.AllocatedSize)},
			[]string{"  file size", plan.Bytes(before.FileSize), plan.Bytes(after.FileSize)},
		)
	}
	return rows
}
