package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

func (a *app) person() *cobra.Command {
	list := a.listing("list", "List who signs in, what they may, and when they did last",
		func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			all, err := s.People(ctx)
			rows := [][]string{{"PERSON", "ROLE", "WORKS ON", "ADDED", "SIGNED IN"}}
			for _, p := range all {
				rows = append(rows, []string{p.Name, string(p.Role), worksOn(p.WorksOn), when(p.Created), whenOrNever(p.Used)})
			}
			return all, rows, err
		})
	return group("person", "People: who signs in to the console by name and password", list, a.personAdd(), a.personSet(), a.personRemove())
}

// typed asks for something that is not to be seen, at the terminal.
func (a *app) typed(what string) (string, error) {
	_, _ = fmt.Fprint(a.notes, what+": ")
	b, err := term.ReadPassword(int(a.in.(*os.File).Fd()))
	_, _ = fmt.Fprintln(a.notes)
	return string(b), err
}

// newPassword asks for one, twice where somebody types it.
func (a *app) newPassword() (string, error) {
	if !isTerminal(a.in) {
		line, err := bufio.NewReader(a.in).ReadString('\n')
		if line == "" && err != nil {
			return "", usage("give the password as a line of the standard input, or type it at a terminal")
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
	first, err := a.typed("New password")
	if err != nil {
		return "", err
	}
	second, err := a.typed("The same again")
	if err == nil && first != second {
		err = usage("these are two different passwords: try again")
	}
	return first, err
}

// worksOn says where somebody works.
func worksOn(only *[]string) string {
	if only == nil {
		return "everything"
	}
	return strings.Join(*only, ",")
}

const onUsage = "where their work is limited to: pool:NAME, host:NAME with all pools on it; all for everything"

// onlyOn reads --on.
func onlyOn(places []string) *[]string {
	switch {
	case len(places) == 0:
		return nil
	case len(places) == 1 && places[0] == "all":
		places = []string{}
	}
	return &places
}

func (a *app) personAdd() *cobra.Command {
	var role string
	var on []string
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Let somebody sign in by name and password",
		Args:  exactly(1),
		Long: `Lets somebody sign in to the console. The password is asked for, or is a line of the standard input; it has 12 characters or more. A viewer looks and plans; an operator works with
jobs, machines and disks; an admin also decides where: hosts, pools, limits, who is let in, and what is held and goes for good. The client is let in by tokens (bagaglio token).`,
		Example: `  bagaglio person add harbour-master --role operator
  bagaglio person add crew --role operator --on pool:quay-store,host:lighthouse`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			password, err := a.newPassword()
			if err != nil {
				return err
			}
			p, err := service.AddPerson(cmd.Context(), api.NewPerson{Name: args[0], Role: api.Role(role), Password: password, WorksOn: onlyOn(on)})
			if err != nil {
				return err
			}
			return a.did(p, "%s signs in as %s.", p.Name, p.Role)
		}),
	}
	c.Flags().StringVar(&role, "role", string(api.Viewer), "what they may: viewer, operator or admin")
	c.Flags().StringSliceVar(&on, "on", nil, onUsage)
	a.jsonFlag(c)
	return c
}

func (a *app) personSet() *cobra.Command {
	var role string
	var password bool
	var on []string
	c := &cobra.Command{
		Use: "set NAME", Short: "Give somebody another role or password, or have them work elsewhere; their sessions end", Args: exactly(1),
		Example: `  bagaglio person set harbour-master --role admin
  bagaglio person set harbour-master --on pool:quay-store
  bagaglio person set harbour-master --password`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			var change api.PersonChange
			if role != "" {
				r := api.Role(role)
				change.Role = &r
			}
			if len(on) > 0 {
				change.WorksOn = onlyOn(on)
			}
			if password {
				text, err := a.newPassword()
				if err != nil {
					return err
				}
				change.Password = &text
			}
			p, err := service.ChangePerson(cmd.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.did(p, "%s is %s, and works on %s. Whoever was signed in as %s is not any more.", p.Name, p.Role, worksOn(p.WorksOn), p.Name)
		}),
	}
	c.Flags().StringVar(&role, "role", "", "what they may: viewer, operator or admin")
	c.Flags().BoolVar(&password, "password", false, "ask for a new password")
	c.Flags().StringSliceVar(&on, "on", nil, onUsage)
	c.MarkFlagsOneRequired("role", "password", "on")
	a.jsonFlag(c)
	return c
}

func (a *app) personRemove() *cobra.Command {
	c := &cobra.Command{
		Use: "remove NAME", Short: "Let somebody sign in no more; their sessions end", Args: exactly(1),
		Example: "  bagaglio person remove harbour-master",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.RemovePerson(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"person": args[0]}, "%s does not sign in any more.", args[0])
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) session() *cobra.Command {
	list := a.listing("list", "List the sessions of the console that have not ended",
		func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			all, err := s.Sessions(ctx)
			rows := [][]string{{"SESSION", "WHO", "ROLE", "FROM", "BEGUN", "EXPIRES"}}
			for _, x := range all {
				rows = append(rows, []string{x.Id, cmp.Or(deref(x.Who), "by a link"), string(x.Role), x.From, when(x.Begun), when(x.Expires)})
			}
			return all, rows, err
		})
	end := &cobra.Command{
		Use: "end SESSION", Short: "End a session of the console", Args: exactly(1),
		Example: "  bagaglio session end 7b0a4b7e-3f0c-4b5f-9c0e-5a1c1d0c6a55",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.EndSession(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"session": args[0]}, "The session is ended.")
		}),
	}
	a.jsonFlag(end)
	return group("session", "Sessions of the console", list, end)
}
