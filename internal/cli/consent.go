package cli

import (
	"cmp"
	"context"

	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) consent() *cobra.Command {
	list := a.listing("list", "List what takes data away for good and waits for somebody else to agree",
		func(ctx context.Context, s *client.Service) (any, [][]string, error) {
			all, err := s.Consents(ctx)
			rows := [][]string{{"CONSENT", "WOULD BE GONE", "ASKED FOR BY", "SINCE"}}
			for _, c := range all {
				rows = append(rows, []string{c.Id, c.Gone, cmp.Or(deref(c.Who), "the service's own token"), when(c.Asked)})
			}
			return all, rows, err
		})
	act := func(use, short, done string, do func(context.Context, *client.Service, string) error) *cobra.Command {
		c := &cobra.Command{
			Use: use + " CONSENT", Short: short, Args: exactly(1),
			Example: "  bagaglio consent " + use + " 7b0a4b7e-3f0c-4b5f-9c0e-5a1c1d0c6a55",
			RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
				if err := do(cmd.Context(), service, args[0]); err != nil {
					return err
				}
				return a.did(map[string]string{"consent": args[0]}, done)
			}),
		}
		a.jsonFlag(c)
		return c
	}
	give := act("give", "Agree to what somebody else asked for; it begins at once", "It is begun.",
		func(ctx context.Context, s *client.Service, id string) error {
			_, err := s.GiveConsent(ctx, id)
			return err
		})
	refuse := act("refuse", "Do not agree to what was asked for, or take back what one asked for oneself", "It is not done.",
		func(ctx context.Context, s *client.Service, id string) error { return s.RefuseConsent(ctx, id) })
	return group(
		"consent",
		"Consents: what takes data away for good and needs a second person (bagaglio serve --second-person)",
		list,
		give,
		refuse,
	)
}
