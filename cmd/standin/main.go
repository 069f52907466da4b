// Standin is a small simulated host of machines, to try Bagaglio out and to test it: see docs/standin.md.
package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"bagaglio/internal/standin"

	"github.com/spf13/cobra"
)

// headersIn is for how long the head of a request is waited for.
const headersIn = 10 * time.Second

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command().ExecuteContext(ctx); err != nil {
		os.Exit(1)
	}
}

func command() *cobra.Command {
	var state, folder, listen, files, authorized, traits string
	c := &cobra.Command{
		Use: "standin", Short: "A simulated host of machines, with an HTTP API and its folder over SFTP", Args: cobra.NoArgs, SilenceUsage: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			t, err := standin.ReadTraits(traits)
			if err != nil {
				return err
			}
			h, err := standin.Open(state, folder, t)
			if err != nil {
				return err
			}
			defer h.Close()
			if authorized != "" {
				door, err := standin.OpenDoor(state, authorized)
				if err != nil {
					return err
				}
				l, err := net.Listen("tcp", files)
				if err != nil {
					return err
				}
				defer l.Close()
				go func() { _ = door.Serve(l) }() // until the listener is closed
				_, _ = fmt.Fprintf(cmd.OutOrStdout(), "files: %s, host key %s\n", l.Addr(), door.Fingerprint)
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			_, _ = fmt.Fprintf(cmd.OutOrStdout(), "machines: http://%s\n", l.Addr())
			server := &http.Server{Handler: h.Handler(), ReadHeaderTimeout: headersIn}
			go func() {
				<-cmd.Context().Done()
				_ = server.Close() // it ends
			}()
			if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&state, "state", ".", "the folder with its inventory and key")
	f.StringVar(&folder, "folder", ".", "the folder that the disks of its machines lie in")
	f.StringVar(&listen, "listen", "127.0.0.1:0", "the address of its API")
	f.StringVar(&files, "files", "127.0.0.1:0", "the address of its files, with --authorized")
	f.StringVar(&authorized, "authorized", "", "a file with the public keys of who may reach its files")
	f.StringVar(&traits, "traits", "", "a file that says what it accepts and how it behaves (YAML)")
	return c
}
