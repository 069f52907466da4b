// Package cli is the command-line client. Its commands talk to the service, or work on the spot on a path.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/step"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/viper"
	"golang.org/x/term"
)

// Exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitBlocked     = 3
	exitNotProven   = 4
	exitInterrupted = 130
)

// usageError is an error in how a command was called.
type usageError struct{ err error }

func (e usageError) Error() string { return e.err.Error() }
func (e usageError) Unwrap() error { return e.err }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// problemOf is an error for programs, as the service would tell it.
func problemOf(err error) api.Problem {
	var answer *client.Error
	if errors.As(err, &answer) {
		return answer.Problem
	}
	p := api.Problem{Type: "about:blank", Title: "Failed", Detail: err.Error()}
	var wrong usageError
	switch {
	case errors.As(err, &wrong) || errors.Is(err, plan.ErrRequest):
		p.Type, p.Title = api.ProblemInvalid, "Wrong use"
	case errors.Is(err, step.ErrBlocked):
		p.Type, p.Title = api.ProblemBlocked, "Blocked"
	}
	return p
}

// app is what all commands share.
type app struct {
	version string
	config  *viper.Viper
	in      io.Reader
	out     io.Writer // data only
	notes   io.Writer // progress and remarks
	json    bool
	pace    pace   // of a job, see paceFlags
	within  string // a folder of this computer, see sourceFlags
	// detached gets a job whose end is not to be waited for, see detachFlag.
	detached func(api.Job) error
}

// Run runs the command line and returns the exit code.
func Run(version string, args []string, in io.Reader, out, notes io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // who interrupts a second time does not want to wait
	ignoreFileLimit()
	a := &app{version: version, config: viper.New(), in: in, out: out, notes: notes}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(notes)
	err := root.ExecuteContext(ctx)
	switch {
	case err == nil || errors.Is(err, errTold):
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		a.remark("Interrupted.")
	default:
		a.remark("Error: %v", err)
		if a.json {
			_ = a.printJSON(problemOf(err)) // the exit code says that it failed
		}
	}
	return exitCode(ctx, err)
}

// Manual writes a page of the manual for each command into a folder, as of a day.
func Manual(version, folder string, day time.Time) error {
	a := &app{version: version, config: viper.New()}
	root := a.root()
	root.DisableAutoGenTag = true
	return doc.GenManTree(
		root,
		&doc.GenManHeader{Title: "BAGAGLIO", Section: "1", Source: "Bagaglio " + version, Manual: "Bagaglio", Date: &day},
		folder,
	)
}

func exitCode(ctx context.Context, err error) int {
	var wrong usageError
	var answer *client.Error
	switch {
	case err == nil:
		return exitDone
	case ctx.Err() != nil:
		return exitInterrupted
	case errors.As(err, &wrong) || errors.Is(err, plan.ErrRequest):
		return exitUsage
	case errors.Is(err, step.ErrBlocked):
		return exitBlocked
	case errors.Is(err, step.ErrNotProven):
		return exitNotProven
	case errors.As(err, &answer) && answer.Type == api.ProblemBlocked:
		return exitBlocked
	case errors.As(err, &answer) && answer.Status == 400:
		return exitUsage
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "bagaglio",
		Short: "Move virtual disks between formats and places, and prove what arrived",
		Long: `Bagaglio converts, copies and moves virtual disks, and proves that what arrived is what left.

A disk in a pool of the service is written POOL:PATH. A path that begins with /, ./ or ../ is worked on
on the spot, in this process, and needs no service.`,
		SilenceErrors:     true,
		SilenceUsage:      true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return a.configure(cmd) },
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("%q is not a command%s", args[0], orSee(cmd, args[0]))
			}
			return cmd.Help()
		},
		Args: cobra.ArbitraryArgs,
	}
	flags := root.PersistentFlags()
	flags.String("config", "", "configuration file (default: bagaglio.yaml in the user's configuration folder or /etc/bagaglio)")
	flags.String("state", "", "the service's state folder (default: bagaglio in the user's state folder)")
	flags.String("address", "", "the service's address, such as http://127.0.0.1:2247")
	flags.String("authority", "", "file with the certificate (PEM) of the authority that the service at that address is known by")
	root.SetHelpCommand(&cobra.Command{
		Use: "help [COMMAND]", Short: "Print the help of a command",
		RunE: func(_ *cobra.Command, args []string) error {
			c, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				return usage("%q is not a command: see bagaglio --help", strings.Join(args, " "))
			}
			return c.Help()
		},
	})
	root.SetFlagErrorFunc(flagError)
	root.Version = a.version
	root.SetVersionTemplate("{{.Version}}\n")
	root.AddCommand(
		a.console(),
		a.host(),
		a.machine(),
		a.pool(),
		a.look(),
		a.take(),
		a.device(),
		a.capture(),
		a.convert(),
		a.resize(),
		a.writeBack(),
		a.remove(),
		a.name(),
		a.family(),
		a.disk(),
		a.copy(),
		a.move(),
		a.compact(),
		a.join(),
		a.prove(),
		a.fingerprint(),
		a.do(),
		a.now(),
		a.find(),
		a.job(),
		a.group(),
		a.routine(),
		a.limits(),
		a.leases(),
		a.held(),
		a.log(),
		a.token(), a.person(), a.session(), a.channel(), a.consent(), a.porter(), a.file(), a.rebuild(),
		a.receipt(),
		a.reports(),
		a.versionCommand(),
	)
	root.AddCommand(a.serviceCommands()...)
	withExamples(root)
	withHelp(root)
	return root
}

// configure reads flags, environment (BAGAGLIO_...) and the configuration file, in this order of weight.
func (a *app) configure(cmd *cobra.Command) error {
	c := a.config
	c.SetEnvPrefix("BAGAGLIO")
	c.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	c.AutomaticEnv()
	if err := c.BindPFlags(cmd.Flags()); err != nil {
		return err
	}
	c.SetConfigName("bagaglio")
	c.SetConfigType("yaml")
	if dir, err := os.UserConfigDir(); err == nil {
		c.AddConfigPath(filepath.Join(dir, "bagaglio"))
	}
	c.AddConfigPath("/etc/bagaglio")
	if file := c.GetString("config"); file != "" {
		c.SetConfigFile(file)
	}
	var none viper.ConfigFileNotFoundError
	if err := c.ReadInConfig(); err != nil && !errors.As(err, &none) {
		return usage("reading the configuration: %w", err)
	}
	return nil
}

// stateFolder is where the service keeps its records, and where the client on the same computer finds it.
func (a *app) stateFolder() (string, error) {
	if dir := a.config.GetString("state"); dir != "" {
		return filepath.Abs(dir)
	}
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "bagaglio"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", usage("there is no home folder to keep the state in: name one with --state")
	}
	return filepath.Join(home, ".local", "state", "bagaglio"), nil
}

// exactly wraps cobra's check of arguments so that it counts as wrong use.
func exactly(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := cobra.ExactArgs(n)(cmd, args); err != nil {
			return usage("%w: bagaglio %s", err, strings.TrimPrefix(cmd.UseLine(), "bagaglio "))
		}
		return nil
	}
}

// between does likewise for a number of arguments in a range.
func between(least, most int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := cobra.RangeArgs(least, most)(cmd, args); err != nil {
			return usage("%w: bagaglio %s", err, strings.TrimPrefix(cmd.UseLine(), "bagaglio "))
		}
		return nil
	}
}

// isTerminal tells whether somebody looks at f.
func isTerminal(f any) bool {
	file, ok := f.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// group is a command that only has others below it.
func group(use, short string, below ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{
		Use: use, Short: short, Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("%s has no command %q%s", use, args[0], orSee(cmd, args[0]))
			}
			return cmd.Help()
		},
	}
	c.AddCommand(below...)
	return c
}

// orSee says what may have been meant, or where the commands are told.
func orSee(c *cobra.Command, word string) string {
	var names []string
	for _, below := range c.Commands() {
		names = append(names, below.Name())
	}
	if hint := closest(word, names); hint != "" {
		return hint
	}
	return ": see " + c.CommandPath() + " --help"
}

// jsonFlag lets a command print for programs.
func (a *app) jsonFlag(c *cobra.Command) {
	c.Flags().BoolVar(&a.json, "json", false, "print for programs")
}

func (a *app) versionCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "version", Short: "Print the version", Args: exactly(0),
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return a.printJSON(map[string]string{"version": a.version})
			}
			_, err := fmt.Fprintln(a.out, a.version)
			return err
		},
	}
	a.jsonFlag(c)
	return c
}
