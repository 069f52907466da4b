// Standin is a small simulated host of machines, to try Bagaglio out and to test it: see docs/standin.md.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"bagaglio/internal/standin"

	"github.com/spf13/cobra"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := command().ExecuteContext(ctx)
	stop()
	if err != nil {
		os.Exit(1)
	}
}

func command() *cobra.Command {
	var o standin.Options
	var traits string
	c := &cobra.Command{
		Use: "standin", Short: "A simulated host of machines, with an HTTP API and its folder over SFTP", Args: cobra.NoArgs, SilenceUsage: true,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if o.Traits, err = standin.ReadTraits(traits); err != nil {
				return err
			}
			return standin.Run(cmd.Context(), o, func(s standin.Started) {
				if s.Files != "" {
					_, _ = fmt.Fprintf(cmd.OutOrStdout(), "files: %s, host key %s\n", s.Files, s.HostKey)
				}
				_, _ = fmt.Fprintf(cmd.OutOrStdout(), "machines: %s\n", s.URL)
			})
		},
	}
	f := c.Flags()
	f.StringVar(&o.State, "state", ".", "the folder with its inventory and key")
	f.StringVar(&o.Folder, "folder", ".", "the folder that the disks of its machines lie in")
	f.StringVar(&o.Listen, "listen", "127.0.0.1:0", "the address of its API")
	f.StringVar(&o.Files, "files", "127.0.0.1:0", "the address of its files, with --authorized")
	f.StringVar(&o.Authorized, "authorized", "", "a file with the public keys of who may reach its files")
	f.StringVar(&traits, "traits", "", "a file that says what it accepts and how it behaves (YAML)")
	return c
}
