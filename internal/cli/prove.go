package cli

import (
	"context"
	"fmt"

	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/spf13/cobra"
)

func (a *app) prove() *cobra.Command {
	var against, tag string
	var asked plan.Request
	var quick, onlyRead bool
	var flags plan.Place
	c := &cobra.Command{
		Use:   "prove DISK",
		Short: "Read a whole disk from storage and compare it",
		Long: `Reads the whole disk from storage, not from the memory of this computer, and checks the tables of its format.
With --against its content is compared with another disk, in whatever format that is, or with a fingerprint; otherwise with the tag
that lies beside it, if there is one. A quick proof (--quick) looks at structure and file facts only, and proves nothing of the content.`,
		Args:              exactly(1),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			r := plan.Request{Kind: plan.Prove, Quick: quick, Tag: tag, By: asked.By}
			if tag == "" && against == "" {
				r.Tag = plan.TagBeside
			}
			if err := a.comparedWith(cmd.Context(), &r, args[0], against); err != nil {
				return err
			}
			if err := tagOf(&r, args[0]); err != nil {
				return err
			}
			done, err := a.readDisk(cmd.Context(), args[0], flags, r)
			if err = a.report(done, err); err == nil && done.Outcome == receipt.Unproven && !quick && !onlyRead {
				a.remark(
					"\nThere is no tag beside the disk, so that it was compared with nothing: name something (--against, --tag), or only have it read (--only-read).",
				)
				err = told(step.ErrNotProven)
			}
			return err
		},
	}
	c.Flags().StringVar(&against, "against", "", "another disk, or a fingerprint")
	c.Flags().StringVar(&tag, "tag", "", "a tag, in the disk's pool or folder (default: the one beside the disk)")
	c.Flags().BoolVar(&quick, "quick", false, "look at structure and file facts only")
	c.Flags().BoolVar(&onlyRead, "only-read", false, "be content with reading all of it where there is nothing to compare it with")
	a.sourceFlags(c.Flags(), &flags)
	byFlag(c.Flags(), &asked)
	a.detachFlag(c)
	a.jsonFlag(c)
	return c
}

// tagOf makes the tag of a request a path in the pool of the disk, or of this computer, as that one is.
func tagOf(r *plan.Request, disk string) error {
	if r.Tag == "" || r.Tag == plan.TagBeside {
		return nil
	}
	tag, err := place(r.Tag)
	if err != nil {
		return err
	}
	of, err := place(disk)
	if err == nil && of.Pool != tag.Pool {
		err = usage("the tag has to lie where the disk does: in its pool, or both at paths of this computer")
	}
	r.Tag = tag.Path
	return err
}

func (a *app) fingerprint() *cobra.Command {
	var flags plan.Place
	c := &cobra.Command{
		Use:               "fingerprint DISK",
		Short:             "Print the fingerprint of a disk",
		Args:              exactly(1),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			done, err := a.readDisk(cmd.Context(), args[0], flags, plan.Request{Kind: plan.Prove})
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, done.Source.Fingerprint)
			return err
		},
	}
	a.sourceFlags(c.Flags(), &flags)
	return c
}

// comparedWith puts into a request what a disk is compared with: a fingerprint, or another disk. Where one of the two lies in a pool and the other one at a
// path of this computer, only the fingerprint of that is.
func (a *app) comparedWith(ctx context.Context, r *plan.Request, arg, against string) error {
	if against == "" {
		return nil
	}
	if f, err := fingerprint.Parse(against); err == nil {
		r.Against = f.String()
		return nil
	}
	this, err := place(arg)
	if err != nil {
		return err
	}
	other, err := place(against)
	if err != nil {
		return err
	}
	if isHere(this) == isHere(other) {
		r.AgainstDisk = &other
		return nil
	}
	done, err := a.readDisk(ctx, against, plan.Place{}, plan.Request{Kind: plan.Prove})
	r.Against = done.Source.Fingerprint
	return err
}

// isHere tells whether a place is one of this computer, and in no pool.
func isHere(p plan.Place) bool { return p.Pool == "" || p.Pool == plan.DevicesOf("") }

// readDisk runs a request that reads the disk named by arg.
func (a *app) readDisk(ctx context.Context, arg string, flags plan.Place, r plan.Request) (done receipt.Receipt, err error) {
	if r.Source, err = source(arg, flags); err != nil {
		return done, err
	}
	w, err := a.worker(r.Source)
	if err != nil {
		return done, err
	}
	p, err := w.plan(ctx, r)
	if err != nil {
		return done, err
	}
	for _, c := range p.Checks {
		switch c.Severity {
		case plan.Blocks:
			return done, fmt.Errorf("%w: %s", step.ErrBlocked, c.Message)
		case plan.Warns:
			a.remark("%s  %s", signs[c.Severity], c.Message)
		}
	}
	return w.run(ctx, a.watcher())
}
