package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func records(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "records.sqlite"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func twoSteps() plan.Plan {
	return plan.Plan{
		Request: plan.Request{Kind: plan.Prove, Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"}},
		Steps:   []plan.Step{{Kind: plan.StepLook, Title: "Open"}, {Kind: plan.StepProve, Title: "Read", Bytes: 1 << 30}},
	}
}

func TestRecordsOutliveTheService(t *testing.T) {
	file := filepath.Join(t.TempDir(), "records.sqlite")
	s, err := Open(t.Context(), file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, s.AddPool(t.Context(), Pool{Name: "quay-store", Host: "local", Folder: "/srv/quay"}, noon))
	id, err := addTwoSteps(s, noon)
	require.NoError(t, err)
	require.NoError(t, s.Close())

	s, err = Open(t.Context(), file)
	require.NoError(t, err)
	defer s.Close()
	j, err := s.Job(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, twoSteps().Request, j.Plan.Request)
	assert.True(t, noon.Equal(j.Created))
	pools, err := s.Pools(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []Pool{{Name: "quay-store", Host: "local", Folder: "/srv/quay"}}, pools)
}

// ending is how a job ends, with a line in the log.
func ending(from, to State, done receipt.Receipt, seal Sealer) Ending {
	return Ending{from, to, done, seal, func(number int64, _ string) Event { return Event{What: "ended", Result: fmt.Sprint(number)} }}
}

func TestTheLifeOfAJob(t *testing.T) {
	s := records(t)
	ctx := t.Context()
	id, err := addTwoSteps(s, noon)
	require.NoError(t, err)
	second, err := addTwoSteps(s, noon)
	require.NoError(t, err)
	assert.Greater(t, second, id)

	reads, writes := []Lease{{File: "local:/b"}, {File: "local:/a"}}, []Lease{{File: "local:/a", Writes: true}}
	claim, err := s.StartJob(ctx, id, reads, "here", Event{What: "started"}, noon)
	require.NoError(t, err)
	_, err = s.StartJob(ctx, id, reads, "here", Event{What: "started"}, noon)
	require.ErrorIs(t, err, ErrNotFound, "a job starts once")
	var leased *LeasedError
	_, err = s.StartJob(ctx, second, writes, "here", Event{What: "started"}, noon)
	require.ErrorAs(t, err, &leased)
	assert.Equal(t, id, leased.Job)
	leases, err := s.Leases(ctx)
	require.NoError(t, err)
	require.Len(t, leases, 2, "all or none")
	assert.Equal(t, "local:/a", leases[0].File)
	number := int64(0)
	seal := func(done []byte) (int64, string, error) {
		last, err := s.LastSeal(ctx)
		number = last.Number + 1
		return number, fmt.Sprintf("seal %d of %d bytes", number, len(done)), err
	}
	require.ErrorIs(
		t,
		s.EndJob(ctx, claim, ending(Waiting, Cancelled, receipt.Receipt{}, seal), noon),
		ErrNotFound,
		"it does not wait any more",
	)
	uncleared, err := s.UnclearedJobs(ctx)
	require.NoError(t, err)
	require.Empty(t, uncleared, "it has not ended")
	c := s.Checkpoints(claim)
	require.ErrorIs(t, c.Keep(ctx, step.Journal{}, nil), ErrOutdated, "it was claimed long ago, and not renewed")
	require.NoError(t, s.RenewClaim(ctx, claim, time.Now()))
	require.NoError(t, c.Keep(ctx, journal("as it was"), &step.Mark{Step: plan.StepProve, Mark: []byte("one")}))
	require.NoError(t, c.Keep(ctx, journal("as it is"), &step.Mark{Step: plan.StepProve, Mark: []byte("two")}))
	kept, err := c.Load(ctx)
	require.NoError(t, err)
	assert.Equal(t, "as it is", kept.Back)
	var marks []string
	for m, err := range c.Marks(ctx, plan.StepProve) {
		require.NoError(t, err)
		marks = append(marks, string(m))
	}
	assert.Equal(t, []string{"one", "two"}, marks)
	require.NoError(t, s.BeginStep(ctx, id, 1, noon))
	require.NoError(t, s.BeginStep(ctx, id, 2, noon.Add(time.Second)))
	done := receipt.Receipt{Kind: plan.Prove, Outcome: receipt.Proven, Steps: []receipt.Done{{Name: plan.StepProve, Bytes: 1 << 30}}}
	require.NoError(t, s.EndSteps(ctx, id, done.Steps, nil, noon.Add(3*time.Second)))
	require.NoError(t, s.EndJob(ctx, claim, ending(Running, Done, done, seal), noon.Add(3*time.Second)))
	require.ErrorIs(t, s.EndJob(ctx, claim, ending(Running, Failed, done, seal), noon.Add(3*time.Second)), ErrNotFound, "a job ends once")
	uncleared, err = s.UnclearedJobs(ctx)
	require.NoError(t, err)
	require.Len(t, uncleared, 1)
	kept, err = c.Load(ctx)
	require.NoError(t, err)
	assert.Nil(t, kept, "what has ended does not go on")
	leases, err = s.Leases(ctx)
	require.NoError(t, err)
	assert.Empty(t, leases)
	require.NoError(t, s.ClearJob(ctx, id))
	require.NoError(
		t,
		s.EndJob(
			ctx,
			Claim{Job: second},
			ending(Waiting, Cancelled, receipt.Receipt{Outcome: receipt.Cancelled, Reason: "not needed"}, seal),
			noon,
		),
	)
	seals, err := s.Seals(ctx, 0, 10)
	require.NoError(t, err)
	require.Len(t, seals, 2, "what did not happen has no seal")
	assert.Equal(t, []int64{id, second}, []int64{seals[0].Job, seals[1].Job})
	assert.Contains(t, seals[1].Seal, "seal 2 of")
	seals, err = s.Seals(ctx, 1, 10)
	require.NoError(t, err)
	assert.Len(t, seals, 1)

	j, err := s.Job(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, Done, j.State)
	assert.True(t, j.State.Ended())
	assert.Equal(t, receipt.Proven, j.Outcome)
	assert.Equal(t, &done, j.Receipt)
	assert.False(t, j.Uncleared)
	assert.Equal(t, 3*time.Second, j.Finished.Sub(*j.Started))
	jobs, err := s.Jobs(ctx, JobQuery{Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, second, jobs[0].ID, "the newest first")
	assert.Equal(t, "not needed", jobs[0].Reason)
	counts, err := s.CountJobs(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[State]int{Waiting: 0, Running: 0, Done: 1, Failed: 0, Cancelled: 1, Paused: 0, Asking: 0}, counts)
	speeds, err := s.Speeds(ctx, "quay-store", "")
	require.NoError(t, err)
	assert.InDelta(t, float64(1<<30)/2, speeds[plan.StepProve], 1e6, "the second step took two seconds")
	assert.NotContains(t, speeds, plan.StepFill)
	_, err = s.Job(ctx, 99)
	require.ErrorIs(t, err, ErrNotFound)
}

func TestNamesAndFoldersAreTakenOnce(t *testing.T) {
	s := records(t)
	ctx := t.Context()
	require.NoError(t, s.AddPool(ctx, Pool{Name: "quay-store", Host: "local", Folder: "/srv/quay"}, noon))
	require.ErrorIs(t, s.AddPool(ctx, Pool{Name: "quay-store", Host: "local", Folder: "/srv/other"}, noon), ErrTaken)
	require.ErrorIs(t, s.AddPool(ctx, Pool{Name: "other", Host: "local", Folder: "/srv/quay"}, noon), ErrTaken)
	require.NoError(t, s.RemovePool(ctx, "quay-store"))
	require.ErrorIs(t, s.RemovePool(ctx, "quay-store"), ErrNotFound)
	_, err := s.Pool(ctx, "quay-store")
	require.ErrorIs(t, err, ErrNotFound)
}

// TestKnownFormats: what is known holds for one file, and is forgotten with its pool.
func TestKnownFormats(t *testing.T) {
	s := records(t)
	ctx := t.Context()
	pool := Pool{Name: "quay-store", Host: "local", Folder: "/srv/quay"}
	require.NoError(t, s.AddPool(ctx, pool, noon))
	require.NoError(t, s.SetKnownFormats(ctx, "quay-store", KnownFormat{"a.img", "1:7", "raw"}))
	format, err := s.KnownFormat(ctx, "quay-store", "a.img", "1:7")
	require.NoError(t, err)
	assert.Equal(t, "raw", format)
	_, err = s.KnownFormat(ctx, "quay-store", "a.img", "1:8")
	require.ErrorIs(t, err, ErrNotFound, "another file under the same name")
	require.NoError(t, s.SetKnownFormats(ctx, "quay-store", KnownFormat{"a.img", "1:7", "qcow2"}))
	format, err = s.KnownFormat(ctx, "quay-store", "a.img", "1:7")
	require.NoError(t, err)
	assert.Equal(t, "qcow2", format)
	require.NoError(t, s.RemovePool(ctx, "quay-store"))
	require.NoError(t, s.AddPool(ctx, pool, noon))
	_, err = s.KnownFormat(ctx, "quay-store", "a.img", "1:7")
	require.ErrorIs(t, err, ErrNotFound)
}

func TestSessionsAndPlansExpire(t *testing.T) {
	s := records(t)
	ctx := t.Context()
	session := Session{ID: "1", Who: "crew", Role: "viewer", Origin: "127.0.0.1", Begun: noon, Expires: noon.Add(time.Hour)}
	require.NoError(t, s.AddSession(ctx, session, "hash"))
	for _, at := range []time.Duration{0, 59 * time.Minute} {
		of, err := s.Session(ctx, "hash", noon.Add(at))
		require.NoError(t, err)
		assert.Equal(t, session, of, at)
	}
	_, err := s.Session(ctx, "hash", noon.Add(61*time.Minute))
	require.ErrorIs(t, err, ErrNotFound)

	require.NoError(t, s.AddPlan(ctx, "old", twoSteps(), noon))
	p, started, err := s.KeptPlan(ctx, "old")
	require.NoError(t, err)
	assert.Equal(t, twoSteps(), p)
	assert.Zero(t, started)
	ids, _, err := s.AddJobs(ctx, NewJobs{Plans: []plan.Plan{twoSteps()}, Kept: "old"}, noon)
	require.NoError(t, err)
	_, started, err = s.KeptPlan(ctx, "old")
	require.NoError(t, err)
	assert.Equal(t, ids[0], started)
	before, err := s.CountJobs(ctx)
	require.NoError(t, err)
	_, _, err = s.AddJobs(ctx, NewJobs{Plans: []plan.Plan{twoSteps(), twoSteps()}, Group: "quay", Kept: "gone"}, noon)
	require.ErrorIs(t, err, ErrNotFound)
	after, err := s.CountJobs(ctx)
	require.NoError(t, err)
	assert.Equal(t, before, after, "all or none")
	groups, err := s.Groups(ctx, 10)
	require.NoError(t, err)
	assert.Empty(t, groups)
	require.NoError(t, s.AddPlan(ctx, "new", twoSteps(), noon.Add(25*time.Hour)))
	_, _, err = s.KeptPlan(ctx, "old")
	require.ErrorIs(t, err, ErrNotFound)
}

// TestOrder: a waiting job goes where it is put, and nobody else moves.
func TestOrder(t *testing.T) {
	s := records(t)
	ctx := t.Context()
	var ids []int64
	for range 4 {
		id, err := addTwoSteps(s, noon)
		require.NoError(t, err)
		ids = append(ids, id)
	}
	order := func() (out []int64) {
		jobs, err := s.Waiting(ctx, BeforeAll, nil, 10)
		require.NoError(t, err)
		for _, j := range jobs {
			out = append(out, j.ID)
		}
		return out
	}
	a, b, c, d := ids[0], ids[1], ids[2], ids[3]
	for _, move := range []struct {
		id, before int64
		want       []int64
	}{
		{d, a, []int64{d, a, b, c}}, {c, a, []int64{d, c, a, b}}, {d, 0, []int64{c, a, b, d}}, {a, b, []int64{c, a, b, d}}, {b, c, []int64{b, c, a, d}},
	} {
		require.NoError(t, s.MoveJob(ctx, move.id, move.before))
		assert.Equal(t, move.want, order())
	}
	claim, err := s.StartJob(ctx, a, nil, "here", Event{What: "started"}, noon)
	require.NoError(t, err)
	require.ErrorIs(t, s.MoveJob(ctx, a, b), ErrNotFound)
	require.ErrorIs(t, s.MoveJob(ctx, b, a), ErrNotFound)
	require.NoError(t, s.SetAside(ctx, claim, Running, Paused, "no room", true))
	require.ErrorIs(t, s.SetAside(ctx, claim, Running, Paused, "no room", true), ErrNotFound)
	troubled, err := s.Troubled(ctx)
	require.NoError(t, err)
	require.Len(t, troubled, 1)
	require.NoError(t, s.SetJob(ctx, a, 7, "22:00-06:00"))
	j, err := s.Job(ctx, a)
	require.NoError(t, err)
	assert.Equal(t, int64(7), j.Speed)
	assert.Equal(t, "no room", j.Reason)
}

// addTwoSteps puts a job into the queue.
func addTwoSteps(s *Store, now time.Time) (int64, error) {
	ids, _, err := s.AddJobs(context.Background(), NewJobs{Plans: []plan.Plan{twoSteps()}}, now)
	if err != nil {
		return 0, err
	}
	return ids[0], nil
}

// TestANewJobIsTheLast of those that have not ended, and finding that out takes an index alone, however many there are.
func TestANewJobIsTheLast(t *testing.T) {
	s := records(t)
	ctx := t.Context()
	first, err := addTwoSteps(s, noon)
	require.NoError(t, err)
	_, err = s.StartJob(ctx, first, nil, "here", Event{What: "started"}, noon)
	require.NoError(t, err)
	second, err := addTwoSteps(s, noon)
	require.NoError(t, err)
	a, err := s.Job(ctx, first)
	require.NoError(t, err)
	b, err := s.Job(ctx, second)
	require.NoError(t, err)
	assert.Greater(t, b.Rank, a.Rank, "one that runs may be set aside, and comes first then")
	var how []struct {
		ID, Parent, Notused int
		Detail              string
	}
	require.NoError(t, s.db.SelectContext(ctx, &how, `EXPLAIN QUERY PLAN SELECT coalesce(max(rank), 0) FROM jobs WHERE state = ?`, Waiting))
	require.Len(t, how, 1)
	assert.Contains(t, how[0].Detail, "COVERING INDEX jobs_by_rank")
}

// TestRecordsLieInTheirFolder, whatever that is called.
func TestRecordsLieInTheirFolder(t *testing.T) {
	for _, name := range []string{"a#b", "a?b=c", "a%23b", "é ü", "a&b+c"} {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Mkdir(dir, 0o700))
		s, err := Open(t.Context(), filepath.Join(dir, "records.sqlite"))
		require.NoError(t, err)
		require.NoError(t, s.SetSetting(t.Context(), "x", name))
		require.NoError(t, s.Close())
		again, err := Open(t.Context(), filepath.Join(dir, "records.sqlite"))
		require.NoError(t, err)
		value, err := again.Setting(t.Context(), "x")
		require.NoError(t, errors.Join(err, again.Close()))
		assert.Equal(t, name, value)
		info, err := os.Stat(filepath.Join(dir, "records.sqlite"))
		require.NoError(t, err)
		assert.NotZero(t, info.Size(), name)
		beside, err := os.ReadDir(filepath.Dir(dir))
		require.NoError(t, err)
		assert.Len(t, beside, 1, "nothing lies beside it")
	}
}

// TestConsentsWait: what was asked for stays with who asked first, as long as somebody can agree; then it is asked for anew.
func TestConsentsWait(t *testing.T) {
	s := records(t)
	now := time.Now()
	ask := func(id, who string, at time.Time) Consent {
		t.Helper()
		c, err := s.AskConsent(t.Context(), Consent{ID: id, What: "held:quay-store/1", Said: "notes", Who: who}, at)
		require.NoError(t, err)
		return c
	}
	ask("1", "rona", now)
	c := ask("2", "tor", now.Add(time.Hour))
	assert.Equal(t, "1", c.ID)
	assert.Equal(t, "rona", c.Who)
	c = ask("3", "tor", now.Add(ConsentWaits+time.Hour))
	assert.Equal(t, "3", c.ID)
	assert.Equal(t, "tor", c.Who)
	all, err := s.Consents(t.Context(), now.Add(2*time.Hour))
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.NoError(t, s.EndConsent(t.Context(), "3"))
	require.ErrorIs(t, s.EndConsent(t.Context(), "3"), ErrNotFound)
}

// TestAnotherVersionsRecords: those of an earlier one are copied before they are brought to the new form; those of a later one are left alone, and it is
// said what to do.
func TestAnotherVersionsRecords(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "records.sqlite")
	s, err := Open(t.Context(), file)
	require.NoError(t, err)
	require.NoError(t, s.SetSetting(t.Context(), "town", "quay"))
	var newest int64
	require.NoError(t, s.db.GetContext(t.Context(), &newest, `SELECT max(version_id) FROM goose_db_version`))
	none, err := filepath.Glob(file + before + "*")
	require.NoError(t, err)
	assert.Empty(t, none, "new records have no earlier form")

	_, err = s.writer.ExecContext(
		t.Context(),
		`DELETE FROM goose_db_version WHERE version_id = ?; DROP INDEX jobs_by_rank; ALTER TABLE jobs DROP COLUMN pools; CREATE INDEX jobs_by_rank ON jobs (state, rank)`,
		newest,
	)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	stale := fmt.Sprintf("%s%s%d", file, before, 2)
	for _, form := range []int64{2, newest - 3, newest - 2} {
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s%s%d", file, before, form), []byte("of long ago"), 0o600))
	}
	require.NoError(t, os.WriteFile(fmt.Sprintf("%s%s%d.new", file, before, newest-1), []byte("cut off"), 0o600))
	s, err = Open(t.Context(), file)
	require.NoError(t, err)
	assert.NoFileExists(t, stale)
	assert.FileExists(t, fmt.Sprintf("%s%s%d", file, before, newest-2), "an update that was cut off may have begun there")
	kept := fmt.Sprintf("%s%s%d", file, before, newest-1)
	old, err := sqlx.Open("sqlite", kept)
	require.NoError(t, err)
	var town string
	require.NoError(t, old.GetContext(t.Context(), &town, `SELECT value FROM settings WHERE name = 'town'`))
	assert.Equal(t, "quay", town)
	require.NoError(t, old.Close())
	info, err := os.Stat(kept)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm(), "it has hashes of secrets")

	_, err = s.writer.ExecContext(t.Context(), `INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)`, newest+1)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	_, err = Open(t.Context(), file)
	require.ErrorContains(t, err, "they are of a later version of Bagaglio")
	require.ErrorContains(t, err, "install that version again")
	same, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, content, same, "they are left alone")
}
