package cli

import (
	"context"
	"strconv"
	"strings"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) porter() *cobra.Command {
	list := a.listing("list", "List the porters of the service", func(ctx context.Context, s *client.Service) (any, [][]string, error) {
		all, err := s.Porters(ctx)
		rows := [][]string{{"PORTER", "STATE", "HEARD", "JOBS", "VERSION"}}
		for _, p := range all {
			rows = append(rows, []string{p.Name, string(p.State), heard(p), strings.Join(p.Jobs, ", "), versionOf(p)})
		}
		return all, rows, err
	})
	c := group(
		"porter",
		"Porters: computers near storage that work for the service",
		list,
		a.porterShow(),
		a.porterLines(),
		a.porterInvite(),
		a.porterPause("pause", true, "Give a porter no more work; what it does goes on", "It is given no more work."),
		a.porterPause("resume", false, "Give a porter work again", "It is given work again."),
		a.porterDrain(),
		a.porterRevoke(),
	)
	a.runsPorter(c)
	return c
}

func heard(p api.Porter) string {
	if p.Seen == nil {
		return "never"
	}
	return when(*p.Seen)
}

func versionOf(p api.Porter) string {
	if v := deref(p.Version); p.Outdated == nil || !*p.Outdated {
		return v
	}
	return deref(p.Version) + ", other than the service's: install that there, and start it again"
}

func (a *app) porterShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show PORTER", Short: "Show a porter", Args: exactly(1), Example: "  bagaglio porter show annex",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			p, err := service.Porter(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(p)
			}
			rows := [][]string{{"porter", p.Name}, {"state", string(p.State)}, {"invited", when(p.Invited)}}
			if p.Joined != nil {
				rows = append(rows, []string{"joined", when(*p.Joined)})
			}
			rows = append(rows, []string{"heard", heard(p)})
			if p.Version != nil {
				rows = append(
					rows,
					[]string{"version", versionOf(p)},
					[]string{"runs as", deref(p.User)},
					[]string{"processors", strconv.Itoa(*p.Cores)},
				)
			}
			return table(a.out, append(rows, []string{"jobs", strings.Join(p.Jobs, ", ")}))
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) porterLines() *cobra.Command {
	return a.listing(
		"lines",
		"List the lines between porters: how fast they are, and what goes over them now",
		func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			all, err := s.Lines(ctx)
			rows := [][]string{{"FROM", "TO", "MEASURED", "NOW", "JOBS"}}
			for _, l := range all {
				measured, now, jobs := "never", int64(0), []string{}
				if l.Speed != nil {
					measured = size(int64(*l.Speed)) + "/s, " + when(*l.Measured)
				}
				for _, f := range l.Jobs {
					now += f.Speed
					jobs = append(jobs, f.Job)
				}
				to := l.To
				if l.Via != nil {
					to += ", through " + *l.Via
				}
				rows = append(rows, []string{l.From, to, measured, size(now) + "/s", strings.Join(jobs, ", ")})
			}
			return all, rows, err
		},
	)
}

func (a *app) porterInvite() *cobra.Command {
	c := &cobra.Command{
		Use:   "invite PORTER",
		Short: "Make an invitation for a porter, which it joins with",
		Args:  exactly(1),
		Long: `Makes an invitation, and writes it to standard output. It is good for one porter, and for a day; who has it can join in its place. Its name becomes that of a
host too, on which folders become pools.`,
		Example: "  bagaglio porter invite annex > annex.invitation",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			i, err := service.InvitePorter(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			a.remark(
				"Good until %s. There: bagaglio porter --join ADDRESS:%s --invitation FILE",
				when(i.Expires),
				i.Listens[strings.LastIndex(i.Listens, ":")+1:],
			)
			return a.printJSON(i)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) porterPause(use string, paused bool, short, done string) *cobra.Command {
	c := &cobra.Command{
		Use: use + " PORTER", Short: short, Args: exactly(1), Example: "  bagaglio porter " + use + " annex",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			p, err := service.PausePorter(cmd.Context(), args[0], paused)
			if err != nil {
				return err
			}
			return a.did(p, done)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) porterDrain() *cobra.Command {
	c := &cobra.Command{
		Use:   "drain PORTER",
		Short: "Give a porter no more work, and have what it does go on elsewhere",
		Args:  exactly(1),
		Long: `Gives a porter no more work, and sets aside what it does: that goes on from its last mark at another porter that reaches the same storage (bagaglio pool reach), or
at the service, over the line. What is moved half, or was asked for of that porter, waits until it works again (bagaglio porter resume).`,
		Example: "  bagaglio porter drain annex",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			p, err := service.DrainPorter(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.did(p, "It is given no more work, and what it did goes on elsewhere.")
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) porterRevoke() *cobra.Command {
	c := &cobra.Command{
		Use: "revoke PORTER", Short: "Let a porter in no more; its jobs stop where they are, and wait", Args: exactly(1),
		Example: "  bagaglio porter revoke annex",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.RevokePorter(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(
				map[string]string{"porter": args[0]},
				args[0]+" is let in no more. Its host stays, to be invited again or forgotten (bagaglio host forget).",
			)
		}),
	}
	a.jsonFlag(c)
	return c
}
