package cli

import (
	"context"
	"errors"
	"fmt"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

// withService gives a command the service to talk to.
func (a *app) withService(run func(cmd *cobra.Command, service *client.Service, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		service, err := a.dial()
		if err != nil {
			return err
		}
		return run(cmd, service, args)
	}
}

// completion offers what an argument may be.
type completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// trial is a command that tries something out and says step by step what works.
func (a *app) trial(
	short string,
	complete completion,
	test func(*client.Service, context.Context, string) (api.Trial, error),
) *cobra.Command {
	c := &cobra.Command{
		Use: "test NAME", Short: short, Args: exactly(1), ValidArgsFunction: complete,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			t, err := test(service, cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(t)
			} else {
				err = a.printTrial(t)
			}
			if err == nil && !t.Worked {
				err = told(errors.New("not all of it worked"))
			}
			return err
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) printTrial(t api.Trial) error {
	rows := [][]string{{"", "STEP", "TOOK", "WHAT WAS FOUND"}}
	for _, s := range t.Steps {
		rows = append(rows, []string{map[bool]string{true: "ok", false: "FAILED"}[s.Worked], s.Name, fmt.Sprintf("%.2f s", s.Seconds), s.Said})
	}
	if err := table(a.out, rows); err != nil {
		return err
	}
	if t.Facts != nil {
		for _, caveat := range t.Facts.Caveats {
			if _, err := fmt.Fprintf(a.out, "Note: %s.\n", caveat); err != nil {
				return err
			}
		}
	}
	return nil
}
