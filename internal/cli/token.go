package cli

import (
	"fmt"
	"time"

	"bagaglio/api"

	"github.com/spf13/cobra"
)

func (a *app) token() *cobra.Command {
	return group("token", "Tokens: who is let in besides you, and what they may", a.tokenList(), a.tokenAdd(), a.tokenRevoke())
}

func (a *app) tokenList() *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List the tokens, with their roles and when they were used last", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			all, err := service.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(all)
			}
			rows := [][]string{{"TOKEN", "ROLE", "WORKS ON", "CREATED", "EXPIRES", "USED"}}
			for _, t := range all {
				rows = append(rows, []string{t.Name, string(t.Role), worksOn(t.WorksOn), when(t.Created), whenOrNever(t.Expires), whenOrNever(t.Used)})
			}
			return table(a.out, rows)
		},
	}
	a.jsonFlag(c)
	return c
}

func whenOrNever(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return when(*t)
}

func (a *app) tokenAdd() *cobra.Command {
	var role string
	var days int
	var on []string
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a token for somebody, or for a program",
		Args:  exactly(1),
		Long: `Makes a token, and prints its secret, which is kept nowhere: whoever has it is let in, as the client by BAGAGLIO_TOKEN. A viewer looks and plans; an operator works with jobs,
machines and disks; an admin also decides where: hosts, pools, limits, tokens, and what is held and goes for good.`,
		Example: `  bagaglio token add night-watch --role viewer --days 30
  bagaglio token add night-copies --role operator --on host:lighthouse
  BAGAGLIO_TOKEN=... bagaglio now`,
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			n := api.NewToken{Name: args[0], Role: api.Role(role), WorksOn: onlyOn(on)}
			if cmd.Flags().Changed("days") {
				n.Days = &days
			}
			made, err := service.AddToken(cmd.Context(), n)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(made)
			}
			a.remark("%s is %s. Its secret is told this once:", made.Name, made.Role)
			_, err = fmt.Fprintln(a.out, made.Secret)
			return err
		},
	}
	c.Flags().StringVar(&role, "role", string(api.Viewer), "what it may: viewer, operator or admin")
	c.Flags().StringSliceVar(&on, "on", nil, onUsage)
	c.Flags().IntVar(&days, "days", 0, "after how many days it expires; never where this is not given")
	a.jsonFlag(c)
	return c
}

func (a *app) tokenRevoke() *cobra.Command {
	c := &cobra.Command{
		Use: "revoke NAME", Short: "Let nobody in by a token any more, nor by a session of the console that came of it", Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			if err := service.RevokeToken(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"token": args[0]}, "%s lets nobody in any more.", args[0])
		},
	}
	a.jsonFlag(c)
	return c
}
