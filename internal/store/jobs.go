package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
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
	rank, err := lastRank(ctx, tx)
	if err != nil {
		return 0, err
	}
	res, err := tx.ExecContext(
		ctx,
		`INSERT INTO jobs (state, plan, pools, created, speed, hours, who, group_id, rank) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		Waiting,
		string(b),
		PoolsOf(p),
		stamp(now),
		n.Speed,
		n.Hours,
		n.Who,
		group,
		rank+1,
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

// lastRank is that of the last job that has not ended. It is looked up by each state, since an index has it then: those that have ended are many.
func lastRank(ctx context.Context, tx *sqlx.Tx) (last float64, err error) {
	for _, state := range Unended() {
		var rank float64
		if err := tx.GetContext(ctx, &rank, `SELECT coalesce(max(rank), 0) FROM jobs WHERE state = ?`, state); err != nil {
			return 0, err
		}
		last = max(last, rank)
	}
	return last, nil
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

// Ending is how a job ends.
type Ending struct {
	From, To State
	Receipt  receipt.Receipt
	Seal     Sealer
	// Note is the line that the log gets, by what the receipt was sealed with.
	Note func(number int64, sealed string) Event
}

// EndJob notes how a job ended that was waiting or running, with its receipt and the seal of it. It fails with ErrNotFound
// when the job is not in that state any more.
func (s *Store) EndJob(ctx context.Context, c Claim, e Ending, now time.Time) error {
	done, from, to := e.Receipt, e.From, e.To
	b, err := json.Marshal(done)
	if err != nil {
		return err
	}
	reason := done.Reason
	if to == Done {
		reason = ""
	}
	return s.transaction(ctx, func(tx *sqlx.Tx) error {
		number, sealed, err := e.Seal(b)
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
		if err := addEvent(ctx, tx, e.Note(number, sealed), now); err != nil {
			return err
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
