package queue

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bagaglio/core/receipt"
	"bagaglio/core/report"
	"bagaglio/core/seal"
	"bagaglio/internal/records"
	"bagaglio/internal/store"
)

// mostReported bounds how many jobs a report has.
const mostReported = 10_000

// Report tells what ended in a time, not before since and before until, and signs it with the key of receipts.
func (q *Queue) Report(ctx context.Context, since, until time.Time) (r report.Report, signed string, err error) {
	if !since.Before(until) {
		return r, "", fmt.Errorf("%w: %s is not before %s", records.ErrInvalid, since.Format(time.RFC3339), until.Format(time.RFC3339))
	}
	r = report.Report{Since: since, Until: until, Made: time.Now(), Outcomes: map[string]int{}, Items: []report.Item{}}
	all, err := q.records.EndedIn(ctx, since, until, mostReported+1)
	if err != nil {
		return r, "", err
	}
	if len(all) > mostReported {
		return r, "", fmt.Errorf("%w: more than %d jobs ended in that time: ask for a shorter one", records.ErrInvalid, mostReported)
	}
	seals, err := q.records.SealsEndedIn(ctx, since, until)
	if err != nil {
		return r, "", err
	}
	for _, j := range all {
		done, outcome, reason := q.asSigned(j, seals[j.ID])
		item := report.Of(j.Plan, done)
		item.Job, item.Who, item.Started, item.Finished, item.Reason, item.Outcome = j.ID, j.Who, j.Created, *j.Finished, reason, outcome
		if done != nil {
			item.Started = done.Started
		}
		r.Add(item)
	}
	head := q.Head()
	r.Receipts, r.Head = head.Number, head.Digest
	text, err := json.Marshal(r)
	if err == nil {
		signed, err = q.key.Sign(text)
	}
	return r, signed, err
}

// Outcomes of jobs whose receipts say nothing that can be relied on.
const (
	notSigned = "not signed" // the records have a receipt that nobody signed
	notAsMade = "changed"    // the receipt is not the one any more that was signed
)

// asSigned is the receipt of an ended job as it was signed, how the job ended by that, and why. What the records say is not believed.
func (q *Queue) asSigned(j store.Job, s store.Seal) (done *receipt.Receipt, outcome, reason string) {
	if s.Seal == "" {
		if j.Receipt != nil || j.Outcome != "" {
			return nil, notSigned, "the records have a receipt of it, which was not signed or whose signature was taken out"
		}
		return nil, string(j.State), j.Reason // it came to none
	}
	link, err := seal.Open(s.Seal, q.key.Public())
	done = &receipt.Receipt{}
	if err == nil {
		err = json.Unmarshal(link.Receipt, done)
	}
	if err == nil && (link.Job != j.ID || link.Number != s.Number) {
		err = fmt.Errorf("%w: it is of job %d", seal.ErrBroken, link.Job)
	}
	if err != nil {
		return nil, notAsMade, err.Error()
	}
	shown, err := json.Marshal(j.Receipt)
	signed, signErr := json.Marshal(done)
	if err := errors.Join(err, signErr); err != nil || !bytes.Equal(shown, signed) || string(j.Outcome) != string(done.Outcome) {
		return done, notAsMade, fmt.Sprintf("the records show another receipt than the one that was signed, which says %s", done.Outcome)
	}
	return done, string(done.Outcome), done.Reason
}
