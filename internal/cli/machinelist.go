package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/spf13/cobra"
)

func (a *app) machineAdd() *cobra.Command {
	var planOnly, yes bool
	var name string
	c := &cobra.Command{
		Use:   "add HOST FILE|POOL:DISK",
		Short: "Make a machine known to a host that has its disks already",
		Args:  exactly(2),
		Long: `Makes a machine known to a host by a file that says what it is: a machine file (NAME.machine.yaml) or a definition of another host. The file names the
disks with their whole paths on the host. Around a disk that came alone, POOL:DISK, a machine is proposed by what is on it, with the reasons.`,
		ValidArgsFunction: func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return a.completeHost(cmd, args, typed)
		},
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			add := api.NewMachine{File: filepath.Base(args[1])}
			text, err := os.ReadFile(args[1])
			add.Definition = string(text)
			if pool, path, ok := strings.Cut(args[1], ":"); ok && errors.Is(err, fs.ErrNotExist) {
				p, err := service.ProposeMachine(cmd.Context(), args[0], api.LoneDisk{Pool: pool, Path: path, Name: &name})
				if err != nil {
					return err
				}
				if err := a.proposed(p, planOnly, yes); err != nil || planOnly {
					return err
				}
				add = api.NewMachine{File: p.File, Definition: p.Definition}
			} else if err != nil {
				return err
			}
			m, err := service.AddMachine(cmd.Context(), args[0], add)
			if err != nil {
				return err
			}
			return a.did(m, "%s knows %s now.", m.Host, m.Name)
		}),
	}
	c.Flags().StringVar(&name, "name", "", "around a disk: the name of the machine (default: that of the disk)")
	c.Flags().BoolVar(&planOnly, "plan", false, "around a disk: only say what would be made")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	return c
}

// proposed shows what a machine would be, and asks.
func (a *app) proposed(p api.MachineProposal, planOnly, yes bool) error {
	if a.json && planOnly {
		return a.printJSON(p)
	}
	var rows [][]string
	for _, f := range machine.Facts(p.Is) {
		rows = append(rows, []string{f.What, f.Value})
	}
	out := a.out
	if a.json {
		out = a.notes
	}
	if err := table(out, rows); err != nil {
		return err
	}
	_, _ = fmt.Fprintln(out)
	for _, r := range p.Reasons {
		_, _ = fmt.Fprintln(out, r)
	}
	if planOnly || yes {
		return nil
	}
	return a.ask("Make it known?")
}

func (a *app) machineForget() *cobra.Command {
	c := &cobra.Command{
		Use: "forget HOST:NAME", Short: "Take a machine that is off from the list of its host; its disks stay", Args: exactly(1),
		ValidArgsFunction: a.completeMachine,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			host, name, err := hostAndName(args[0])
			if err != nil {
				return err
			}
			if err := service.ForgetMachine(cmd.Context(), host, name); err != nil {
				return err
			}
			return a.did(map[string]string{"machine": args[0]}, "%s does not know %s any more. Its disks are where they were.", host, name)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) machineCompare() *cobra.Command {
	var content bool
	c := &cobra.Command{
		Use:   "compare HOST:NAME [HOST:NAME]",
		Short: "Say in what two machines differ, or one from what it was by its last receipt",
		Args:  between(1, 2),
		Example: `  bagaglio machine compare quay:tide-board lighthouse:tide-board
  bagaglio machine compare lighthouse:tide-board`,
		Long: `Says in what two machines differ, on one host or on two: what they are, and with --content also what is on their disks, one with the other in their order, whatever
forms those have. For that both have to be off, and all of them are read. Of one machine alone it says what has changed since the last job that had to do with it
ended: in its definition as its host had it then, and which of its disks were written to since.`,
		ValidArgsFunction: func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
			return a.completeMachine(cmd, nil, typed)
		},
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if len(args) == 1 {
				if content {
					return usage("--content takes two machines: prove compares one disk with what its tag says")
				}
				return a.compareSince(cmd.Context(), service, args[0])
			}
			var both [2]machine.Machine
			var found [2]api.Machine
			for i, arg := range args {
				host, name, err := hostAndName(arg)
				if err != nil {
					return err
				}
				m, err := service.Machine(cmd.Context(), host, name)
				if err != nil {
					return err
				}
				if m.Is == nil {
					return fmt.Errorf("the definition of %s cannot be read: %s", arg, deref(m.Problem))
				}
				both[i], found[i] = *m.Is, m
			}
			differences := machine.Compare(both[0], both[1])
			if content {
				more, err := contents(cmd.Context(), service, found)
				if err != nil {
					return err
				}
				differences = append(differences, more...)
			}
			if a.json {
				return a.printJSON(append([]machine.Difference{}, differences...))
			}
			if len(differences) == 0 {
				a.remark("They do not differ.")
				return nil
			}
			return table(a.out, differenceRows(differences, args[0], args[1]))
		}),
	}
	c.Flags().BoolVar(&content, "content", false, "compare what is on their disks too")
	a.jsonFlag(c)
	return c
}

func differenceRows(all []machine.Difference, before, after string) [][]string {
	rows := [][]string{{"", before, after}}
	for _, d := range all {
		rows = append(rows, []string{d.What, orDash(d.Before), orDash(d.After)})
	}
	return rows
}

// compareSince says what has changed on a machine since its last receipt.
func (a *app) compareSince(ctx context.Context, service *client.Service, of string) error {
	host, name, err := hostAndName(of)
	if err != nil {
		return err
	}
	since, err := service.ChangesSince(ctx, host, name)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(since)
	}
	a.remark("Since job %s, which ended at %s (%s):", since.Job, when(since.Finished), since.Outcome)
	if len(since.Items) == 0 {
		a.remark("Nothing has changed.")
		return nil
	}
	return table(a.out, differenceRows(since.Items, "THEN", "NOW"))
}

// contents compares what is on the disks of two machines, in their order, by jobs that read all of them.
func contents(ctx context.Context, service *client.Service, of [2]api.Machine) (all []machine.Difference, err error) {
	for i := range min(len(of[0].Disks), len(of[1].Disks)) {
		a, b := of[0].Disks[i], of[1].Disks[i]
		d := machine.Difference{What: fmt.Sprintf("disk %d, content", i+1)}
		if a.Pool == nil || b.Pool == nil {
			d.Before, d.After = "it lies in no pool", "and is not compared"
			all = append(all, d)
			continue
		}
		r := plan.Request{
			Kind: plan.Prove, Source: plan.Place{Pool: *a.Pool, Path: deref(a.Path)}, AgainstDisk: &plan.Place{Pool: *b.Pool, Path: deref(b.Path)},
		}
		kept, err := service.Plan(ctx, r)
		if err != nil {
			return nil, err
		}
		if kept.Blocked {
			return nil, fmt.Errorf("%w: %s", step.ErrBlocked, kept.Plan.With(plan.Blocks)[0].Message)
		}
		j, err := service.Start(ctx, api.NewJob{Plan: kept.Id})
		if err != nil {
			return nil, err
		}
		for _, err := range service.Follow(ctx, j.Id) {
			if err != nil && !errors.Is(err, client.ErrAway) {
				return nil, err
			}
		}
		done, err := service.Receipt(ctx, j.Id)
		if err != nil {
			return nil, err
		}
		if done.Outcome == receipt.Proven {
			continue
		}
		d.Before = done.Source.Fingerprint
		if d.After = done.Reason; done.Other != nil && done.Other.Fingerprint != "" {
			d.After = done.Other.Fingerprint
		}
		all = append(all, d)
	}
	return all, nil
}

// orDash is a value, or a dash for none.
func orDash(value string) string {
	if value == "" {
		return "-"
	}
	return value
}
