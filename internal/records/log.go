package records

import (
	"context"
	"strconv"

	"bagaglio/internal/store"
)

// ByService is who did what nobody asked for.
const ByService = "service"

// OfJob is a line of the log about a job.
func OfJob(id int64, what, result string) store.Event {
	return store.Event{Who: ByService, What: what, Subject: "job " + strconv.FormatInt(id, 10), Result: result}
}

// NoteJob adds what happened to a job to the log of events.
func (r *Records) NoteJob(ctx context.Context, id int64, what, result string) {
	r.Add(ctx, OfJob(id, what, result))
}

// Note adds what somebody asked for to the log of events.
func (r *Records) Note(who, origin, what, subject, result string) {
	r.Add(context.Background(), store.Event{Who: who, Origin: origin, What: what, Subject: subject, Result: result})
}
