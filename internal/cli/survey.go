package cli

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"os"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

// listFlags are those of commands that take a list of requests.
type listFlags struct {
	of                string
	each              []string
	name, hours       string
	atOnce, stopAfter int
}

func (l *listFlags) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&l.of, "machines-of", "", "a request for each machine of this host")
	f.StringArrayVar(
		&l.each,
		"each",
		nil,
		"what each request has that does not say otherwise, under the names of the API: KEY=VALUE, as destination.pool=lamp-room",
	)
	f.StringVar(&l.name, "name", "", "name of the group (default: that of the file or host)")
	f.StringVar(&l.hours, "hours", "", "run only in these hours, as 22:00-06:00")
	f.IntVar(&l.atOnce, "at-once", 0, "how many run at once, in their order (default: as many as limits allow)")
	f.IntVar(&l.stopAfter, "stop-after", 0, "have the others wait after so many failed")
}

// read puts the list together.
func (l listFlags) read(ctx context.Context, service *client.Service, args []string) (g api.NewGroupPlan, err error) {
	var list listed
	switch {
	case (len(args) == 1) == (l.of != ""):
		return g, usage("name a file with a list, or a host (--machines-of)")
	case l.of != "":
		all, err := service.Machines(ctx, l.of)
		if err != nil {
			return g, err
		}
		list.Name = "machines of " + l.of
		for _, m := range all.Items {
			list.Requests = append(list.Requests, map[string]any{"machine": m.Host + ":" + m.Name})
		}
	default:
		if list, err = readList(args[0]); err != nil {
			return g, err
		}
	}
	each := map[string]any{}
	for _, e := range l.each {
		name, value, ok := strings.Cut(e, "=")
		if !ok {
			return g, usage("--each %q: it is written KEY=VALUE", e)
		}
		put(each, name, value)
	}
	list.Each = merged(list.Each, each)
	if l.name != "" {
		list.Name = l.name
	}
	if l.hours != "" {
		list.Hours = l.hours
	}
	if l.atOnce > 0 {
		list.AtOnce = l.atOnce
	}
	if l.stopAfter > 0 {
		list.StopAfter = l.stopAfter
	}
	return list.group()
}

// planned is the plan of a group.
func planned(ctx context.Context, service *client.Service, n api.NewGroupPlan) (api.GroupPlan, error) {
	g, err := service.PlanGroup(ctx, n)
	if err == nil && g.Problem != nil {
		err = errors.New(*g.Problem)
	}
	return g, err
}

func (a *app) groupSurvey() *cobra.Command {
	var list listFlags
	var page string
	c := &cobra.Command{
		Use:   "survey [FILE]",
		Short: "Plan many requests before anything is decided: what can go, what stands in the way, what is lost, room and time",
		Long: `Plans a list of requests, of a file or of all machines of a host, and says of each whether it can go, what stands in its way and what will be lost, and of each pool
what goes into it. Nothing is started. A file is YAML, with what all requests have (each) and the requests, under the names of the API; or CSV, with a line for each
request under a line with the names.`,
		Example: `  bagaglio group survey --machines-of quay --each kind=move-machine --each to=lighthouse --each destination.pool=lamp-room --each stop=true
  bagaglio group survey weekend.yaml --page weekend.html`,
		Args: between(0, 1),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			n, err := list.read(cmd.Context(), service, args)
			if err != nil {
				return err
			}
			g, err := planned(cmd.Context(), service, n)
			if err != nil {
				return err
			}
			if page != "" {
				if err := writePage(page, g); err != nil {
					return err
				}
				a.remark("The page is in %s.", page)
			}
			if a.json {
				return a.printJSON(g)
			}
			return a.printSurvey(g)
		}),
	}
	list.flags(c)
	c.Flags().StringVar(&page, "page", "", "write it as a page to print, too: FILE.html")
	a.jsonFlag(c)
	return c
}

func (a *app) printSurvey(g api.GroupPlan) error {
	if err := table(a.out, append(surveyRows(g), []string{})); err != nil {
		return err
	}
	if len(g.Rooms) > 0 {
		if err := table(a.out, append(roomRows(g), []string{})); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintln(a.out, verdict(g))
	return err
}

// surveyPage is a survey to be printed.
var surveyPage = template.Must(template.New("survey").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{.Name}}</title>
<style>
body { font: 11pt/1.4 sans-serif; margin: 2cm }
table { border-collapse: collapse; width: 100%; margin: 0 0 1.5em }
th, td { border: 1px solid #999; padding: .3em .5em; text-align: left; vertical-align: top }
tr { break-inside: avoid }
@media print { body { margin: 0 } }
</style></head><body>
<h1>{{.Name}}</h1>
<p>{{.Verdict}} As of {{.At}}.</p>
{{range .Tables}}<table>{{range $i, $row := .}}<tr>{{range $row}}{{if $i}}<td>{{.}}</td>{{else}}<th>{{.}}</th>{{end}}{{end}}</tr>
{{end}}</table>
{{end}}</body></html>
`))

func writePage(file string, g api.GroupPlan) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("%w: nothing is overwritten", err)
	}
	err = surveyPage.Execute(f, map[string]any{
		"Name": g.Name, "Verdict": verdict(g), "At": when(time.Now()), "Tables": [][][]string{surveyRows(g), roomRows(g)},
	})
	return errors.Join(err, f.Close())
}

func (a *app) groupStart() *cobra.Command {
	var list listFlags
	var yes, wait, without bool
	c := &cobra.Command{
		Use:   "start [FILE]",
		Short: "Start many requests as a group, in their order: a list of a file, or all machines of a host",
		Long:  `Plans a list of requests as group survey does, and starts them as a group: all of them or none, unless what is blocked is left out (--without-blocked).`,
		Example: `  bagaglio group start weekend.yaml --at-once 2 --stop-after 3 --hours 22:00-06:00
  bagaglio group start --machines-of quay --each kind=move-machine --each to=lighthouse --each destination.pool=lamp-room --each stop=true --each start=true`,
		Args: between(0, 1),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			n, err := list.read(cmd.Context(), service, args)
			if err != nil {
				return err
			}
			g, err := planned(cmd.Context(), service, n)
			if err != nil {
				return err
			}
			if !a.json {
				if err := a.printSurvey(g); err != nil {
					return err
				}
			}
			if g, err = a.leaveOut(cmd.Context(), service, g, n, without); err != nil {
				return err
			}
			if len(g.Parts) == 0 {
				a.remark("Nothing was started: all of it is blocked.")
				return nil
			}
			if !yes && !a.json && isTerminal(a.in) && isTerminal(a.notes) {
				if err := a.ask(fmt.Sprintf("Start %d job(s)?", len(g.Parts))); err != nil {
					return err
				}
			}
			started, err := service.StartGroup(cmd.Context(), g.Id)
			if err != nil {
				return err
			}
			if wait {
				if started, err = awaitGroup(cmd.Context(), service, started); err != nil {
					return err
				}
			}
			return a.printGroup(started)
		}),
	}
	list.flags(c)
	f := c.Flags()
	f.BoolVar(&without, "without-blocked", false, "leave out what a check blocks: otherwise nothing is started then")
	f.BoolVar(&yes, "yes", false, "do not ask")
	f.BoolVar(&wait, "wait", false, "return when all of it has ended")
	a.jsonFlag(c)
	return c
}

func (a *app) groupAnswer() *cobra.Command {
	c := &cobra.Command{
		Use: "answer GROUP ANSWER", Short: "Give all jobs of a group that ask something with such an answer that answer", Args: exactly(2),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			g, err := service.AnswerGroup(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.printGroup(g)
		}),
	}
	a.jsonFlag(c)
	return c
}
