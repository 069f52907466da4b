package cli

import (
	"context"
	"fmt"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"

	"github.com/spf13/cobra"
)

func (a *app) job() *cobra.Command {
	return group(
		"job",
		"Jobs: the work of the service",
		a.jobList(),
		a.jobShow(),
		a.jobFollow(),
		a.jobReceipt(),
		a.jobAct(
			"pause JOB",
			"Stop a job so that it can go on later",
			(*client.Service).Pause,
			"Job %s is being paused; what it has done stays.",
		),
		a.jobAct("resume JOB", "Let a paused job go on", (*client.Service).Resume, "Job %s goes on when it is its turn."),
		a.jobAnswer(),
		a.jobMove(),
		a.jobSet(),
		a.jobAct(
			"cancel JOB",
			"Stop a job and remove what it wrote",
			(*client.Service).Cancel,
			"Job %s is being stopped; what it has not finished is removed.",
		),
		a.jobUndo(),
		a.jobAgain(),
	)
}

func (a *app) jobList() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "List the jobs, the newest first", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			jobs, err := service.Jobs(cmd.Context(), limit)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(jobs)
			}
			rows := [][]string{{"JOB", "STATE", "WORK", "SOURCE", "DESTINATION", "SIZE", "TOOK", "WHO", "CREATED"}}
			for _, j := range jobs {
				to := ""
				if j.Request.Destination != nil {
					to = j.Request.Destination.String()
				}
				rows = append(rows, []string{
					j.Id, stateOf(j), workOf(j.Request), subjectOf(j.Request), to, sizeOf(j), tookOf(j, time.Now()), who(j), when(j.Created),
				})
			}
			return table(a.out, rows)
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "how many")
	a.jsonFlag(c)
	return c
}

// subjectOf names what a job is about.
func subjectOf(r plan.Request) string {
	switch {
	case r.Kind == plan.Undo:
		return "job " + r.Job
	case r.Machine != "":
		return r.Machine
	}
	return r.Source.String()
}

// sizeOf is the virtual size of a job's disks, empty where it has none.
func sizeOf(j api.Job) string {
	if j.Size == 0 {
		return ""
	}
	return size(j.Size)
}

// tookOf is for how long a job runs, or ran.
func tookOf(j api.Job, now time.Time) string {
	if j.Started == nil {
		return ""
	}
	if j.Finished != nil {
		now = *j.Finished
	}
	return span(now.Sub(*j.Started).Seconds())
}

func who(j api.Job) string {
	if j.Who == nil {
		return ""
	}
	return *j.Who
}

// workOf names what a job does, as people ask for it.
func workOf(r plan.Request) string {
	if r.Release {
		return "move"
	}
	return r.Kind
}

// stateOf tells the state, and the outcome where that says more.
func stateOf(j api.Job) string {
	if j.Outcome != nil && *j.Outcome == api.JobOutcomeDamaged {
		return "done with damage"
	}
	if j.State == api.JobStateWaiting && j.Reason != nil {
		return *j.Reason // it begins with "waits"
	}
	if j.State == api.JobStateDone && j.Outcome != nil {
		return fmt.Sprintf("%s, %s", j.State, *j.Outcome)
	}
	if !j.Ended && j.Progress != nil && j.Progress.Total > 0 {
		return fmt.Sprintf("%s, %s %d %%", j.State, j.Progress.Step, 100*j.Progress.Done/j.Progress.Total)
	}
	return string(j.State)
}

func (a *app) jobShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show JOB", Short: "Show a job with its plan", Args: exactly(1), ValidArgsFunction: a.completeJob,
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			j, err := service.Job(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(j)
			}
			rows := [][]string{{"job", j.Id}, {"state", stateOf(j)}, {"created", when(j.Created)}}
			if j.Started != nil {
				rows = append(rows, []string{"started", when(*j.Started)})
			}
			if j.Finished != nil {
				rows = append(rows, []string{"finished", when(*j.Finished)})
			}
			if j.Speed > 0 {
				rows = append(rows, []string{"speed limit", size(j.Speed) + "/s"})
			}
			if j.Hours != "" {
				rows = append(rows, []string{"hours", j.Hours})
			}
			if j.Reason != nil {
				rows = append(rows, []string{"reason", *j.Reason})
			}
			if j.Behind != nil {
				written := "not known"
				if j.Behind.Bytes != nil {
					written = size(*j.Behind.Bytes)
				}
				rows = append(
					rows,
					[]string{"copy of", when(j.Behind.Of)},
					[]string{"behind", span(float64(j.Behind.Seconds))},
					[]string{"written since", written},
					[]string{"next at", when(j.Question.Until)},
				)
			}
			if err := table(a.out, append(rows, []string{""})); err != nil {
				return err
			}
			if j.Question != nil {
				for _, c := range j.Question.Answers {
					a.remark("bagaglio job answer %s %-8s %s", j.Id, c.Name, c.Label)
				}
			}
			if j.StoppedBy != nil {
				j.Plan.Checks = append([]plan.Check{*j.StoppedBy}, j.Plan.Checks...)
			}
			return printPlan(a.out, *j.Plan)
		},
	}
	a.jsonFlag(c)
	return c
}

func (a *app) jobFollow() *cobra.Command {
	c := &cobra.Command{
		Use: "follow JOB", Short: "Watch a job to its end and print its receipt", Args: exactly(1), ValidArgsFunction: a.completeJob,
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			return a.report(a.follow(cmd.Context(), service, args[0], a.watcher()))
		},
	}
	a.jsonFlag(c)
	return c
}

func (a *app) jobReceipt() *cobra.Command {
	c := &cobra.Command{
		Use: "receipt JOB", Short: "Print what an ended job proves", Args: exactly(1), ValidArgsFunction: a.completeJob,
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			done, err := service.Receipt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printReceipt(done)
		},
	}
	a.jsonFlag(c)
	return c
}

// report prints the receipt of a job, if there is one, and passes on how it ended.
func (a *app) report(done receipt.Receipt, err error) error {
	if done.Outcome == "" { // nothing ran
		return err
	}
	if printErr := a.printReceipt(done); printErr != nil {
		return printErr
	}
	if err == nil {
		err = receiptError(done)
	}
	return err
}

// jobAct is a command that does one thing to a job.
func (a *app) jobAct(use, short string, act func(*client.Service, context.Context, string) (api.Job, error), remark string) *cobra.Command {
	c := &cobra.Command{
		Use: use, Short: short, Args: exactly(1), ValidArgsFunction: a.completeJob,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.actOn(cmd, remark, func(ctx context.Context, s *client.Service) (api.Job, error) { return act(s, ctx, args[0]) })
		},
	}
	a.jsonFlag(c)
	return c
}

// jobAnswer answers what a job asks.
func (a *app) jobAnswer() *cobra.Command {
	c := &cobra.Command{
		Use: "answer JOB NAME", Short: "Answer what a job asks, so that it goes on", Args: exactly(2),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.completeJob(cmd, args, begun)
			}
			if len(args) > 1 || a.configure(cmd) != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			service, err := a.dial()
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			j, err := service.Job(cmd.Context(), args[0])
			if err != nil || j.Question == nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			var names []string
			for _, c := range j.Question.Answers {
				names = append(names, cobra.CompletionWithDesc(c.Name, c.Label))
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.actOn(cmd, "Job %s goes on when it is its turn.", func(ctx context.Context, s *client.Service) (api.Job, error) {
				return s.Answer(ctx, args[0], args[1])
			})
		},
	}
	a.jsonFlag(c)
	return c
}

// jobAgain starts the request of an ended job again, and waits for its end when that is asked for.
func (a *app) jobAgain() *cobra.Command {
	var wait bool
	c := &cobra.Command{
		Use: "again JOB", Short: "Start the request of an ended job again", Args: exactly(1), ValidArgsFunction: a.completeJob,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			j, err := service.Again(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if wait {
				a.remark("Job %s", j.Id)
				return a.report(a.follow(cmd.Context(), service, j.Id, a.watcher()))
			}
			if a.json {
				return a.printJSON(j)
			}
			a.remark("Job %s has been started.", j.Id)
			return nil
		}),
	}
	c.Flags().BoolVar(&wait, "wait", false, "wait for its end, and print its receipt")
	a.jsonFlag(c)
	return c
}

// jobUndo takes back what a job did that has ended.
func (a *app) jobUndo() *cobra.Command {
	var planOnly, yes bool
	c := &cobra.Command{
		Use:   "undo JOB",
		Short: "Take back what an ended job did",
		Long: `Takes back what an ended job did, as long as what it held is still there: a source that was moved gets its names again, definitions of
machines name the old place, and the image that the job made goes to the holding folder, where it stays for a while like all that is held.
Nothing is removed, and nothing is overwritten.`,
		Args:              exactly(1),
		ValidArgsFunction: a.completeJob,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.remote()
			if err != nil {
				return err
			}
			return a.planAndRun(cmd.Context(), w, plan.Request{Kind: plan.Undo, Job: args[0]}, planOnly, yes)
		},
	}
	c.Flags().BoolVar(&planOnly, "plan", false, "only say what would happen")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	a.detachFlag(c)
	a.jsonFlag(c)
	return c
}

// completeJob offers the numbers of jobs.
func (a *app) completeJob(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 || a.configure(cmd) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	service, err := a.dial()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	jobs, err := service.Jobs(cmd.Context(), 50)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, j := range jobs {
		out = append(out, j.Id)
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}
