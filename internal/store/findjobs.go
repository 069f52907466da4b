package store

import (
	"context"
	"fmt"
	"strconv"
	"time"
)

// Job returns one job, or ErrNotFound.
func (s *Store) Job(ctx context.Context, id int64) (Job, error) {
	var row jobRow
	if err := s.db.GetContext(ctx, &row, `SELECT * FROM jobs WHERE id = ?`, id); err != nil {
		return Job{}, notFound(err)
	}
	return row.job()
}

// JobByName returns a job by its number as people write it.
func (s *Store) JobByName(ctx context.Context, name string) (Job, error) {
	number, err := strconv.ParseInt(name, 10, 64)
	if err != nil {
		return Job{}, fmt.Errorf("job %q: %w", name, ErrNotFound)
	}
	j, err := s.Job(ctx, number)
	if err != nil {
		return j, fmt.Errorf("job %s: %w", name, err)
	}
	return j, nil
}

// JobQuery says which jobs to list.
type JobQuery struct {
	Below int64 // their numbers; 0 for all
	State State // empty for any
	// Machine is HOST:NAME, of which those are wanted by which it came to be there, or went; empty for all.
	Machine string
	// EndedSince is the time since which those have ended that are wanted; zero for all.
	EndedSince time.Time
	// Search is the number of the one that is wanted, or a text that those have in what was asked for; empty for all.
	Search string
	Limit  int
}

// newestJobs is how many of the newest jobs are looked through for a text.
const newestJobs = 5000

// JobsAbout returns those of the newest jobs that have that number, or a text in what was asked for, the newest first.
func (s *Store) JobsAbout(ctx context.Context, text string, limit int) ([]Job, error) {
	return s.jobs(
		ctx,
		`SELECT * FROM jobs WHERE id = ?1 OR id > (SELECT coalesce(max(id), 0) - ?2 FROM jobs) AND json_extract(plan, '$.request') LIKE ?3 ESCAPE '\'
			ORDER BY id DESC LIMIT ?4`,
		text,
		newestJobs,
		like(text),
		limit,
	)
}

// EndedIn returns jobs that ended not before a time and before another one, the first first; at most limit.
func (s *Store) EndedIn(ctx context.Context, since, until time.Time, limit int) ([]Job, error) {
	return s.jobs(
		ctx,
		`SELECT * FROM jobs WHERE finished >= ? AND finished < ? ORDER BY finished, id LIMIT ?`,
		stamp(since),
		stamp(until),
		limit,
	)
}

// Jobs returns jobs, the newest first.
func (s *Store) Jobs(ctx context.Context, q JobQuery) ([]Job, error) {
	since := ""
	if !q.EndedSince.IsZero() {
		since = stamp(q.EndedSince)
	}
	return s.jobs(
		ctx,
		`SELECT * FROM jobs WHERE (?1 = 0 OR id < ?1) AND (?2 = '' OR state = ?2) AND (?3 = '' OR
			json_extract(plan, '$.machine.host') || ':' || json_extract(plan, '$.machine.name') = ?3 OR
			json_extract(plan, '$.machine.to') || ':' || json_extract(plan, '$.machine.after.name') = ?3) AND (?5 = '' OR finished >= ?5) AND
			(?6 = '' OR id = ?6 OR json_extract(plan, '$.request') LIKE ?7 ESCAPE '\') ORDER BY id DESC LIMIT ?4`,
		q.Below,
		q.State,
		q.Machine,
		q.Limit,
		since,
		q.Search,
		like(q.Search),
	)
}

// JobsIn returns the jobs in a state, the oldest first.
func (s *Store) JobsIn(ctx context.Context, state State) ([]Job, error) {
	return s.jobs(ctx, `SELECT * FROM jobs WHERE state = ? ORDER BY id`, state)
}

// UnclearedJobs returns the ended jobs of which something may lie in a staging folder.
func (s *Store) UnclearedJobs(ctx context.Context) ([]Job, error) {
	return s.jobs(ctx, `SELECT * FROM jobs WHERE uncleared = 1 AND state NOT IN (?, ?, ?, ?) ORDER BY id`, Waiting, Running, Paused, Asking)
}

func (s *Store) jobs(ctx context.Context, query string, args ...any) ([]Job, error) {
	var rows []jobRow
	if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	jobs := make([]Job, len(rows))
	for i, row := range rows {
		var err error
		if jobs[i], err = row.job(); err != nil {
			return nil, err
		}
	}
	return jobs, nil
}

// CountJobs counts the jobs in each state.
func (s *Store) CountJobs(ctx context.Context) (map[State]int, error) {
	var rows []struct {
		State State `db:"state"`
		Count int   `db:"count"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT state, count(*) AS count FROM jobs GROUP BY state`)
	counts := map[State]int{Waiting: 0, Running: 0, Paused: 0, Asking: 0, Done: 0, Failed: 0, Cancelled: 0}
	for _, r := range rows {
		counts[r.State] = r.Count
	}
	return counts, err
}
