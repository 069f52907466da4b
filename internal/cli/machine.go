package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) machine() *cobra.Command {
	return group(
		"machine",
		"Machines of hosts that run them: see, start, stop, move and copy them",
		a.machineList(),
		a.machineShow(),
		a.machineCheck(),
		a.machineStart(),
		a.machineStop(),
		a.machineScreen(),
		a.machineMove(),
		a.machineKeep(),
		a.machineAdd(),
		a.machineForget(),
		a.machineRemove(),
		a.machineCompare(),
		a.machineTry(),
		a.machineCopy(),
		a.snapshot(),
		a.machinePack(),
		a.machineUnpack(),
		a.machineAttach(),
		a.machineDetach(),
		a.machineHandOver(),
	)
}

// hostAndName takes HOST:NAME apart.
func hostAndName(text string) (host, name string, err error) {
	if host, name, err = plan.HostAndName(text); err != nil {
		err = usage("%v", err)
	}
	return host, name, err
}

func (a *app) machineList() *cobra.Command {
	c := &cobra.Command{
		Use: "list [HOST]", Short: "List the machines of a host, or of all", Args: between(0, 1), ValidArgsFunction: a.completeHost,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			list, err := service.Machines(cmd.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			for _, h := range list.Away {
				a.remark("Host %s could not be asked: %s", h.Host, h.Why)
			}
			if a.json {
				return a.printJSON(list.Items)
			}
			rows := [][]string{{"MACHINE", "STATE", "STARTS BY", "MEMORY", "PROCESSORS", "DISKS"}}
			for _, m := range list.Items {
				row := []string{m.Host + ":" + m.Name, string(m.State), "?", "?", "?", strconv.Itoa(len(m.Disks))}
				if m.Is != nil {
					row[2], row[3], row[4] = m.Is.StartsBy(), size(m.Is.Memory), strconv.Itoa(m.Is.Processors.Count)
				}
				rows = append(rows, row)
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) machineShow() *cobra.Command {
	return a.machineAct("show HOST:NAME", "Show a machine: what it is, and where its disks lie", (*client.Service).Machine)
}

func (a *app) machineStart() *cobra.Command {
	return a.machineAct("start HOST:NAME", "Switch a machine on", (*client.Service).StartMachine)
}

func (a *app) machineStop() *cobra.Command {
	var within time.Duration
	var cutOff bool
	c := a.machineAct(
		"stop HOST:NAME",
		"Ask a machine to end, and wait for that",
		func(s *client.Service, ctx context.Context, host, name string) (api.Machine, error) {
			return s.StopMachine(ctx, host, name, int(within.Seconds()), cutOff)
		},
	)
	c.Flags().DurationVar(&within, "within", 2*time.Minute, "for how long its end is waited for, at most 10m")
	c.Flags().BoolVar(&cutOff, "cut-off", false, "take its power away when it has not ended by then; otherwise it goes on running")
	return c
}

// machineAct is a command that does one thing to a machine, and shows it.
func (a *app) machineAct(
	use, short string,
	act func(s *client.Service, ctx context.Context, host, name string) (api.Machine, error),
) *cobra.Command {
	c := &cobra.Command{
		Use: use, Short: short, Args: exactly(1), ValidArgsFunction: a.completeMachine,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			host, name, err := hostAndName(args[0])
			if err != nil {
				return err
			}
			m, err := act(service, cmd.Context(), host, name)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(m)
			}
			return a.printMachine(m)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) printMachine(m api.Machine) error {
	rows := [][]string{{"machine", m.Host + ":" + m.Name}, {"state", string(m.State)}, {"uuid", m.Uuid}}
	if m.Problem != nil {
		rows = append(rows, []string{"problem", *m.Problem})
	}
	if is := m.Is; is != nil {
		firmware := is.StartsBy()
		if is.SecureBoot {
			firmware += ", secure boot"
		}
		rows = append(
			rows,
			[]string{"starts by", firmware},
			[]string{"memory", size(is.Memory)},
			[]string{"processors", strconv.Itoa(is.Processors.Count)},
			[]string{"chipset", is.Chipset},
		)
		for _, n := range is.Networks {
			rows = append(rows, []string{"network card", strings.Join(strings.Fields(n.Model+" "+n.MAC+" "+n.Kind+" "+n.Network), ", ")})
		}
	}
	if err := table(a.out, append(rows, []string{""})); err != nil {
		return err
	}
	rows = [][]string{{"DISK", "BUS", "FORMAT", "VIRTUAL SIZE", "LIES IN"}}
	for _, d := range m.Disks {
		lies := cmp.Or(deref(d.File), deref(d.Remote), strings.Trim(deref(d.HostPool)+"/"+deref(d.Volume), "/"))
		if d.Pool != nil {
			lies = *d.Pool + ":" + deref(d.Path)
		}
		virtual := "?"
		if d.VirtualSize != nil {
			virtual = size(*d.VirtualSize)
		}
		rows = append(rows, []string{deref(d.Slot), deref(d.Bus), deref(d.Format), virtual, lies})
	}
	return table(a.out, rows)
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func (a *app) machineScreen() *cobra.Command {
	c := &cobra.Command{
		Use: "screen HOST:NAME FILE.png", Short: "Write what a machine shows into a file, a PNG picture", Args: exactly(2),
		ValidArgsFunction: a.completeMachine,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			host, name, err := hostAndName(args[0])
			if err != nil {
				return err
			}
			picture, err := service.Screen(cmd.Context(), host, name)
			if err != nil {
				return err
			}
			file, err := os.OpenFile(args[1], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
			if err != nil {
				return fmt.Errorf("%w: nothing is overwritten", err)
			}
			_, err = file.Write(picture)
			if err := errors.Join(err, file.Close()); err != nil {
				return err
			}
			return a.did(map[string]any{"machine": args[0], "file": args[1], "bytes": len(picture)}, "The picture is in %s.", args[1])
		}),
	}
	a.jsonFlag(c)
	return c
}

// completeMachine offers machines as HOST:NAME.
func (a *app) completeMachine(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault // a file
	}
	if a.configure(cmd) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	service, err := a.dial()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	list, err := service.Machines(cmd.Context(), "")
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, m := range list.Items {
		out = append(out, m.Host+":"+m.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
