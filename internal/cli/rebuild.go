package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/remains"

	"github.com/spf13/cobra"
)

// rebuilt is what became of one folder.
type rebuilt struct {
	Folder string        `json:"folder"`
	Host   string        `json:"host"`
	Pool   string        `json:"pool,omitempty"` // that it is now, or would be
	Was    remains.Found `json:"was"`
	// Disks, Tagged and Missing are told once the pool was looked through.
	Disks   int       `json:"disks"`
	Tagged  int       `json:"tagged"`
	Missing []missing `json:"missing"`
	Problem string    `json:"problem,omitempty"`
}

// missing is an image that a job made and that is not there.
type missing struct {
	Disk        plan.Place      `json:"disk"`
	Job         int64           `json:"job"`
	Outcome     receipt.Outcome `json:"outcome"`
	Fingerprint string          `json:"fingerprint,omitempty"`
	Finished    time.Time       `json:"finished"`
}

func (a *app) rebuild() *cobra.Command {
	var (
		host     string
		onlyPlan bool
	)
	c := &cobra.Command{
		Use:   "rebuild FOLDER...",
		Short: "After the records of a service were lost: say what its pools were, and make them known again",
		Long: `Reads what a service left in the folders of its pools: what pool each was, with its rules, the receipts of the jobs that put something there,
and what is held. The pools are made known to this service again and looked through, and it is said what is missing. Nothing in the folders is changed.

What cannot be known again: hosts and their passwords (add them first, and name their folders with --host), people, tokens, limits, routines and channels,
and jobs that had not ended.`,
		Args: between(1, 1000),
		RunE: func(cmd *cobra.Command, folders []string) error {
			service, err := a.dial()
			if err != nil {
				return err
			}
			all := []*rebuilt{}
			for _, folder := range folders {
				if host == "local" {
					if folder, err = filepath.Abs(folder); err != nil {
						return err
					}
				}
				r := &rebuilt{Folder: folder, Host: host, Missing: []missing{}}
				if err := r.find(cmd.Context(), service); err != nil {
					return err
				}
				all = append(all, r)
			}
			if !onlyPlan {
				for _, r := range all {
					r.add(cmd.Context(), service)
				}
				settle(all)
			}
			if a.json {
				return a.printJSON(all)
			}
			failed := false
			for _, r := range all {
				a.sayRebuilt(r, onlyPlan)
				failed = failed || r.Problem != ""
			}
			if failed {
				return errors.New("not all of it could be made known again")
			}
			return nil
		},
	}
	c.Flags().StringVar(&host, "host", "local", "the host that the folders lie on")
	c.Flags().BoolVar(&onlyPlan, "plan", false, "only say what was left there")
	a.jsonFlag(c)
	return c
}

// find asks what was left in the folder.
func (r *rebuilt) find(ctx context.Context, service *client.Service) (err error) {
	if r.Was, err = service.Remains(ctx, r.Host, r.Folder); err != nil {
		return fmt.Errorf("looking into %s: %w", r.Folder, err)
	}
	if s := r.Was.Services; len(s) > 0 && s[0].About != nil {
		r.Pool = s[0].About.Pool
	}
	return nil
}

// add makes the folder a pool again, unless it is one, and looks it through.
func (r *rebuilt) add(ctx context.Context, service *client.Service) {
	if r.Pool == "" {
		r.Problem = "nothing there says what pool it was: bagaglio pool add NAME " + r.Folder
		return
	}
	known, err := service.Pools(ctx)
	is := slices.ContainsFunc(known, func(p api.Pool) bool { return p.Name == r.Pool && p.Host == r.Host && p.Folder == r.Folder })
	if err == nil && !is {
		_, err = service.AddPool(ctx, api.NewPool{Name: r.Pool, Folder: r.Folder, Host: &r.Host, Rules: &r.Was.Services[0].About.Rules})
	}
	var disks api.DiskList
	for refresh, left := true, 5; err == nil && left > 0; left-- { // a look that something began meanwhile is waited for
		if disks, err = service.AllDisks(ctx, r.Pool, api.ListDisksParams{Refresh: &refresh}); !disks.Refreshing {
			break
		}
	}
	switch {
	case err != nil:
		r.Problem = err.Error()
		return
	case disks.Problem != nil:
		r.Problem = "the pool is known again, and cannot be looked through: " + *disks.Problem
		return
	case disks.Refreshing || len(disks.Missed) > 0: // what is not seen may be there
		r.Problem = fmt.Sprintf(
			"the pool is known again, and not all of it could be looked at (bagaglio pool disks %s --refresh): what is missing is not known",
			r.Pool,
		)
		return
	}
	there := map[string]bool{}
	for _, d := range disks.Items {
		there[d.Path] = true
		r.Disks++
		if d.Tag != nil {
			r.Tagged++
		}
	}
	for _, m := range made(r.Was.Services[0]) {
		if !there[m.Disk.Path] {
			r.Missing = append(r.Missing, m)
		}
	}
}

// made are the images of the pool that jobs made, as the last receipt of each says.
func made(s remains.Service) []missing {
	last := map[string]missing{}
	for _, r := range s.Receipts {
		for _, part := range append([]receipt.Receipt{r.Receipt}, r.Receipt.Parts...) {
			if d := part.Destination; d != nil && d.Place.Pool == s.About.Pool {
				last[d.Place.Path] = missing{d.Place, r.Job, part.Outcome, d.Fingerprint, r.Receipt.Finished}
			}
		}
	}
	return slices.SortedFunc(maps.Values(last), func(a, b missing) int { return a.Finished.Compare(b.Finished) })
}

// settle takes from what is missing what a later job moved away, as receipts in any of the folders say.
func settle(all []*rebuilt) {
	moved := map[plan.Place]time.Time{}
	for _, r := range all {
		for _, s := range r.Was.Services {
			for _, done := range s.Receipts {
				for _, part := range append([]receipt.Receipt{done.Receipt}, done.Receipt.Parts...) {
					released := slices.ContainsFunc(
						done.Receipt.Steps,
						func(d receipt.Done) bool { return d.Name == plan.StepRelease || d.Name == plan.StepRename },
					)
					from := plan.Place{Pool: part.Source.Place.Pool, Path: part.Source.Place.Path}
					if released && moved[from].Before(done.Receipt.Finished) {
						moved[from] = done.Receipt.Finished
					}
				}
			}
		}
	}
	for _, r := range all {
		r.Missing = slices.DeleteFunc(r.Missing, func(m missing) bool {
			return moved[plan.Place{Pool: m.Disk.Pool, Path: m.Disk.Path}].After(m.Finished)
		})
	}
}

func (a *app) sayRebuilt(r *rebuilt, onlyPlan bool) {
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(a.out, format+"\n", args...) }
	if r.Pool == "" {
		say("%s on %s: nothing there says what pool it was.", r.Folder, r.Host)
	} else {
		say("%s on %s: the pool %s.", r.Folder, r.Host, r.Pool)
	}
	for _, s := range r.Was.Services {
		if n := len(s.Receipts); n > 0 {
			first, last := s.Receipts[0], s.Receipts[n-1]
			say(
				"  %d receipt(s), each as it was signed by the key %s: of jobs %d to %d, the last of %s.",
				n,
				s.Key,
				first.Job,
				last.Job,
				when(last.Receipt.Finished),
			)
		}
		for _, file := range s.Broken {
			say("  Not as the key %s signed it: %s. It is not gone by.", s.Key, file)
		}
	}
	if r.Was.Held > 0 {
		say("  %d held, to be restored: bagaglio held list.", r.Was.Held)
	}
	for _, dir := range r.Was.Unfinished {
		say("  Unfinished: %s. Where no service works on it any more it is of no use, and can be removed.", dir)
	}
	if !onlyPlan && r.Problem == "" {
		say("  Known again: %d disk(s), %d of them with a tag that they can be proven against.", r.Disks, r.Tagged)
	}
	for _, m := range r.Missing {
		say("  Missing: %s, which job %d made (%s). It was removed or renamed since, or is lost.", m.Disk, m.Job, m.Outcome)
	}
	if r.Problem != "" && !onlyPlan {
		say("  Not as it should be: %s.", r.Problem)
	}
}
