package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"bagaglio/client"
	"bagaglio/core/disk"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// flagGroups say what flags are about. Those that are named nowhere are of the command alone, and come first.
var flagGroups = []struct {
	title string
	flags []string
	rare  bool // told by --help-all only
}{
	{title: "Where it goes", flags: []string{"pool", "folder", "name", "network"}},
	{title: "The machine", flags: []string{"fit", "stop", "start", "within", "release", "leave-source"}},
	{title: "What is read", flags: []string{"from", "snapshot", "chain", "family", "without", "used-only", "whole"}},
	{title: "What is made", flags: []string{"as", "layout", "size", "grow", "fit-to", "base", "replace", "by-rules", "round-to"}},
	{title: "How it is proven", flags: []string{"no-proof", "against", "tag", "quick", "only-read"}},
	{title: "When, and how fast", flags: []string{"speed", "hours", "detach", "wait"}},
	{title: "Before it begins", flags: []string{"plan", "yes"}},
	{title: "For programs", flags: []string{"json"}},
	{
		title: "What may be lost",
		flags: []string{"recopy", "past-damage", "as-it-is", "without-knowing", "clear-held", "leave-definitions"},
		rare:  true,
	},
	{title: "How the source is opened", flags: []string{"within", "by-geometry"}, rare: true},
	{title: "Choices inside a layout", flags: layoutFlags(), rare: true},
	{title: "What lies in the new image, and beside it", flags: []string{"seed", "no-tag"}, rare: true},
}

// layoutFlags are those that optionFlags adds.
func layoutFlags() (names []string) {
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			for _, o := range l.Options {
				names = append(names, optionFlag(o.Name))
			}
		}
	}
	return names
}

// isWork tells whether a command does work on disks: those have many flags.
func isWork(c *cobra.Command) bool {
	return c.Flags().Lookup("plan") != nil && c.Flags().Lookup("as") != nil
}

// flagUsages are the flags of a command in groups, the rare ones when all are asked for.
func flagUsages(c *cobra.Command, all bool) string {
	if !isWork(c) {
		return "Flags:\n" + c.LocalFlags().FlagUsages()
	}
	var b strings.Builder
	rest := pflag.NewFlagSet("", pflag.ContinueOnError)
	more := 0
	write := func(title string, set *pflag.FlagSet) {
		if set.HasAvailableFlags() {
			_, _ = fmt.Fprintf(&b, "%s:\n%s\n", title, set.FlagUsages()) // a strings.Builder takes everything
		}
	}
	grouped := map[string]bool{}
	for _, g := range flagGroups {
		set := pflag.NewFlagSet("", pflag.ContinueOnError)
		set.SortFlags = false
		for _, name := range g.flags {
			if f := c.LocalFlags().Lookup(name); f != nil && !grouped[name] {
				grouped[name] = true
				set.AddFlag(f)
			}
		}
		if g.rare && !all {
			set.VisitAll(func(*pflag.Flag) { more++ })
			continue
		}
		write(g.title, set)
	}
	c.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if !grouped[f.Name] {
			rest.AddFlag(f)
		}
	})
	write("Others", rest)
	if more > 0 {
		_, _ = fmt.Fprintf(
			&b,
			"%d more are rarely needed: bagaglio %s --help-all\n",
			more,
			strings.TrimPrefix(c.CommandPath(), "bagaglio "),
		) // likewise
	}
	return strings.TrimRight(b.String(), "\n")
}

// usageTemplate is the help of a command below what it does.
const usageTemplate = `{{if .Runnable}}Usage:
  {{.UseLine}}
{{end}}{{if .HasAvailableSubCommands}}{{if .Runnable}}
{{end}}Commands:{{range .Commands}}{{if .IsAvailableCommand}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}
{{end}}{{if .HasExample}}
Examples:
{{.Example}}
{{end}}{{if .HasAvailableLocalFlags}}
{{flagUsages . (helpAll .)}}
{{end}}{{if .HasAvailableInheritedFlags}}
Everywhere:
{{.InheritedFlags.FlagUsages | trimTrailingWhitespaces}}
{{end}}{{if .HasAvailableSubCommands}}
More on one of them: {{.CommandPath}} COMMAND --help
{{end}}`

// withHelp gives all commands their help, and those that have many flags a second one.
func withHelp(root *cobra.Command) {
	cobra.AddTemplateFunc("flagUsages", flagUsages)
	cobra.AddTemplateFunc("helpAll", func(c *cobra.Command) bool {
		all, err := c.Flags().GetBool("help-all")
		return err == nil && all
	})
	root.SetUsageTemplate(usageTemplate)
	var each func(*cobra.Command)
	each = func(c *cobra.Command) {
		for _, below := range c.Commands() {
			each(below)
		}
		if !isWork(c) {
			return
		}
		c.Flags().Bool("help-all", false, "help with all flags")
		if err := c.Flags().MarkHidden("help-all"); err != nil {
			panic(err) // only for a flag that does not exist
		}
		run, args := c.RunE, c.Args
		c.Args = func(cmd *cobra.Command, given []string) error {
			if all, _ := cmd.Flags().GetBool("help-all"); all {
				return nil
			}
			return args(cmd, given)
		}
		c.RunE = func(cmd *cobra.Command, given []string) error {
			if all, _ := cmd.Flags().GetBool("help-all"); all {
				return cmd.Help()
			}
			return run(cmd, given)
		}
	}
	each(root)
}

// closest says which of some names somebody may have meant, as a question; nothing when none is close.
func closest(word string, names []string) string {
	c := &cobra.Command{SuggestionsMinimumDistance: 2}
	for _, name := range names {
		c.AddCommand(&cobra.Command{Use: name, Run: func(*cobra.Command, []string) {}})
	}
	found := c.SuggestionsFor(word)
	if len(found) == 0 {
		return ""
	}
	slices.Sort(found)
	return "; did you mean " + strings.Join(found, " or ") + "?"
}

// meant adds what somebody may have meant to an error about a request: a pool or a format that is nearly called so.
func (a *app) meant(ctx context.Context, r plan.Request, err error) error {
	var formats []string
	for _, f := range disk.Formats() {
		formats = append(formats, f.Name)
	}
	if hint := closest(r.As, formats); r.As != "" && !slices.Contains(formats, r.As) && hint != "" {
		return fmt.Errorf("%w%s", err, hint)
	}
	var answer *client.Error
	if !errors.As(err, &answer) || answer.Status != http.StatusNotFound {
		return err
	}
	service, dialErr := a.dial()
	if dialErr != nil {
		return err
	}
	pools, listErr := service.Pools(ctx)
	if listErr != nil {
		return err
	}
	var names []string
	for _, p := range pools {
		names = append(names, p.Name)
	}
	asked := []string{r.Source.Pool}
	if r.Destination != nil {
		asked = append(asked, r.Destination.Pool)
	}
	for _, pool := range asked {
		if hint := closest(pool, names); !slices.Contains(names, pool) && hint != "" {
			return fmt.Errorf("%w%s", err, hint)
		}
	}
	return err
}

// flagError adds what somebody may have meant to an error about flags.
func flagError(c *cobra.Command, err error) error {
	wrong, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return usageError{err}
	}
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	if hint := closest(wrong, names); hint != "" {
		return usage("%w%s", err, strings.ReplaceAll(strings.ReplaceAll(hint, "mean ", "mean --"), "or ", "or --"))
	}
	return usageError{err}
}
