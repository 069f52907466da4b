package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/routine"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
)

func (a *app) routine() *cobra.Command {
	list := a.listing("list", "List the routines, with when they are done next and what came of them last",
		func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			all, err := s.Routines(ctx)
			rows := [][]string{{"ROUTINE", "NEXT", "LAST", "WHAT CAME OF IT"}}
			for _, r := range all {
				last, came := "never", ""
				if len(r.Runs) > 0 {
					last, came = when(r.Runs[0].Due), cameOf(r.Runs[0])
				}
				rows = append(rows, []string{r.Work.Name, whenOrNever(r.Next), last, came})
			}
			return all, rows, err
		})
	return group("routine", "Routines: work that is done again and again, by hand or when its time comes",
		list, a.routineShow(), a.routinePut(), a.routineRun(), a.routineRemove())
}

// cameOf says what came of a run.
func cameOf(r api.Run) string {
	switch {
	case !r.Over:
		return "is being planned"
	case r.Problem != nil:
		return "not begun: " + *r.Problem
	case r.Group == nil && r.LeftOut == nil:
		return "there was nothing to do"
	case r.Group == nil:
		return fmt.Sprintf("nothing was begun; left out: %s", strings.Join(*r.LeftOut, "; "))
	case r.LeftOut != nil:
		return fmt.Sprintf("group %s; left out: %s", *r.Group, strings.Join(*r.LeftOut, "; "))
	default:
		return "group " + *r.Group
	}
}

func (a *app) routineShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show NAME", Short: "Show a routine as it is kept, and what came of it", Args: exactly(1),
		Example: "  bagaglio routine show monthly-proof",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			r, err := service.Routine(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(r)
			}
			b, err := json.Marshal(r.Work)
			var work any
			if err == nil {
				err = json.Unmarshal(b, &work)
			}
			if err == nil {
				b, err = yaml.Marshal(work)
			}
			if err != nil {
				return err
			}
			if _, err := a.out.Write(b); err != nil {
				return err
			}
			rows := [][]string{{}, {"DUE", "WHO", "WHAT CAME OF IT"}}
			for _, run := range r.Runs {
				rows = append(rows, []string{when(run.Due), run.Who, cameOf(run)})
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) routinePut() *cobra.Command {
	c := &cobra.Command{
		Use:   "put FILE|-",
		Short: "Keep a routine that is written in a file, in YAML or JSON, in the place of one of that name",
		Long: `Keeps a routine that is written in a file. It has a name, and requests as the API takes them, whose texts may have blanks, as <pool>; "blanks" says what they are filled with where
nobody says. With "each", the requests are made for each of the disks of a pool (<path>, <disk>) or of the machines of a host (<machine>, <name>). With "times", it is done when
its time comes: a cron line of minute, hour, day, month and day of the week, or once.`,
		Example: `  bagaglio routine put monthly-proof.yaml

  with monthly-proof.yaml:
    name: monthly-proof
    blanks: {pool: quay-store}
    each: {disks_of: <pool>, tagged: true}
    requests:
      - {kind: prove, source: {pool: <pool>, path: <path>}, tag: beside}
    leave_out: true
    times: {cron: "30 2 1 * *", zone: Europe/Rome, except: ["2027-01-01"]}`,
		Args: exactly(1),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			var r routine.Routine
			if err := a.readFile(args[0], &r); err != nil {
				return err
			}
			if err := r.Validate(); err != nil {
				return err
			}
			kept, err := service.PutRoutine(cmd.Context(), r)
			if err != nil {
				return err
			}
			if kept.Next == nil {
				return a.did(kept, "%s is kept. It is done by bagaglio routine run %s.", r.Name, r.Name)
			}
			return a.did(kept, "%s is kept, and is done at %s.", r.Name, when(*kept.Next))
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) routineRun() *cobra.Command {
	var said map[string]string
	var planOnly bool
	c := &cobra.Command{
		Use: "run NAME", Short: "Do a routine now", Args: exactly(1),
		Example: `  bagaglio routine run monthly-proof --plan
  bagaglio routine run monthly-proof --fill pool=lighthouse-store`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			n := api.NewRun{Blanks: &said}
			if planOnly {
				g, err := service.PlanRoutine(cmd.Context(), args[0], n)
				if err != nil {
					return err
				}
				if a.json {
					return a.printJSON(g)
				}
				return a.printSurvey(g)
			}
			run, err := service.RunRoutine(cmd.Context(), args[0], n)
			if err == nil {
				run, err = awaitRun(cmd.Context(), service, args[0], run)
			}
			switch {
			case err != nil:
				return err
			case a.json:
				return a.printJSON(run)
			case run.Problem != nil:
				return fmt.Errorf("nothing was begun: %s", *run.Problem)
			}
			if run.Group == nil {
				return a.did(run, "%s: %s.", args[0], cameOf(run))
			}
			return a.did(run, "%s: %s. To see how it does: bagaglio group show %s", args[0], cameOf(run), *run.Group)
		}),
	}
	c.Flags().StringToStringVar(&said, "fill", nil, "what a blank is filled with, as BLANK=TEXT")
	c.Flags().BoolVar(&planOnly, "plan", false, "only say what would happen")
	a.jsonFlag(c)
	return c
}

// awaitRun waits until it is known what came of a run.
func awaitRun(ctx context.Context, service *client.Service, name string, run api.Run) (api.Run, error) {
	for !run.Over {
		select {
		case <-ctx.Done():
			return run, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		r, err := service.Routine(ctx, name)
		if err != nil {
			return run, err
		}
		for _, one := range r.Runs {
			if one.Id == run.Id {
				run = one
			}
		}
	}
	return run, nil
}

func (a *app) routineRemove() *cobra.Command {
	c := &cobra.Command{
		Use: "remove NAME", Short: "Forget a routine; what it began goes on", Args: exactly(1),
		Example: "  bagaglio routine remove monthly-proof",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.RemoveRoutine(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"routine": args[0]}, "%s is forgotten.", args[0])
		}),
	}
	a.jsonFlag(c)
	return c
}
