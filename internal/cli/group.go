package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/step"

	"github.com/spf13/cobra"
)

func (a *app) poolDrain() *cobra.Command {
	return a.balance(
		"drain NAME [TO...]",
		"Empty a pool into others, to retire or upgrade its drive",
		1,
		func(pools []string) plan.BalanceRequest {
			r := plan.BalanceRequest{Kind: plan.KindDrain, Pools: pools[:1]}
			if len(pools) > 1 {
				r.To = pools[1:]
			}
			return r
		},
	)
}

func (a *app) poolSpread() *cobra.Command {
	return a.balance(
		"spread NAME NAME...",
		"Spread load between pools, so that they are about equally full",
		2,
		func(pools []string) plan.BalanceRequest {
			return plan.BalanceRequest{Kind: plan.KindSpread, Pools: pools}
		},
	)
}

// balance is a command that plans over many disks, and does it as a group of jobs.
func (a *app) balance(use, short string, least int, request func(pools []string) plan.BalanceRequest) *cobra.Command {
	var planOnly, yes, wait, without bool
	c := &cobra.Command{
		Use: use, Short: short, ValidArgsFunction: a.completePools,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < least {
				return usage("name the pools: bagaglio pool %s", use)
			}
			return nil
		},
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			name, r := strings.Fields(use)[0]+" "+strings.Join(args, " "), request(args)
			g, err := service.PlanGroup(cmd.Context(), api.NewGroupPlan{Name: name, Balance: &r})
			if err != nil {
				return err
			}
			if planOnly && a.json {
				return a.printJSON(g)
			}
			if g.Problem != nil {
				return errors.New(*g.Problem)
			}
			if err := a.printBalance(*g.Balanced, planOnly); err != nil {
				return err
			}
			if g, err = a.leaveOut(cmd.Context(), service, g, api.NewGroupPlan{Name: g.Name}, without); err != nil || planOnly {
				return err
			}
			if len(g.Parts) == 0 {
				a.remark("Nothing was done: no disk has to go anywhere, or none can.")
				return nil
			}
			if !yes && !a.json && isTerminal(a.in) && isTerminal(a.notes) {
				if err := a.ask(fmt.Sprintf("Move %d disks?", len(g.Parts))); err != nil {
					return err
				}
			}
			started, err := service.StartGroup(cmd.Context(), g.Id)
			if err != nil {
				return err
			}
			a.remark(
				"Group %s: %d job(s). See bagaglio group show %s; pause, resume or cancel it as a whole with bagaglio group.",
				started.Id,
				len(started.Jobs),
				started.Id,
			)
			a.remark("What moves is held in its old pool for a while and takes its room there until then: see bagaglio held.")
			if wait {
				if started, err = awaitGroup(cmd.Context(), service, started); err != nil {
					return err
				}
			}
			return a.printGroup(started)
		}),
	}
	c.Flags().BoolVar(&without, "without-blocked", false, "leave out what a check blocks: otherwise nothing is started then")
	c.Flags().BoolVar(&planOnly, "plan", false, "only say what would go where, and how full the pools were then")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&wait, "wait", false, "return when all of it has ended")
	a.jsonFlag(c)
	return c
}

// leaveOut tells what a check blocks of a group. Where that is to be left out, it plans the others; otherwise it fails, as nothing can be started.
// Manners are those of the group.
func (a *app) leaveOut(
	ctx context.Context, service *client.Service, g api.GroupPlan, manners api.NewGroupPlan, without bool,
) (api.GroupPlan, error) {
	for _, part := range g.Parts {
		for _, c := range part.Checks {
			if c.Severity == plan.Warns {
				a.remark("Warning, %s: %s", part.Request.Subject(), c.Message)
			}
		}
	}
	if !g.Blocked {
		return g, nil
	}
	var others []plan.Request
	for _, part := range g.Parts {
		stop := slices.IndexFunc(part.Checks, func(c plan.Check) bool { return c.Severity == plan.Blocks })
		if stop < 0 {
			others = append(others, part.Request)
			continue
		}
		a.remark("Blocked, %s: %s", part.Request.Subject(), part.Checks[stop].Message)
	}
	blocked := len(g.Parts) - len(others)
	if !without {
		return g, fmt.Errorf(
			"%w: %d of %d, so nothing is started: settle that, or leave them out (--without-blocked)",
			step.ErrBlocked,
			blocked,
			len(g.Parts),
		)
	}
	a.remark("%d of %d are left out.", blocked, len(g.Parts))
	if len(others) == 0 {
		g.Parts = nil
		return g, nil
	}
	manners.Requests = &others
	left, err := planned(ctx, service, manners)
	if err == nil && left.Blocked {
		err = fmt.Errorf("%w: what is left is blocked too: see the plan again (--plan)", step.ErrBlocked)
	}
	return left, err
}

// awaitGroup returns when all jobs of a group have ended.
func awaitGroup(ctx context.Context, service *client.Service, g api.Group) (api.Group, error) {
	for _, j := range g.Jobs {
		for _, err := range service.Follow(ctx, j.Id) {
			if err != nil && !errors.Is(err, client.ErrAway) {
				return g, err
			}
		}
	}
	return service.Group(ctx, g.Id)
}

func (a *app) printBalance(b plan.Balance, planOnly bool) error {
	out := a.notes
	if planOnly {
		out = a.out
	}
	var machines, away []string
	rows := [][]string{{"DISK", "FROM", "TO", "ROOM", "MACHINE"}}
	for _, x := range b.Carries {
		name := x.Path
		if x.Request.Family {
			name += " with what stands on it"
		}
		switch {
		case x.Machine == "":
		case x.Away && !slices.Contains(away, x.Machine):
			away = append(away, x.Machine)
		case !x.Away && !slices.Contains(machines, x.Machine):
			machines = append(machines, x.Machine)
		}
		rows = append(rows, []string{name, x.From, x.To, size(x.Room), x.Machine})
	}
	for _, x := range b.Left {
		rows = append(rows, []string{x.Path, x.Pool, "stays", x.Why})
	}
	if err := table(out, rows); err != nil {
		return err
	}
	rows = [][]string{{"", "", ""}, {"POOL", "FREE BEFORE", "FREE AFTER"}}
	for i, p := range b.Before {
		rows = append(rows, []string{p.Pool, share(p), share(b.After[i])})
	}
	if len(machines) > 0 {
		a.remark(
			"The definitions of %s follow their disks where they can, and go along out of a pool that is emptied.",
			strings.Join(machines, ", "),
		)
	}
	if len(away) > 0 {
		a.remark("Disks of %s go to another host: the machines have to go there too, before they are started again.", strings.Join(away, ", "))
	}
	return table(out, rows)
}

// share says how much of a pool is free.
func share(p plan.PoolState) string {
	text := fmt.Sprintf("%s of %s (%d %%)", size(p.Free), size(p.Total), 100*p.Free/max(p.Total, 1))
	if p.Held > 0 {
		text += fmt.Sprintf(", and %s held", size(p.Held))
	}
	return text
}

func (a *app) group() *cobra.Command {
	return group(
		"group",
		"Groups: jobs that were started together",
		a.groupList(),
		a.groupSurvey(),
		a.groupStart(),
		a.groupAnswer(),
		a.groupShow(),
		a.groupAct(
			"pause",
			"Stop all jobs of a group so that they can go on later",
		),
		a.groupAct("resume", "Let the paused jobs of a group go on"),
		a.groupAct("cancel", "Stop all jobs of a group and remove what they wrote"),
	)
}

func (a *app) groupList() *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List the groups, the newest first", Args: exactly(0),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, _ []string) error {
			groups, err := service.Groups(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(groups)
			}
			rows := [][]string{{"GROUP", "NAME", "JOBS", "DONE", "NOT DONE", "CREATED"}}
			for _, g := range groups {
				done, failed := tally(g)
				rows = append(rows, []string{g.Id, g.Name, fmt.Sprint(len(g.Jobs)), fmt.Sprint(done), fmt.Sprint(failed), when(g.Created)})
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}

// tally counts the jobs of a group that are done, and what failed, was cancelled or refused.
func tally(g api.Group) (done, failed int) {
	failed = len(g.Refused)
	for _, j := range g.Jobs {
		switch j.State {
		case api.JobStateDone:
			done++
		case api.JobStateFailed, api.JobStateCancelled:
			failed++
		}
	}
	return done, failed
}

func (a *app) groupShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show GROUP", Short: "Show the jobs of a group", Args: exactly(1),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			g, err := service.Group(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printGroup(g)
		}),
	}
	a.jsonFlag(c)
	return c
}

// printGroup fails when something of a group has failed.
func (a *app) printGroup(g api.Group) error {
	done, failed := tally(g)
	var err error
	if a.json {
		err = a.printJSON(g)
	} else {
		rows := [][]string{{"JOB", "STATE", "WHAT", "DESTINATION", "WHY"}}
		for _, j := range g.Jobs {
			why := ""
			if j.Reason != nil {
				why = *j.Reason
			}
			to := ""
			if j.Request.Destination != nil {
				to = j.Request.Destination.String()
			}
			rows = append(rows, []string{j.Id, stateOf(j), j.Request.Subject(), to, why})
		}
		for _, r := range g.Refused {
			rows = append(rows, []string{"-", "refused", r.Source.String(), "", r.Why})
		}
		if err = table(a.out, rows); err == nil {
			for _, j := range g.Jobs {
				for _, c := range *j.Warnings {
					a.remark("Job %s, %s: %s", j.Id, j.Request.Subject(), c.Message)
				}
			}
			a.remark("%s: %d of %d done, %d not done.", g.Name, done, len(g.Jobs)+len(g.Refused), failed)
		}
	}
	if err == nil && failed > 0 {
		err = told(errors.New("not all of the group is done"))
	}
	return err
}

func (a *app) groupAct(act, short string) *cobra.Command {
	c := &cobra.Command{
		Use: act + " GROUP", Short: short, Args: exactly(1),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			g, err := service.ActOnGroup(cmd.Context(), args[0], act)
			if err != nil {
				return err
			}
			return a.printGroup(g)
		}),
	}
	a.jsonFlag(c)
	return c
}

// completePools offers the names of pools that are not named yet.
func (a *app) completePools(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	all, directive := a.completePool(cmd, nil, begun)
	return slices.DeleteFunc(all, func(p string) bool { return slices.Contains(args, p) }), directive
}
