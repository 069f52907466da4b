package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

func (a *app) convert() *cobra.Command {
	r := plan.Request{Kind: plan.Convert}
	var planOnly, yes bool
	c := &cobra.Command{
		Use:   "convert SOURCE DESTINATION",
		Short: "Make an image of another format or layout, and prove it",
		Long: `Makes an image of another format or layout, and proves it. A DESTINATION that ends in : or / is a pool or a folder: there the image gets the name
of the source, with the extension of its format. Between a path of this computer and a pool it goes through the service; what arrived is compared with what was
read at the other end, and a line that was cut goes on where it was when the same command is given again, up, or by itself. A - is standard input, or standard
output, by a file in the folder that TMPDIR names.`,
		Example: `  bagaglio convert ./ticketing.raw ./ticketing.qcow2
  bagaglio convert quay-store:ticketing.vmdk ./ticketing.qcow2
  bagaglio convert ./ticketing.qcow2 quay-store:brought/ --as vmdk
  bagaglio convert quay-store:ticketing.raw lighthouse-store: --as vhd --layout fixed
  bagaglio convert quay-store:ticketing.raw - --as vmdk --layout stream > ticketing.vmdk
  bagaglio convert - quay-store:brought.qcow2 --from raw < ticketing.raw`,
		Args:              exactly(2),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			run := func(from, to string) error { return a.convertOne(cmd.Context(), r, from, to, planOnly, yes) }
			if args[0] == standard || args[1] == standard {
				return a.throughPipes(piped{args[0], args[1], r.As, planOnly, !r.NoProof, run})
			}
			return run(args[0], args[1])
		},
	}
	f := c.Flags()
	f.StringVar(&r.As, "as", "", "format to convert to (default: what the destination's name says)")
	f.StringVar(&r.Layout, "layout", "", "layout of the format (default: its first)")
	f.StringVar(&r.Base, "base", "", "what the new image is to stand on, in a layout that does")
	f.Var(length{&r.RoundTo}, "round-to", "make the virtual size a multiple of this, such as 1M")
	f.StringVar(&r.Seed, "seed", "", "makes identifiers in the image: the same one gives the same bytes")
	optionFlags(f, &r.Options)
	a.sourceFlags(f, &r.Source)
	f.BoolVar(&r.Replace, "replace", false, "replace what lies at the destination, once the new image is proven")
	f.BoolVar(&r.NoProof, "no-proof", false, "do not read the new image back; the outcome is then unproven")
	f.BoolVar(&r.NoTag, "no-tag", false, "put no tag beside the new image")
	f.BoolVar(&r.Recopy, "recopy", false, "when the source changes while it is copied, copy again what differs")
	f.BoolVar(
		&r.PastDamage,
		"past-damage",
		false,
		"go on where the source cannot be read, with zeros in the place; the job then ends with damage",
	)
	selectionFlags(f, &r)
	fitFlags(f, &r)
	newPlaceFlag(f, &r)
	f.StringVar(&r.InUse, "in-use", "", "of a volume in a pool that somebody uses: snapshot, to read it from one")
	asItIsFlag(f, &r)
	byRulesFlag(f, &r)
	byFlag(f, &r)
	f.BoolVar(&r.ClearHeld, "clear-held", false, "to make room, remove for good what the destination's pool holds of replaced disks")
	paceFlags(c, &a.pace.speed, &a.pace.hours)
	a.detachFlag(c)
	f.BoolVar(&planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&yes, "yes", false, "do not ask")
	a.jsonFlag(c)
	for flag, complete := range map[string]cobra.CompletionFunc{"as": completeFormats, "from": completeFormats, "layout": completeLayouts} {
		if err := c.RegisterFlagCompletionFunc(flag, complete); err != nil {
			panic(err) // only for a flag that does not exist
		}
	}
	return c
}

// convertOne makes an image of one disk, here, in a pool, or between both.
func (a *app) convertOne(ctx context.Context, r plan.Request, from, to string, planOnly, yes bool) (err error) {
	if r.Source, err = source(from, r.Source); err != nil {
		return err
	}
	if r.As == "" && isFolder(to) {
		return usage("say which format: add --as FORMAT")
	}
	if err := newImage(&r, to); err != nil {
		return err
	}
	if err := baseOf(&r); err != nil {
		return err
	}
	var w worker
	if isHere(r.Source) != isHere(*r.Destination) {
		w, err = a.across(r)
	} else {
		w, err = a.worker(r.Source, *r.Destination)
	}
	if err != nil {
		return err
	}
	return a.planAndRun(ctx, w, r, planOnly, yes)
}

// newImage puts what was named as destination into r, and the format that its name tells when none was asked for.
func newImage(r *plan.Request, named string) error {
	to, err := place(intoFolder(named, *r))
	if err != nil {
		return err
	}
	r.Destination = &to
	if r.As == "" {
		if r.As = disk.Claim(to.Path); r.As == "" {
			return usage("the name %s does not tell a format: add --as FORMAT", to.Path)
		}
	}
	return nil
}

// selectionFlags are for work that may read a part of a disk only.
func selectionFlags(f *pflag.FlagSet, r *plan.Request) {
	f.BoolVar(
		&r.UsedOnly,
		"used-only",
		r.UsedOnly,
		"leave out what filesystems do not use, so that remains of deleted files do not travel; it reads as zeros",
	)
	f.StringSliceVar(&r.Without, "without", nil, "leave out this partition, by its number, name or label; it reads as zeros")
}

// asItIsFlag is for all work that reads a whole disk.
func asItIsFlag(f *pflag.FlagSet, r *plan.Request) {
	f.BoolVar(
		&r.WithoutKnowing,
		"without-knowing",
		false,
		"go on though it is not known whether something stands on the disk, or which machines use it",
	)
	f.BoolVar(
		&r.AsItIs,
		"as-it-is",
		false,
		"take the source as it is now, also where it is not what its tag says, or files of it are missing or short; the receipt tells it",
	)
}

// byFlag is for all work that porters do.
func byFlag(f *pflag.FlagSet, r *plan.Request) {
	f.StringVar(&r.By, "by", "", "who is to do it: a porter, or service (default: whoever moves the fewest bytes over the slowest lines)")
}

// byRulesFlag is for all work that puts disks into pools.
func byRulesFlag(f *pflag.FlagSet, r *plan.Request) {
	f.BoolVar(&r.ByRules, "by-rules", false, "do whatever the rules of the destination's pool ask for: format, size, name, folder")
}

func completeFormats(*cobra.Command, []string, string) (out []string, _ cobra.ShellCompDirective) {
	for _, f := range disk.Formats() {
		out = append(out, f.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func completeLayouts(c *cobra.Command, _ []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	as, _ := c.Flags().GetString("as") // the flag exists
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			if as == "" || as == f.Name {
				out = append(out, l.Name)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// planAndRun says what will happen, then what is happening, then what happened.
func (a *app) planAndRun(ctx context.Context, w worker, r plan.Request, planOnly, yes bool) error {
	p, err := w.plan(ctx, r)
	if err != nil {
		return a.meant(ctx, r, err)
	}
	goOn, err := a.showPlan(p, planOnly)
	if err == nil && goOn {
		a.remark("")
		if !yes && !a.json && isTerminal(a.in) && isTerminal(a.notes) {
			err = a.ask("Go ahead?")
		}
	}
	if err != nil || !goOn {
		if u, ok := w.(*up); ok && u.arrives.Id != "" {
			err = errors.Join(err, u.drop(ctx))
		}
		return err
	}
	return a.report(w.run(ctx, a.watcher()))
}

// showPlan says what will happen, and tells whether it is to be done.
func (a *app) showPlan(p plan.Plan, planOnly bool) (goOn bool, err error) {
	switch {
	case planOnly && a.json:
		err = a.printJSON(p)
	case planOnly:
		err = printPlan(a.out, p)
	default:
		err = printPlan(a.notes, p)
	}
	if p.OnlyRules() {
		a.remark("\nAll that the rules ask for is done with --by-rules.")
	}
	if err == nil && p.Blocked() {
		a.remark("\nNothing was done: what says STOP has to be settled first.")
		err = told(step.ErrBlocked)
		if a.json && !planOnly {
			stop := p.With(plan.Blocks)
			err = errors.Join(err, a.printJSON(api.Problem{Type: api.ProblemBlocked, Title: "Blocked", Detail: stop[0].Message, Checks: &stop}))
		}
		if p.Lacks() {
			err = told(step.ErrNotProven)
		}
	}
	return err == nil && !planOnly, err
}

func (a *app) printReceipt(r receipt.Receipt) error {
	if a.json {
		return a.printJSON(r)
	}
	a.remark("")
	return r.WriteText(a.out)
}

// ask fails unless the answer is yes.
func (a *app) ask(question string) error {
	_, _ = fmt.Fprintf(a.notes, "%s [y/N] ", question)
	answer, err := bufio.NewReader(a.in).ReadString('\n')
	if answer = strings.ToLower(strings.TrimSpace(answer)); answer == "y" || answer == "yes" {
		return nil
	}
	return errors.Join(errors.New("nothing was done: the answer was no"), err)
}
