package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/jmoiron/sqlx"
)

// State of a job.
type State string

// The states. The first four have not ended. One that is Asking goes on when somebody has answered.
const (
	Waiting   State = "waiting"
	Running   State = "running"
	Paused    State = "paused"
	Asking    State = "asking"
	Done      State = "done"
	Failed    State = "failed"
	Cancelled State = "cancelled"
)

// Ended tells whether nothing more happens to a job in this state.
func (s State) Ended() bool { return !slices.Contains(Unended(), s) }

// Unended are the states of jobs to which more happens.
func Unended() []State { return []State{Waiting, Running, Paused, Asking} }

// Job is the record of a job.
type Job struct {
	ID        int64
	State     State
	Plan      plan.Plan
	Created   time.Time
	Started   *time.Time
	Finished  *time.Time
	Outcome   receipt.Outcome
	Reason    string
	Receipt   *receipt.Receipt
	Uncleared bool // something of it may lie in a staging folder
	Rank      float64
	Trouble   bool // it paused by itself and goes on by itself
	Speed     int64
	Hours     string
	Who       string // asked for it, empty where that was not kept
	Last      *step.Progress
	Group     int64 // of jobs that were started together, 0 for none
	StoppedBy *plan.Check
	Question  *step.Question
	Answer    string          // to it; empty as long as there is none
	Epoch     int64           // how often it began to run
	Journal   json.RawMessage // of a job that is done, as it was kept last; nil where nothing was
}

// jobRow is a job as the table has it.
type jobRow struct {
	ID        int64          `db:"id"`
	State     State          `db:"state"`
	Plan      string         `db:"plan"`
	Created   string         `db:"created"`
	Started   sql.NullString `db:"started"`
	Finished  sql.NullString `db:"finished"`
	Outcome   sql.NullString `db:"outcome"`
	Reason    string         `db:"reason"`
	Receipt   sql.NullString `db:"receipt"`
	Uncleared bool           `db:"uncleared"`
	Rank      float64        `db:"rank"`
	Trouble   bool           `db:"trouble"`
	Speed     int64          `db:"speed"`
	Hours     string         `db:"hours"`
	Last      sql.NullString `db:"last"`
	Group     sql.NullInt64  `db:"group_id"`
	StoppedBy sql.NullString `db:"stopped_by"`
	Question  sql.NullString `db:"question"`
	Answer    string         `db:"answer"`
	Journal   sql.NullString `db:"journal"`
	Epoch     int64          `db:"epoch"`
	Runner    string         `db:"runner"`
	Until     string         `db:"until"`
	Who       string         `db:"who"`
	Pools     string         `db:"pools"`
}

func (r jobRow) job() (j Job, err error) {
	j = Job{
		ID:        r.ID,
		State:     r.State,
		Outcome:   receipt.Outcome(r.Outcome.String),
		Reason:    r.Reason,
		Uncleared: r.Uncleared,
		Rank:      r.Rank,
		Trouble:   r.Trouble,
		Speed:     r.Speed,
		Hours:     r.Hours,
		Who:       r.Who,
		Group:     r.Group.Int64, Epoch: r.Epoch,
	}
	if j.Plan, err = plan.Decode([]byte(r.Plan)); err != nil {
		return j, fmt.Errorf("reading the plan of job %d: %w", r.ID, err)
	}
	if r.Receipt.Valid {
		j.Receipt = &receipt.Receipt{}
		if err := json.Unmarshal([]byte(r.Receipt.String), j.Receipt); err != nil {
			return j, fmt.Errorf("reading the receipt of job %d: %w", r.ID, err)
		}
	}
	if r.Last.Valid {
		j.Last = &step.Progress{}
		if err := json.Unmarshal([]byte(r.Last.String), j.Last); err != nil {
			return j, fmt.Errorf("reading the progress of job %d: %w", r.ID, err)
		}
	}
	if r.StoppedBy.Valid {
		j.StoppedBy = &plan.Check{}
		if err := json.Unmarshal([]byte(r.StoppedBy.String), j.StoppedBy); err != nil {
			return j, fmt.Errorf("reading what stopped job %d: %w", r.ID, err)
		}
	}
	if r.Question.Valid {
		j.Question, j.Answer = &step.Question{}, r.Answer
		if err := json.Unmarshal([]byte(r.Question.String), j.Question); err != nil {
			return j, fmt.Errorf("reading what job %d asks: %w", r.ID, err)
		}
	}
	if r.Journal.Valid {
		j.Journal = json.RawMessage(r.Journal.String)
	}
	if j.Created, err = time.Parse(time.RFC3339Nano, r.Created); err != nil {
		return j, err
	}
	if j.Started, err = optionalTime(r.Started); err != nil {
		return j, err
	}
	j.Finished, err = optionalTime(r.Finished)
	return j, err
}

func optionalTime(s sql.NullString) (*time.Time, error) {
	if !s.Valid {
		return nil, nil
	}
	t, err := time.Parse(time.RFC3339Nano, s.String)
	return &t, err
}

// NewJobs are what is put into the queue together.
type NewJobs struct {
	Plans []plan.Plan
	Speed int64 // limit of each in bytes a second, 0 for none
	Hours string
	Who   string // asked for them
	Kept  string // ID of the plan that they were started with, empty for none
	Group string // the name of the group that they are, empty for none
	// AtOnce and StopAfter are those of the group.
	AtOnce, StopAfter int
}

// AddJobs keeps waiting jobs with their steps behind all others, all or none, and returns their numbers, and that of their group.
func (s *Store) AddJobs(ctx context.Context, n NewJobs, now time.Time) (ids []int64, group int64, err error) {
	err = s.transaction(ctx, func(tx *sqlx.Tx) error {
		var in sql.NullInt64
		if n.Group != "" {
			res, err := tx.ExecContext(
				ctx,
				`INSERT INTO groups (name, created, refused, at_once, stop_after) VALUES (?, ?, '[]', ?, ?)`,
				n.Group,
				stamp(now),
				n.AtOnce,
				n.StopAfter,
			)
			if err != nil {
				return err
			}
			if group, err = res.LastInsertId(); err != nil {
				return err
			}
			in = sql.NullInt64{Int64: group, Valid: true}
		}
		for _, p := range n.Plans {
			id, err := addJob(ctx, tx, p, n, in, now)
			if err != nil {
				return err
			}
			ids = append(ids, id)
			if err := rememberNetworks(ctx, tx, p); err != nil {
				return err
			}
		}
		if n.Kept == "" {
			return nil
		}
		if n.Group != "" {
			return changed(tx.ExecContext(ctx, `UPDATE group_plans SET group_id = ? WHERE id = ?`, group, n.Kept))
		}
		return changed(tx.ExecContext(ctx, `UPDATE plans SET job = ? WHERE id = ?`, ids[0], n.Kept))
	})
	return ids, group, err
}

// PoolsOf are the pools of a plan in one word.
func PoolsOf(p plan.Plan) string { return strings.Join(p.Pools(), " ") }

func addJob(ctx context.Context, tx *sqlx.Tx, p plan.Plan, n NewJobs, group sql.NullInt64, now time.Time) (int64, error) {
	b, err := json.Marshal(p)
	if err != nil {
		return 0, err
	}
	res, err := tx.ExecContext(
		ctx,
		`INSERT INTO jobs (state, plan, pools, created, speed, hours, who, group_id, rank) VALUES (?, ?, ?, ?, ?, ?, ?, ?, (SELECT coalesce(max(rank), 0) + 1 FROM jobs))`,
		Waiting,
		string(b),
		PoolsOf(p),
		stamp(now),
		n.Speed,
		n.Hours,
		n.Who,
		group,
	)
	if err != nil {
		return 0, err
	}
	id, err := res.LastInsertId()
	if err != nil || len(p.Steps) == 0 {
		return id, err
	}
	var values []any
	for i, step := range p.Steps {
		values = append(values, id, i+1, step.Kind, step.Title)
	}
	rows := strings.TrimSuffix(strings.Repeat("(?, ?, ?, ?), ", len(p.Steps)), ", ")
	_, err = tx.ExecContext(ctx, `INSERT INTO steps (job, number, name, title) VALUES `+rows, values...)
	return id, err
}

func (s *Store) transaction(ctx context.Context, do func(*sqlx.Tx) error) error {
	tx, err := s.writer.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer s.longest.note(time.Now())
	if err := do(tx); err != nil {
		_ = tx.Rollback() // the first error says more
		return err
	}
	return tx.Commit()
}

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

// EndJob notes how a job ended that was waiting or running, with its receipt and the seal of it. It fails with ErrNotFound
// when the job is not in that state any more.
func (s *Store) EndJob(ctx context.Context, c Claim, from, to State, done receipt.Receipt, now time.Time, seal Sealer) error {
	b, err := json.Marshal(done)
	if err != nil {
		return err
	}
	reason := done.Reason
	if to == Done {
		reason = ""
	}
	return s.transaction(ctx, func(tx *sqlx.Tx) error {
		number, sealed, err := seal(b)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO seals (number, job, seal) VALUES (?, ?, ?)`, number, c.Job, sealed); err != nil {
			return err
		}
		if to == Done { // what it did can be taken back
			_, err := tx.ExecContext(
				ctx,
				`UPDATE jobs SET journal = (SELECT state FROM checkpoints WHERE job = jobs.id) WHERE id = ?`,
				c.Job,
			)
			if err != nil {
				return err
			}
		}
		for _, rest := range []string{`DELETE FROM leases WHERE job = ?`, `DELETE FROM marks WHERE job = ?`, `DELETE FROM checkpoints WHERE job = ?`} {
			if _, err := tx.ExecContext(ctx, rest, c.Job); err != nil {
				return err
			}
		}
		return changed(
			tx.ExecContext(
				ctx,
				`UPDATE jobs SET trouble = 0, state = ?, reason = ?, outcome = ?, receipt = ?, finished = ? WHERE id = ? AND epoch = ? AND state = ?`,
				to,
				reason,
				done.Outcome,
				string(b),
				stamp(now),
				c.Job,
				c.Epoch,
				from,
			),
		)
	})
}

// ClearJob notes that nothing of a job lies in a staging folder any more.
func (s *Store) ClearJob(ctx context.Context, id int64) error {
	return s.one(ctx, `UPDATE jobs SET uncleared = 0 WHERE id = ?`, id)
}

func (s *Store) one(ctx context.Context, query string, args ...any) error {
	return changed(s.writer.ExecContext(ctx, query, args...))
}

// changed returns ErrNotFound for a statement that changed nothing.
func changed(res sql.Result, err error) error {
	if err != nil {
		return err
	}
	n, err := res.RowsAffected()
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
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
