package step

import (
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"slices"

	"bagaglio/core/plan"
)

// Journal is how far a job is. With the marks of the steps that go on, it is enough to go on after the process has ended.
type Journal struct {
	Version  int              `json:"version"` // of its form
	Subjects map[string]Entry `json:"subjects"`
	// Back says why what is done is taken back; empty as long as the job goes forward.
	Back string `json:"back,omitempty"`
}

// Entry is how far the work on one subject is.
type Entry struct {
	Begun string          `json:"begun"` // ID of the step that began last
	Done  []string        `json:"done"`  // IDs of those that are done
	State json.RawMessage `json:"state"` // of whatever does its steps
}

// journalVersion is that of the form which is written.
const journalVersion = 2

// UnmarshalJSON reads a journal, also of the first form, which had one disk.
func (j *Journal) UnmarshalJSON(b []byte) error {
	type form Journal
	if err := json.Unmarshal(b, (*form)(j)); err != nil {
		return err
	}
	switch j.Version {
	case journalVersion:
		return nil
	case 0:
		var first struct {
			Step string
			Done []string
		}
		if err := json.Unmarshal(b, &first); err != nil {
			return err
		}
		*j = Journal{
			Version:  journalVersion,
			Subjects: map[string]Entry{plan.FirstDisk: {Begun: first.Step, Done: first.Done, State: slices.Clone(b)}},
		}
		return nil
	}
	return fmt.Errorf("a journal of the form %d: a later version of Bagaglio wrote it", j.Version)
}

// Mark is a mark of a step that goes on.
type Mark struct {
	Step string // ID
	Mark []byte
}

// Records keep the journal of one job on stable storage, until whoever runs it has noted how it ended.
type Records interface {
	// Load returns what was kept last, or nil.
	Load(context.Context) (*Journal, error)
	// Keep keeps the journal, and with it one more mark, unless that is nil.
	Keep(context.Context, Journal, *Mark) error
	// Marks are those that were kept for a step, in their order.
	Marks(ctx context.Context, step string) iter.Seq2[[]byte, error]
	// Forget drops the marks of the steps of a subject, which begins anew, and keeps the journal.
	Forget(ctx context.Context, subject string, j Journal) error
}

// Log is the part of a journal that the work on one subject writes.
type Log struct {
	Entry
	subject string
	journal *Journal
	records Records
}

// Open returns the part of a journal of a subject. Without records nothing outlives the process.
func (j *Journal) Open(subject string, r Records) *Log {
	l := &Log{subject: subject, journal: j, records: r}
	if l.journal.Subjects == nil {
		l.journal.Version, l.journal.Subjects = journalVersion, map[string]Entry{}
	}
	l.Entry = l.journal.Subjects[subject]
	l.Done = slices.Clone(l.Done)
	return l
}

// Forgets tells that nothing outlives the process.
func (l *Log) Forgets() bool { return l.records == nil }

// Load reads the state of an earlier time, and tells whether there is one.
func (l *Log) Load(state any) (bool, error) {
	if len(l.State) == 0 {
		return false, nil
	}
	if err := json.Unmarshal(l.State, state); err != nil {
		return false, fmt.Errorf("reading how far the job was: %w", err)
	}
	return true, nil
}

// ID is that of the step of a kind.
func (l *Log) ID(kind string) string { return l.subject + "." + kind }

// IsAt tells whether the step that began last is one of the kinds.
func (l *Log) IsAt(kinds ...string) bool {
	return slices.ContainsFunc(kinds, func(kind string) bool { return l.Begun == l.ID(kind) })
}

// IsDone tells whether the step of a kind is done.
func (l *Log) IsDone(kind string) bool { return slices.Contains(l.Done, l.ID(kind)) }

// Finish notes that the step of a kind is done. That is kept with what is kept next.
func (l *Log) Finish(kind string) {
	if !l.IsDone(kind) {
		l.Done = append(l.Done, l.ID(kind))
	}
}

// Enter keeps that the step of a kind begins.
func (l *Log) Enter(ctx context.Context, kind string, state any) error {
	l.Begun = l.ID(kind)
	return l.Keep(ctx, state, nil)
}

// Keep keeps a state, and a mark of the step that began last, unless that is nil.
func (l *Log) Keep(ctx context.Context, state any, mark []byte) error {
	b, err := json.Marshal(state)
	if err != nil {
		return err
	}
	l.State = b
	l.journal.Subjects[l.subject] = l.Entry
	if l.records == nil {
		return nil
	}
	var m *Mark
	if mark != nil {
		m = &Mark{Step: l.Begun, Mark: mark}
	}
	if err := l.records.Keep(context.WithoutCancel(ctx), *l.journal, m); err != nil {
		return fmt.Errorf("keeping how far the job is: %w", err)
	}
	return nil
}

// Marks are those that were kept for the step of a kind.
func (l *Log) Marks(ctx context.Context, kind string) iter.Seq2[[]byte, error] {
	if l.records == nil {
		return func(func([]byte, error) bool) {}
	}
	return l.records.Marks(ctx, l.ID(kind))
}

// Forget begins anew.
func (l *Log) Forget(ctx context.Context) error {
	l.Entry = Entry{}
	delete(l.journal.Subjects, l.subject)
	if l.records == nil {
		return nil
	}
	return l.records.Forget(ctx, l.subject, *l.journal)
}
