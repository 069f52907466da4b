package cli

import (
	"log/slog"
	"path/filepath"

	"bagaglio/internal/porter"

	"github.com/spf13/cobra"
)

// runsPorter has the command run a porter, where it is given none of those below it.
func (a *app) runsPorter(c *cobra.Command) {
	var join, invitation, peers, service string
	c.Long = `Runs a porter until it is interrupted: a computer near storage that works for a service elsewhere. It connects to the service, which reaches its files and sockets over that, with the rights
of the user that runs the porter; nothing has to be let through to it. The first time it joins with an invitation; who it is from then on lies in its state folder.`
	c.Example = `  bagaglio porter --join https://office.example:2248 --invitation annex.invitation
  bagaglio porter --peers annex.example:2249`
	c.Args = exactly(0)
	c.Flags().StringVar(&join, "join", "", "address of the service to join, HOST:PORT or a URL (default: the one that the invitation names)")
	c.Flags().StringVar(&invitation, "invitation", "", "file with the invitation; once it has joined, none is needed")
	c.Flags().
		StringVar(&peers, "peers", "", "address at which other porters read from this one, HOST:PORT; without it, what goes to them goes through the service")
	c.Flags().
		StringVar(&service, "service", "", "address of the service, HOST:PORT, when it is found elsewhere than when this porter joined; it is kept")
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		state, err := a.stateFolder()
		if err != nil {
			return err
		}
		state = filepath.Join(state, "porter")
		var id *porter.Identity
		if invitation != "" {
			id, err = porter.Join(cmd.Context(), state, join, invitation)
		} else if join != "" {
			return usage("joining takes an invitation: bagaglio porter invite NAME there, and then --invitation FILE")
		} else {
			id, err = porter.Load(state)
		}
		if err == nil && service != "" {
			err = id.FindAt(service)
		}
		if err != nil {
			return err
		}
		return porter.Run(cmd.Context(), id, a.version, peers, slog.New(slog.NewTextHandler(a.notes, nil)))
	}
}
