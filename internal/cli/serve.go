package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"bagaglio/core/step/disks"
	"bagaglio/internal/access"
	"bagaglio/internal/api"
	"bagaglio/internal/service"
	"bagaglio/web"

	"github.com/spf13/cobra"
	"golang.org/x/net/netutil"
	"golang.org/x/sys/unix"
)

const (
	// addressFile is the file in the state folder from which the client takes where the service answers.
	addressFile = "address"
	tokenFile   = access.TokenFile
)

func (a *app) serve() *cobra.Command {
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: exactly(0),
		Long: `Runs the service until it is interrupted. Jobs that run then go on at the next start.`,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.runService(cmd.Context()) },
	}
	c.Flags().Duration("hold", disks.HoldFor, "for how long what is replaced is kept, to be restored")
	c.Flags().Duration("checkpoint", time.Second, "how often a job keeps how far it is; what it did since is done again after a crash")
	c.Flags().
		String("secrets", "", "folder with files that hosts may be logged in to with (file:NAME): FOLDER/ADDRESS/NAME, each for that address alone")
	c.Flags().Int("log-lines", 1_000_000, "how many lines of the log are kept; older ones are put aside in the state folder's log-archive")
	c.Flags().Duration("log-age", 2*365*24*time.Hour, "for how long they are")
	c.Flags().String("listen", "127.0.0.1:2247", "address to listen on; port 0 takes a free one")
	return c
}

// mostConnections bounds how many are open at once. The service itself needs files too, for its jobs: it keeps half of what it may have.
const mostConnections = 512

func connections() int {
	var files unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &files); err != nil {
		return mostConnections
	}
	return max(1, min(mostConnections, int(files.Cur/2)))
}

func (a *app) runService(ctx context.Context) error {
	state, err := a.stateFolder()
	if err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(a.notes, nil))
	s, err := service.Open(ctx, state, service.Options{
		Hold: a.config.GetDuration(
			"hold",
		),
		Checkpoint: a.config.GetDuration("checkpoint"),
		LogLines:   a.config.GetInt("log-lines"),
		LogAge:     a.config.GetDuration("log-age"),
		Secrets:    a.config.GetString("secrets"),
	}, log)
	if err != nil {
		return err
	}
	line, err := net.Listen("tcp", a.config.GetString("listen"))
	if err != nil {
		return errors.Join(fmt.Errorf("listening: %w; choose another address with --listen", err), s.Close())
	}
	address := line.Addr().String()
	files, err := fs.Sub(web.Files, "dist/app")
	if err != nil {
		return errors.Join(err, s.Close())
	}
	server := &http.Server{
		Handler:           api.New(s, api.Options{Version: a.version, Console: files, Loopback: line.Addr().(*net.TCPAddr).IP.IsLoopback()}),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       30 * time.Second, // of a body too: none is long
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
	}
	line = netutil.LimitListener(line, connections())
	file := filepath.Join(state, addressFile)
	if err := os.WriteFile(file, []byte("http://"+address+"\n"), 0o600); err != nil {
		return errors.Join(err, s.Close())
	}
	key, _ := s.Access.NewLink(access.Person{Role: access.Admin})
	if _, err := fmt.Fprintf(
		a.out,
		"Bagaglio %s answers at http://%s\nTo open the console, once and within 15 minutes: %s\n",
		a.version,
		address,
		api.LinkURL(address, key),
	); err != nil {
		return errors.Join(err, s.Close())
	}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(line) }()
	select {
	case err = <-failed:
	case <-ctx.Done():
		a.remark("Stopping.")
	}
	err = errors.Join(err, s.Close(), os.Remove(file)) // ends the streams, so that the server can end
	closing, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return errors.Join(err, server.Shutdown(closing))
}
