// Package attention tells what needs somebody: jobs that ask or do not go on, those that failed or are in doubt, and places that are full or away.
package attention

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/places"
	"bagaglio/internal/store"
)

// Kind of a need.
type Kind string

// The kinds, the most urgent first.
const (
	Question Kind = "question" // a job asks
	Consent  Kind = "consent"  // what takes data away for good waits for a second person
	Stopped  Kind = "stopped"  // a job does not go on by itself
	Blocked  Kind = "blocked"  // a routine was not begun, or not all of it
	Failed   Kind = "failed"   // a job did not do what it was to
	Doubt    Kind = "doubt"    // what a job made is damaged, or not proven
	Away     Kind = "away"     // a pool is not to be reached
	Full     Kind = "full"     // a pool has next to no room
	Drive    Kind = "drive"    // no job uses a drive any more
)

var kinds = []Kind{Question, Consent, Stopped, Blocked, Failed, Doubt, Away, Full, Drive}

// Need is something that needs somebody. Job is 0, and Pool and Routine are empty, where it is not about one.
type Need struct {
	Kind    Kind
	Text    string
	Since   time.Time // zero where that is not known
	Job     int64
	Pool    string
	Routine string
	Consent string // its ID
}

const (
	// lately is how long ago a job may have ended that is told of.
	lately = 3 * 24 * time.Hour
	// little is how much room a pool has at least that is not full, as a share of it.
	little = 0.05
	// patience is for how long a job may be in trouble that tries again by itself.
	patience = 10 * time.Minute
	// mostJobs is how many of the newest jobs are looked at.
	mostJobs = 500
)

// Jobs are those of the service, the last runs of routines that were not begun as they were to be, and what waits for a second person.
type Jobs interface {
	FailedRuns(ctx context.Context) ([]store.KeptRun, error)
	Jobs(ctx context.Context, q store.JobQuery) ([]store.Job, error)
	JobsIn(ctx context.Context, state store.State) ([]store.Job, error)
	Consents(ctx context.Context, since time.Time) ([]store.Consent, error)
}

// Pools are those of the service, with what is known of them.
type Pools interface {
	Pools(ctx context.Context) ([]places.Pool, error)
}

// Needs returns all, the most urgent first, and of a kind the latest.
func Needs(ctx context.Context, jobs Jobs, pools Pools, now time.Time) (all []Need, err error) {
	var open []store.Job
	for _, state := range store.Unended() {
		some, err := jobs.JobsIn(ctx, state)
		if err != nil {
			return nil, err
		}
		open = append(open, some...)
	}
	for _, j := range open {
		if n, ok := ofWaiting(j, now); ok {
			all = append(all, n)
		}
	}
	last, err := jobs.Jobs(ctx, store.JobQuery{Limit: mostJobs})
	if err != nil {
		return nil, err
	}
	for _, j := range last {
		if n, ok := ofEnded(j, now); ok {
			all = append(all, n)
		}
	}
	runs, err := jobs.FailedRuns(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		n, err := ofRun(r)
		if err != nil {
			return nil, err
		}
		all = append(all, n)
	}
	wanted, err := jobs.Consents(ctx, now.Add(-store.ConsentWaits))
	if err != nil {
		return nil, err
	}
	for _, c := range wanted {
		n := Need{
			Kind:    Consent,
			Consent: c.ID,
			Text:    fmt.Sprintf("Asked for by %s, whom somebody else has to agree with: %s would be gone for good.", c.By(), c.Said),
		}
		n.Since, _ = time.Parse(time.RFC3339Nano, c.Asked) // as it was written
		all = append(all, n)
	}
	known, err := pools.Pools(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range known {
		if n, ok := ofPool(p, append(open, last...), now); ok {
			all = append(all, n)
		}
	}
	slices.SortStableFunc(all, func(a, b Need) int {
		if a.Kind != b.Kind {
			return slices.Index(kinds, a.Kind) - slices.Index(kinds, b.Kind)
		}
		return b.Since.Compare(a.Since)
	})
	return all, nil
}

// ofWaiting is what is needed by a job that has not ended and does not run.
func ofWaiting(j store.Job, now time.Time) (Need, bool) {
	n := Need{Job: j.ID, Since: j.Created}
	if j.Last != nil {
		n.Since = j.Last.Since
	}
	q := j.Question
	switch {
	case q != nil && q.Until.IsZero() || q != nil && q.Trouble: // any other one goes on by itself
		n.Kind, n.Text = Question, q.Text
	case j.State == store.Paused && !j.Trouble:
		n.Kind, n.Text = Stopped, j.Reason
		if n.Text == "" {
			n.Text = "Somebody paused it."
		}
	case j.State == store.Paused && now.Sub(n.Since) > patience:
		n.Kind, n.Text = Stopped, j.Reason+": it is tried again by itself, and has not gone on since."
	default:
		return n, false
	}
	return n, true
}

// ofEnded is what is needed by a job that has ended.
func ofEnded(j store.Job, now time.Time) (Need, bool) {
	if !j.State.Ended() || j.Finished == nil || now.Sub(*j.Finished) > lately {
		return Need{}, false
	}
	n := Need{Job: j.ID, Since: *j.Finished, Text: j.Reason}
	switch {
	case j.State == store.Failed:
		n.Kind = Failed
	case j.Outcome == receipt.Damaged, j.Outcome == receipt.Unproven && !plan.IsStaying(j.Plan.Request.Kind):
		n.Kind = Doubt
	default:
		return n, false
	}
	if n.Text == "" {
		n.Text = "Its receipt says more."
	}
	return n, true
}

// ofRun is what is needed by a routine whose last run was not begun as it was to be.
func ofRun(r store.KeptRun) (n Need, err error) {
	n = Need{Kind: Blocked, Routine: r.Routine, Text: r.Problem}
	if n.Text == "" {
		var leftOut []string
		if err := json.Unmarshal([]byte(r.LeftOut), &leftOut); err != nil {
			return n, err
		}
		n.Text = fmt.Sprintf("It left out %d of what it was to do: %s", len(leftOut), strings.Join(leftOut, "; "))
	}
	n.Since, err = time.Parse(time.RFC3339Nano, r.Due)
	return n, err
}

// ofPool is what is needed by a pool.
func ofPool(p places.Pool, jobs []store.Job, now time.Time) (Need, bool) {
	n := Need{Pool: p.Name}
	removable := p.Facts != nil && p.Facts.Removable
	switch {
	case p.Problem != nil && !removable: // a drive is away when it travels
		n.Kind, n.Text = Away, p.Problem.Error()
	case p.Problem != nil:
		return n, false
	case p.Space.Total > 0 && p.Space.Free >= 0 && float64(p.Space.Free) < little*float64(p.Space.Total):
		n.Kind, n.Text = Full, fmt.Sprintf("%s of %s are free.", plan.Bytes(p.Space.Free), plan.Bytes(p.Space.Total))
	case removable:
		return ofDrive(n, jobs, now)
	default:
		return n, false
	}
	return n, true
}

// ofDrive tells that a drive can be unplugged that something was carried to or from lately, and that no job uses.
func ofDrive(n Need, jobs []store.Job, now time.Time) (Need, bool) {
	for _, j := range jobs {
		if !uses(j, n.Pool) {
			continue
		}
		if !j.State.Ended() {
			return n, false
		}
		if j.Finished != nil && now.Sub(*j.Finished) < lately && j.Finished.After(n.Since) {
			n.Since = *j.Finished
		}
	}
	n.Kind, n.Text = Drive, "No job uses it any more: unmount it before you unplug it, which fails where something else does."
	return n, !n.Since.IsZero()
}

func uses(j store.Job, pool string) bool {
	r := j.Plan.Request
	return r.Source.Pool == pool || r.Destination != nil && r.Destination.Pool == pool ||
		slices.ContainsFunc(j.Plan.Steps, func(s plan.Step) bool {
			return slices.ContainsFunc(s.Uses, func(u plan.Use) bool { return u.Pool == pool })
		})
}
