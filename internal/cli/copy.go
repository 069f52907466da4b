package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"

	"github.com/spf13/cobra"
)

// carrying is what copy and move have in common.
type carrying struct {
	request       plan.Request
	from          plan.Place // how sources are opened
	chain         string
	planOnly, yes bool
	release       bool
}

// chainFlat makes one image of a whole chain.
const chainFlat = "flat"

func (a *app) copy() *cobra.Command {
	c := &carrying{}
	cmd := a.carry(c, "copy SOURCE... DESTINATION", "Copy disks to another place, byte for byte, and prove them")
	cmd.Long = `Copies disks as they are, with all their files, snapshots and what they stand on. A DESTINATION that ends in : or / is a pool or a folder: there
the disks keep their names. With --as they are converted on the way.`
	cmd.Example = `  bagaglio copy quay-store:ticketing.vmdk lighthouse-store:
  bagaglio copy ./ticketing.qcow2 /media/seabag/`
	cmd.Flags().BoolVar(&c.request.NoProof, "no-proof", false, "do not read the copy back; the outcome is then unproven")
	return cmd
}

func (a *app) move() *cobra.Command {
	c := &carrying{release: true}
	cmd := a.carry(c, "move SOURCE... DESTINATION", "Move or rename disks: copy, prove, then hold the source for a while")
	cmd.Long = `Moves disks with all their files. On one filesystem they only get new names; otherwise they are copied and proven, and then the source is held for a
while, to be restored (bagaglio held list). A disk that others stand on is not moved away from under them: --family takes them along.
Definitions of machines that lie in pools of the host follow: they name the disk in its new place, and the old ones are held.`
	cmd.Example = `  bagaglio move quay-store:ticketing.vmdk lighthouse-store:
  bagaglio move quay-store:ticketing.vmdk quay-store:tickets.vmdk`
	cmd.Flags().
		BoolVar(&c.request.LeaveDefinitions, "leave-definitions", false, "leave the definitions of machines that use the disks as they are")
	return cmd
}

func (a *app) carry(c *carrying, use, short string) *cobra.Command {
	r := &c.request
	cmd := &cobra.Command{
		Use: use, Short: short, ValidArgsFunction: a.completeDisk,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usage("name what is to go, and where to: bagaglio %s", use)
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Release = c.release
			if !slices.Contains([]string{plan.ChainWhole, plan.ChainAlone, chainFlat}, c.chain) {
				return usage("a chain goes %s, %s or %s, not %s", plan.ChainWhole, plan.ChainAlone, chainFlat, c.chain)
			}
			return a.carryAll(cmd.Context(), c, args[:len(args)-1], args[len(args)-1])
		},
	}
	f := cmd.Flags()
	f.StringVar(&r.As, "as", "", "convert to this format on the way")
	f.StringVar(&r.Layout, "layout", "", "layout of that format (default: its first)")
	f.Var(length{&r.RoundTo}, "round-to", "with --as: make the virtual size a multiple of this, such as 1M")
	f.StringVar(
		&c.chain,
		"chain",
		plan.ChainWhole,
		"of a disk that stands on others: whole, alone (they are there already) or flat (make one image of it)",
	)
	f.BoolVar(&r.Family, "family", false, "take all disks along that stand on it; what names it is changed when its name changes")
	fitFlags(f, r)
	optionFlags(f, &r.Options)
	a.sourceFlags(f, &c.from)
	f.BoolVar(&r.Replace, "replace", false, "replace what lies at the destination, once the copy is proven")
	f.BoolVar(&r.NoTag, "no-tag", false, "put no tag beside the copy")
	f.BoolVar(&r.Recopy, "recopy", false, "when the source changes while it is copied, copy again what differs")
	f.BoolVar(
		&r.PastDamage,
		"past-damage",
		false,
		"go on where the source cannot be read, with zeros in the place; the job then ends with damage",
	)
	asItIsFlag(f, r)
	byRulesFlag(f, r)
	byFlag(f, r)
	f.BoolVar(&r.ClearHeld, "clear-held", false, "to make room, remove for good what the destination's pool holds")
	paceFlags(cmd, &a.pace.speed, &a.pace.hours)
	a.detachFlag(cmd)
	f.BoolVar(&c.planOnly, "plan", false, "only say what would happen")
	f.BoolVar(&c.yes, "yes", false, "do not ask")
	a.jsonFlag(cmd)
	return cmd
}

// carryAll plans all of it before anything is done, then does one after the other, and goes on behind one that fails.
func (a *app) carryAll(ctx context.Context, c *carrying, sources []string, to string) error {
	type one struct {
		source string
		worker worker
	}
	var all []one
	var stopped error
	for _, arg := range sources {
		r, w, err := a.carryOne(ctx, c, arg, to, len(sources) > 1)
		if err != nil {
			return err
		}
		if len(sources) == 1 {
			return a.planAndRun(ctx, w, r, c.planOnly, c.yes)
		}
		p, err := w.plan(ctx, r)
		if err != nil {
			return fmt.Errorf("%s: %w", arg, err)
		}
		a.remark("%s", arg)
		if _, err := a.showPlan(p, c.planOnly); p.Blocked() {
			stopped = err
		} else if err != nil {
			return err
		}
		a.remark("")
		all = append(all, one{arg, w})
	}
	if c.planOnly || stopped != nil {
		return stopped
	}
	if !c.yes && !a.json && isTerminal(a.in) && isTerminal(a.notes) {
		if err := a.ask(fmt.Sprintf("Go ahead with %d disks?", len(all))); err != nil {
			return err
		}
	}
	var receipts []receipt.Receipt
	var failed error
	for _, x := range all {
		a.remark("%s", x.source)
		done, err := x.worker.run(ctx, a.watcher())
		if done.Outcome == "" && err == nil { // its end is not waited for
			continue
		}
		if done.Outcome == "" || ctx.Err() != nil {
			return errors.Join(fmt.Errorf("%s: %w", x.source, err), failed)
		}
		receipts = append(receipts, done)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", x.source, err))
		}
		if !a.json {
			if err := a.printReceipt(done); err != nil {
				return err
			}
		}
	}
	if a.json {
		return errors.Join(a.printJSON(receipts), failed)
	}
	return failed
}

// isFolder tells whether a destination is a pool or a folder, in which a disk keeps its name.
func isFolder(to string) bool {
	if strings.HasSuffix(to, ":") || strings.HasSuffix(to, "/") {
		return true
	}
	info, err := os.Stat(to)
	return onTheSpot(to) && err == nil && info.IsDir()
}

// intoFolder is a destination with the name of the source where it is a folder.
func intoFolder(to string, r plan.Request) string {
	if !isFolder(to) {
		return to
	}
	name := path.Base(r.Source.Path)
	if f, err := disk.Lookup(r.As); err == nil && disk.Claim(name) != f.Name {
		name = strings.TrimSuffix(name, path.Ext(name)) + f.Extensions[0]
	}
	if !strings.HasSuffix(to, ":") {
		to = strings.TrimSuffix(to, "/") + "/"
	}
	return to + name
}

// carryOne is the request for one disk.
func (a *app) carryOne(ctx context.Context, c *carrying, arg, to string, many bool) (r plan.Request, w worker, err error) {
	r = c.request
	if r.Source, err = source(arg, c.from); err != nil {
		return r, nil, err
	}
	if many && !isFolder(to) {
		return r, nil, usage("several disks go to a folder or a pool: %s/ or POOL:", to)
	}
	place, err := place(intoFolder(to, r))
	if err != nil {
		return r, nil, err
	}
	r.Destination = &place
	if w, err = a.worker(r.Source, place); err != nil {
		return r, nil, err
	}
	r.Kind, r.Chain = plan.Copy, c.chain
	if r.Chain == plan.ChainWhole {
		r.Chain = ""
	}
	if r.As == "" && c.chain != chainFlat && !r.Refits() {
		return r, w, nil
	}
	r.Kind, r.Chain = plan.Convert, ""
	if r.As == "" {
		report, err := w.look(ctx, r.Source)
		if err != nil {
			return r, nil, err
		}
		r.As = report.Format
	}
	return r, w, nil
}
