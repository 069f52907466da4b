package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) jobMove() *cobra.Command {
	var before string
	var first, last bool
	c := &cobra.Command{
		Use: "move JOB", Short: "Change the place of a waiting job in the queue", Args: exactly(1), ValidArgsFunction: a.completeJob,
		Example: "  bagaglio job move 12 --first\n  bagaglio job move 12 --before 9",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case first:
				before = "first"
			case before == "" && !last:
				return usage("say where to: --first, --last or --before JOB")
			}
			return a.actOn(
				cmd,
				"Job %s has its new place in the queue.",
				func(ctx context.Context, s *client.Service) (api.Job, error) { return s.Move(ctx, args[0], before) },
			)
		},
	}
	c.Flags().StringVar(&before, "before", "", "another waiting job")
	c.Flags().BoolVar(&first, "first", false, "before all others")
	c.Flags().BoolVar(&last, "last", false, "behind all others")
	c.MarkFlagsMutuallyExclusive("before", "first", "last")
	a.jsonFlag(c)
	return c
}

func (a *app) jobSet() *cobra.Command {
	var speed int64
	var hours string
	c := &cobra.Command{
		Use:               "set JOB",
		Short:             "Change the speed limit and the hours of a job, also while it runs",
		Args:              exactly(1),
		ValidArgsFunction: a.completeJob,
		Example:           "  bagaglio job set 12 --speed 50M\n  bagaglio job set 12 --hours 22:00-06:00",
		RunE: func(cmd *cobra.Command, args []string) error {
			var change api.JobChange
			if cmd.Flags().Changed("speed") {
				change.Speed = &speed
			}
			if cmd.Flags().Changed("hours") {
				change.Hours = &hours
			}
			if change == (api.JobChange{}) {
				return usage("say what to change: --speed or --hours")
			}
			return a.actOn(
				cmd,
				"Job %s is changed.",
				func(ctx context.Context, s *client.Service) (api.Job, error) { return s.Change(ctx, args[0], change) },
			)
		},
	}
	paceFlags(c, &speed, &hours)
	a.jsonFlag(c)
	return c
}

// paceFlags add what says how fast and when a job may run.
func paceFlags(c *cobra.Command, speed *int64, hours *string) {
	c.Flags().Var(length{speed}, "speed", "limit a second, such as 50M; 0 for none")
	c.Flags().StringVar(hours, "hours", "", "in which it may run, such as 22:00-06:00; empty for all")
}

// detachFlag is for all work: its end is waited for, or not.
func (a *app) detachFlag(c *cobra.Command) {
	var detach bool
	c.Flags().BoolVar(&detach, "detach", false, "start the job and do not wait for its end; its number is printed")
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if detach {
			a.detached = func(j api.Job) error {
				if a.json {
					return a.printJSON(j)
				}
				a.remark("The job goes on in the service: bagaglio job follow %s", j.Id)
				_, err := fmt.Fprintln(a.out, j.Id)
				return err
			}
		}
		return run(cmd, args)
	}
}

// actOn does one thing to a job and says so.
func (a *app) actOn(cmd *cobra.Command, remark string, act func(context.Context, *client.Service) (api.Job, error)) error {
	service, err := a.dial()
	if err != nil {
		return err
	}
	j, err := act(cmd.Context(), service)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(j)
	}
	a.remark(remark, j.Id)
	return nil
}

func (a *app) limits() *cobra.Command {
	return group("limit", "Limits: how many jobs run at once, and how fast", a.limitsList(), a.limitsSet(), a.limitsRemove())
}

func (a *app) limitsList() *cobra.Command {
	return a.listing("list", "List the limits", func(ctx context.Context, s *client.Service) (any, [][]string, error) {
		limits, err := s.Limits(ctx)
		rows := [][]string{{"OF", "NAME", "JOBS AT ONCE", "SPEED"}}
		for _, l := range limits {
			name, jobs, speed := l.Name, strconv.Itoa(l.Jobs), "no limit"
			if name == "" && l.Scope != api.LimitScopeService {
				name = "(each other)"
			}
			if l.Jobs == 0 {
				jobs = "no limit"
			}
			if l.Speed > 0 {
				speed = size(l.Speed) + "/s"
			}
			rows = append(rows, []string{string(l.Scope), name, jobs, speed})
		}
		return limits, rows, err
	})
}

func (a *app) limitsSet() *cobra.Command {
	var jobs int
	var speed int64
	c := &cobra.Command{
		Use:     "set service|host|pool|device [NAME]",
		Short:   "Change a limit, also for jobs that run; without a name for all that have none of their own",
		Example: "  bagaglio limit set service --jobs 4\n  bagaglio limit set pool quay-store --jobs 1 --speed 100M",
		Args:    between(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			change := api.Limit{Scope: api.LimitScope(args[0])}
			if len(args) > 1 {
				change.Name = args[1]
			}
			if !change.Scope.Valid() {
				return usage("%q has no limits: it is service, host, pool or device", args[0])
			}
			limits, err := service.Limits(cmd.Context())
			if err != nil {
				return err
			}
			for _, l := range limits { // what is not named stays
				if l.Scope == change.Scope && (l.Name == change.Name || l.Name == "") {
					change.Jobs, change.Speed, change.Etag = l.Jobs, l.Speed, l.Etag
				}
			}
			if cmd.Flags().Changed("jobs") {
				change.Jobs = jobs
			}
			if cmd.Flags().Changed("speed") {
				change.Speed = speed
			}
			now, err := service.SetLimit(cmd.Context(), change)
			if err != nil {
				return err
			}
			return a.did(now, "The limit holds from now on.")
		},
	}
	c.Flags().IntVar(&jobs, "jobs", 0, "how many run at once; 0 for as many as there are")
	c.Flags().Var(length{&speed}, "speed", "of all together a second, such as 100M; 0 for no limit")
	a.jsonFlag(c)
	return c
}

func (a *app) limitsRemove() *cobra.Command {
	c := &cobra.Command{
		Use: "remove service|host|pool|device [NAME]", Short: "Remove a limit that was set: that of its kind holds again", Args: between(1, 2),
		Example: "  bagaglio limit remove pool quay-store",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if !api.LimitScope(args[0]).Valid() {
				return usage("%q has no limits: it is service, host, pool or device", args[0])
			}
			if err := service.RemoveLimit(cmd.Context(), args[0], strings.Join(args[1:], "")); err != nil {
				return err
			}
			return a.did(map[string]string{"scope": args[0], "name": strings.Join(args[1:], "")}, "The limit is gone.")
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) leases() *cobra.Command {
	return group(
		"lease",
		"Leases: which job uses which file",
		a.listing("list", "List who uses what", func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			leases, err := s.Leases(ctx)
			rows := [][]string{{"FILE", "JOB", "STATE", "", "SINCE"}}
			for _, l := range leases {
				rows = append(rows, []string{l.File, l.Job, string(l.State), map[bool]string{true: "writes", false: "reads"}[l.Writes], when(l.Since)})
			}
			return leases, rows, err
		}),
		a.leasesFree(),
	)
}

func (a *app) leasesFree() *cobra.Command {
	c := &cobra.Command{
		Use:               "free JOB",
		Short:             "Free what an ended job left over; one that has not ended is cancelled instead",
		Args:              exactly(1),
		ValidArgsFunction: a.completeJob,
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			if err := service.FreeLeases(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"job": args[0]}, "What job %s held is free.", args[0])
		},
	}
	a.jsonFlag(c)
	return c
}

func (a *app) log() *cobra.Command {
	var (
		limit  int
		search string
	)
	c := a.listing(
		"log",
		"Print who did what, when, from where, and what came of it",
		func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			events, err := s.Events(ctx, 0, search, limit)
			rows := [][]string{{"WHEN", "WHO", "FROM", "WHAT", "OF", "RESULT"}}
			for _, e := range events {
				rows = append(rows, []string{when(e.At), e.Who, e.Origin, e.What, e.Subject, e.Result})
			}
			return events, rows, err
		},
	)
	c.Flags().IntVar(&limit, "limit", 50, "how many, the newest first")
	c.Flags().StringVar(&search, "with", "", "only lines that have this text in them")
	return c
}

// did says what was done: for people a remark, for programs a value.
func (a *app) did(value any, remark string, args ...any) error {
	if a.json {
		return a.printJSON(value)
	}
	a.remark(remark, args...)
	return nil
}

// listing is a command that prints what the service lists: for people the rows, for programs the values.
func (a *app) listing(
	use, short string,
	list func(context.Context, *client.Service) (values any, rows [][]string, err error),
) *cobra.Command {
	c := &cobra.Command{
		Use: use, Short: short, Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			values, rows, err := list(cmd.Context(), service)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(values)
			}
			return table(a.out, rows)
		},
	}
	a.jsonFlag(c)
	return c
}
