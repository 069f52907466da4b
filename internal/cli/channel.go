package cli

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) channel() *cobra.Command {
	list := a.listing("list", "List who is told what happens, and whether they could be",
		func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			all, err := s.Channels(ctx)
			rows := [][]string{{"CHANNEL", "BY", "TO", "TELLS", "LAST", "WAITING", "PROBLEM"}}
			for _, c := range all {
				var tells []string
				for _, kind := range c.Tells {
					tells = append(tells, string(kind))
				}
				rows = append(rows, []string{
					c.Name,
					string(c.Kind),
					targetText(c.Target),
					strings.Join(tells, ","),
					whenOrNever(c.Last),
					strconv.Itoa(c.Waiting),
					deref(c.Problem),
				})
			}
			return all, rows, err
		})
	return group("channel", "Channels: who is told what happens", list, a.channelAdd(), a.channelTry(), a.channelRemove())
}

func targetText(t api.ChannelTarget) string {
	if t.To != nil {
		return strings.Join(*t.To, ",")
	}
	return cmp.Or(deref(t.Url), deref(t.Program))
}

func (a *app) channelAdd() *cobra.Command {
	var url, server, from, user, program string
	var to, tells []string
	var clear bool
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Have somebody, or a program, told what happens",
		Args:  exactly(1),
		Long: `Has somebody, or a program, told what happens: by a web server, by mail, or by a program in /etc/bagaglio/notices of the service's computer, which reads the message from its
standard input. Messages to web servers are signed (Standard Webhooks); the secret for that is printed once. The password of a mail server is asked for, or is a line of the standard
input. What cannot be told is tried again for a day.`,
		Example: `  bagaglio channel add night-watch --url https://bell.example/bagaglio
  bagaglio channel add harbour-master --server mail.example:587 --from bagaglio@quay.example --to master@quay.example --tell failed,doubt,done
  bagaglio channel add bell --program ring`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			n := api.NewChannel{Name: args[0], Kind: api.NewChannelKindWeb, Target: api.ChannelTarget{Url: &url}}
			switch {
			case server != "":
				n.Kind, n.Target = api.NewChannelKindMail, api.ChannelTarget{Server: &server, From: &from, To: &to, User: &user, InTheClear: &clear}
			case program != "":
				n.Kind, n.Target = api.NewChannelKindProgram, api.ChannelTarget{Program: &program}
			}
			if user != "" {
				password, err := a.newPassword()
				if err != nil {
					return err
				}
				n.Password = &password
			}
			if len(tells) > 0 {
				n.Tells = &[]api.Told{}
				for _, kind := range tells {
					*n.Tells = append(*n.Tells, api.Told(kind))
				}
			}
			made, err := service.AddChannel(cmd.Context(), n)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(made)
			}
			a.remark("%s is told what happens from now on. To see whether that is accepted: bagaglio channel try %s", made.Name, made.Name)
			if made.Secret == nil {
				return nil
			}
			a.remark("What its messages are signed with is told this once:")
			_, err = fmt.Fprintln(a.out, *made.Secret)
			return err
		}),
	}
	c.Flags().StringVar(&url, "url", "", "address of a web server that is told")
	c.Flags().StringVar(&server, "server", "", "mail server, as HOST:PORT")
	c.Flags().StringVar(&from, "from", "", "whom mail is from")
	c.Flags().StringSliceVar(&to, "to", nil, "whom mail is to")
	c.Flags().StringVar(&user, "user", "", "who logs in to the mail server")
	c.Flags().BoolVar(&clear, "in-the-clear", false, "also where the mail server does not encrypt")
	c.Flags().StringVar(&program, "program", "", "name of a program in /etc/bagaglio/notices")
	c.Flags().
		StringSliceVar(&tells, "tell", nil, "what is told: question, consent, stopped, blocked, failed, doubt, away, full, drive, done (all but done)")
	c.MarkFlagsOneRequired("url", "server", "program")
	c.MarkFlagsMutuallyExclusive("url", "server", "program")
	a.jsonFlag(c)
	return c
}

func (a *app) channelTry() *cobra.Command {
	c := &cobra.Command{
		Use: "try NAME", Short: "Tell a channel that it is tried out, and say whether that is accepted", Args: exactly(1),
		Example: "  bagaglio channel try night-watch",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.TryChannel(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"channel": args[0]}, "It was accepted.")
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) channelRemove() *cobra.Command {
	c := &cobra.Command{
		Use: "remove NAME", Short: "Tell a channel nothing any more", Args: exactly(1),
		Example: "  bagaglio channel remove night-watch",
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.RemoveChannel(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"channel": args[0]}, "%s is told nothing any more.", args[0])
		}),
	}
	a.jsonFlag(c)
	return c
}
