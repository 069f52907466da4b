package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/machine"

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
	c := &cobra.Command{
		Use: "compare HOST:NAME HOST:NAME", Short: "Say in what two machines differ", Args: exactly(2),
		ValidArgsFunction: func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
			return a.completeMachine(cmd, nil, typed)
		},
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			var both [2]machine.Machine
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
				both[i] = *m.Is
			}
			differences := machine.Compare(both[0], both[1])
			if a.json {
				return a.printJSON(append([]machine.Difference{}, differences...))
			}
			if len(differences) == 0 {
				a.remark("They do not differ.")
				return nil
			}
			rows := [][]string{{"", args[0], args[1]}}
			for _, d := range differences {
				rows = append(rows, []string{d.What, orDash(d.Before), orDash(d.After)})
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}

// orDash is a value, or a dash for none.
func orDash(value string) string {
	if value == "" {
		return "-"
	}
	return value
}
