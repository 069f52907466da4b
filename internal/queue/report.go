package queue

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"bagaglio/core/report"
	"bagaglio/core/seal"
	"bagaglio/internal/records"
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
	for _, j := range all {
		item := report.Of(j.Plan, j.Receipt)
		item.Job, item.Who, item.Started, item.Finished, item.Reason = j.ID, j.Who, j.Created, *j.Finished, j.Reason
		item.Outcome = cmp.Or(string(j.Outcome), string(j.State)) // it may have come to no receipt
		if j.Receipt != nil {
			item.Started = j.Receipt.Started
		}
		r.Add(item)
	}
	last, err := q.records.LastSeal(ctx)
	if err != nil {
		return r, "", err
	}
	if r.Receipts = last.Number; last.Number > 0 {
		r.Head = seal.Digest(last.Seal)
	}
	text, err := json.Marshal(r)
	if err == nil {
		signed, err = q.key.Sign(text)
	}
	return r, signed, err
}
