package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"bagaglio/api"

	"github.com/spf13/cobra"
)

// lately is how many jobs of each kind are listed: of those that run, that wait, and that have ended within sinceThen.
const (
	lately    = 200
	sinceThen = 24 * time.Hour
)

// situation is what `now` tells, as JSON.
type situation struct {
	Needs   []api.Need `json:"needs"`
	Running []api.Job  `json:"running"`
	Ended   []api.Job  `json:"ended"`
}

func (a *app) now() *cobra.Command {
	c := &cobra.Command{
		Use:   "now",
		Short: "Tell what needs somebody, what runs, and what has ended within a day",
		Args:  exactly(0),
		Long: `Tells what needs somebody, the most urgent first: jobs that ask, or do not go on by themselves; those that failed, or made something that is damaged or not proven,
in the last three days; pools that are away or have next to no room; drives that can be unplugged. Then which jobs run, and which have ended within a day.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			now := situation{Running: []api.Job{}, Ended: []api.Job{}}
			if now.Needs, err = service.Needs(cmd.Context()); err != nil {
				return err
			}
			limit, since := lately, time.Now().Add(-sinceThen)
			for _, state := range []api.JobState{api.JobStateRunning, api.JobStateWaiting} {
				jobs, err := service.JobsOf(cmd.Context(), api.ListJobsParams{State: &state, Limit: &limit})
				if err != nil {
					return err
				}
				now.Running = append(now.Running, jobs...)
			}
			if now.Ended, err = service.JobsOf(cmd.Context(), api.ListJobsParams{EndedSince: &since, Limit: &limit}); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(now)
			}
			return a.printNow(now)
		},
	}
	a.jsonFlag(c)
	return c
}

func (a *app) printNow(now situation) error {
	var text strings.Builder
	if len(now.Needs) == 0 {
		fmt.Fprintln(&text, "Nothing needs you.")
	}
	for _, n := range now.Needs {
		fmt.Fprintf(&text, "%-9s %s: %s\n", needs[n.Kind], aboutOf(n), n.Text)
		if n.Job == nil || n.Job.Question == nil {
			continue
		}
		for _, answer := range n.Job.Question.Answers {
			fmt.Fprintf(&text, "          bagaglio job answer %s %-8s  %s\n", n.Job.Id, answer.Name, answer.Label)
		}
	}
	if _, err := io.WriteString(a.out, text.String()); err != nil {
		return err
	}
	for _, part := range []struct {
		title string
		jobs  []api.Job
	}{{"Running and waiting", now.Running}, {"Ended within a day", now.Ended}} {
		if len(part.jobs) == 0 {
			continue
		}
		if _, err := fmt.Fprintf(a.out, "\n%s\n", part.title); err != nil {
			return err
		}
		rows := [][]string{{"JOB", "STATE", "WORK", "SOURCE", "SIZE", "TOOK", "LEFT", "WHO"}}
		for _, j := range part.jobs {
			left := ""
			if !j.Ended && j.Progress != nil && j.Progress.SecondsLeft != nil {
				left = span(*j.Progress.SecondsLeft)
			}
			rows = append(rows, []string{
				j.Id, stateOf(j), workOf(j.Request), subjectOf(j.Request), sizeOf(j), tookOf(j, time.Now()), left, who(j),
			})
		}
		if err := table(a.out, rows); err != nil {
			return err
		}
	}
	return nil
}

// needs are the words for kinds of needs.
var needs = map[api.NeedKind]string{
	api.NeedKindQuestion: "ASKS",
	api.NeedKindConsent:  "AGREE",
	api.NeedKindStopped:  "STOPPED",
	api.NeedKindBlocked:  "BLOCKED",
	api.NeedKindFailed:   "FAILED",
	api.NeedKindDoubt:    "IN DOUBT",
	api.NeedKindAway:     "AWAY",
	api.NeedKindFull:     "FULL",
	api.NeedKindDrive:    "DRIVE",
}

// aboutOf names what a need is about.
func aboutOf(n api.Need) string {
	if n.Routine != nil {
		return "routine " + *n.Routine
	}
	if n.Consent != nil {
		return "consent " + *n.Consent
	}
	if n.Job == nil {
		return *n.Pool
	}
	return "job " + n.Job.Id + ", " + workOf(n.Job.Request) + " " + subjectOf(n.Job.Request)
}
