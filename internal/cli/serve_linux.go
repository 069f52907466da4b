package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"bagaglio/core/step/disks"
	"bagaglio/internal/access"
	"bagaglio/internal/api"
	"bagaglio/internal/authority"
	"bagaglio/internal/service"
	"bagaglio/web"

	"github.com/spf13/cobra"
	"golang.org/x/net/netutil"
	"golang.org/x/sys/unix"
)

// serviceCommands are those of which the service is made: it runs on Linux.
func (a *app) serviceCommands() []*cobra.Command {
	return []*cobra.Command{a.serve(), a.demo(), a.recovery()}
}

// ignoreFileLimit has a file that grows beyond the limit of the user be an error of the write, not the end of the process.
func ignoreFileLimit() { signal.Ignore(syscall.SIGXFSZ) }

// alive tells whether a process is there, also one of another user.
func alive(pid int) bool { return !errors.Is(unix.Kill(pid, 0), unix.ESRCH) }

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
	c.Flags().Bool("second-person", false, "what takes data away for good waits until somebody else agrees, who was let in by another name")
	c.Flags().String("porters", ":2248", "address that porters connect to, from the first invitation on; empty for none")
	c.Flags().
		String("engine", "", "address of an engine elsewhere (NATS with JetStream) that a copy of the records is kept in, so that another service can take over: nats://HOST:PORT")
	c.Flags().String("engine-credentials", "", "file with the credentials that are shown there")
	c.Flags().Int("engine-copies", 1, "on how many of its computers the engine keeps the records")
	c.Flags().String("recovery-to", "", "what the recovery key is known by that the copy is encrypted for (bagaglio recovery key)")
	c.Flags().String("recovery-key", "", "file with the recovery key: take over the records in the engine, into an empty state folder")
	c.Flags().String("listen", "127.0.0.1:2247", "address to listen on; port 0 takes a free one")
	c.Flags().
		String("certificate", "", "file with the certificate (PEM) that connections are encrypted by; it is read again when it has changed")
	c.Flags().String("key", "", "file with its key")
	c.Flags().
		Bool("own-authority", false, "encrypt connections by a certificate of an authority that the service makes; its clients trust trusted.pem in the state folder")
	c.Flags().
		StringSlice("name", nil, "another name or address that the service is reached by, for the certificate of its own authority; with --acme, names alone")
	c.Flags().
		String("acme", "", "address of an authority that speaks ACME, whose terms are agreed to; it looks for the service at port 443 of each --name")
	c.Flags().String("acme-contact", "", "address for mail that it tells of trouble")
	c.Flags().Bool("in-the-clear", false, "answer other computers without encryption: what stands before it encrypts, say")
	c.Flags().String("openid", "", "address of an OpenID provider that signs people in to the console")
	c.Flags().String("openid-client", "bagaglio", "what the service is called there")
	c.Flags().String("openid-secret", "", "file with the secret that it has there; a public client has none")
	c.Flags().String("openid-claim", "groups", "claim that has the groups of somebody, which is asked for as a scope too")
	c.Flags().StringSlice("openid-role", nil, "what a group there may here, as GROUP=ROLE")
	c.MarkFlagsRequiredTogether("certificate", "key")
	c.MarkFlagsMutuallyExclusive("certificate", "own-authority", "acme", "in-the-clear")
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
	key, to, err := a.recoveryKeys()
	if err != nil {
		return err
	}
	s, err := service.Open(ctx, state, service.Options{
		Engine: a.config.GetString(
			"engine",
		),
		EngineCredentials: a.config.GetString("engine-credentials"),
		EngineCopies:      a.config.GetInt("engine-copies"),
		RecoveryTo:        to,
		RecoveryKey:       key,
		Hold: a.config.GetDuration(
			"hold",
		),
		Checkpoint: a.config.GetDuration("checkpoint"),
		LogLines:   a.config.GetInt("log-lines"),
		LogAge:     a.config.GetDuration("log-age"),
		Secrets:    a.config.GetString("secrets"),

		SecondPerson: a.config.GetBool("second-person"),
		Porters:      a.config.GetString("porters"),
		Version:      a.version,
	}, log)
	if err != nil {
		return err
	}
	line, encrypt, err := a.listen(state, log)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	address := addressOf(line, encrypt)
	files, err := fs.Sub(web.Files, "dist/app")
	if err != nil {
		return errors.Join(err, s.Close())
	}
	provider, err := a.provider(s.Access)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	server := &http.Server{
		Handler: api.New(s, api.Options{
			Version: a.version, Console: files, Loopback: line.Addr().(*net.TCPAddr).IP.IsLoopback(), Provider: provider,
		}),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       30 * time.Second, // of a body too: none is long
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		TLSConfig:         encrypt,
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelDebug), // whoever does not trust it hangs up
	}
	line = netutil.LimitListener(line, connections())
	file := filepath.Join(state, addressFile)
	if err := os.WriteFile(file, []byte(address+"\n"), 0o600); err != nil {
		return errors.Join(err, s.Close())
	}
	link, _ := s.Access.NewLink(access.Person{Role: access.Admin})
	if _, err := fmt.Fprintf(
		a.out,
		"Bagaglio %s answers at %s\nTo open the console, once and within 15 minutes: %s\n",
		a.version,
		address,
		api.LinkURL(address, link),
	); err != nil {
		return errors.Join(err, s.Close())
	}
	failed := make(chan error, 1)
	go func() {
		if encrypt != nil {
			failed <- server.ServeTLS(line, "", "")
		} else {
			failed <- server.Serve(line)
		}
	}()
	select {
	case err = <-failed:
	case err := <-s.Lost(): // another one has its jobs: this one writes nothing more
		a.remark("%v.", err)
		os.Exit(exitTakenOver)
	case <-ctx.Done():
		a.remark("Stopping.")
	}
	err = errors.Join(err, s.Close(), os.Remove(file)) // ends the streams, so that the server can end
	closing, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return errors.Join(err, server.Shutdown(closing))
}

// provider is who signs people in besides the service itself, nil for nobody.
func (a *app) provider(to *access.Access) (*access.Provider, error) {
	is := access.OpenID{
		Issuer: a.config.GetString("openid"), Client: a.config.GetString("openid-client"), Claim: a.config.GetString("openid-claim"),
		Roles: map[string]access.Role{},
	}
	if is.Issuer == "" {
		return nil, nil
	}
	for _, row := range a.config.GetStringSlice("openid-role") {
		n := strings.LastIndex(row, "=")
		if n < 0 {
			return nil, usage("%q does not say what a group of %s may: write GROUP=ROLE", row, is.Issuer)
		}
		is.Roles[row[:n]] = access.Role(row[n+1:])
	}
	if file := a.config.GetString("openid-secret"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("reading the secret for %s: %w", is.Issuer, err)
		}
		is.Secret = strings.TrimSpace(string(text))
	}
	return to.NewProvider(is)
}

// listen opens the address that the service answers at, and says how connections are encrypted, nil where they are not.
func (a *app) listen(state string, log *slog.Logger) (net.Listener, *tls.Config, error) {
	line, err := net.Listen("tcp", a.config.GetString("listen"))
	if err != nil {
		return nil, nil, fmt.Errorf("listening: %w; choose another address with --listen", err)
	}
	ip := line.Addr().(*net.TCPAddr).IP
	var encrypt *tls.Config
	switch {
	case a.config.GetString("certificate") != "":
		encrypt, err = authority.Given(state, a.config.GetString("certificate"), a.config.GetString("key"))
	case a.config.GetBool("own-authority"), a.config.GetString("acme") != "":
		encrypt, err = a.ownOrACME(state, ip, log)
	case !ip.IsLoopback() && !a.config.GetBool("in-the-clear"):
		err = fmt.Errorf(
			"who reaches %s could read tokens, and disks, along: encrypt with --own-authority, --acme, or --certificate and --key; or say that this is meant with --in-the-clear",
			line.Addr(),
		)
	}
	if err != nil {
		return nil, nil, errors.Join(err, line.Close())
	}
	return line, encrypt, nil
}

// ownOrACME encrypts by certificates of the service's own authority, and, where that is asked for, by those of one that speaks ACME.
func (a *app) ownOrACME(state string, ip net.IP, log *slog.Logger) (*tls.Config, error) {
	own, err := authority.Open(state)
	if err != nil {
		return nil, err
	}
	names := a.config.GetStringSlice("name")
	encrypt := own.Serve(append(ownNames(ip), names...))
	if directory := a.config.GetString("acme"); directory != "" {
		from := authority.ACME{Directory: directory, Contact: a.config.GetString("acme-contact")}
		return from.Serve(state, names, encrypt, log)
	}
	return encrypt, nil
}

// ownNames are names and addresses that this computer is reached by, where it listens.
func ownNames(ip net.IP) []string {
	names := []string{"localhost", "127.0.0.1", "::1"}
	if host, err := os.Hostname(); err == nil {
		names = append(names, host)
	}
	if !ip.IsUnspecified() {
		return append(names, ip.String())
	}
	all, _ := net.InterfaceAddrs() // without them it is reached by name
	for _, one := range all {
		if at, ok := one.(*net.IPNet); ok {
			names = append(names, at.IP.String())
		}
	}
	return names
}

// addressOf is where clients on this computer reach the service.
func addressOf(line net.Listener, encrypt *tls.Config) string {
	at := line.Addr().(*net.TCPAddr)
	host := at.IP.String()
	if at.IP.IsUnspecified() {
		host = "localhost"
	}
	scheme := "http://"
	if encrypt != nil {
		scheme = "https://"
	}
	return scheme + net.JoinHostPort(host, strconv.Itoa(at.Port))
}
