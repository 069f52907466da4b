package api

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"strconv"

	spec "bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/upload"
	"bagaglio/internal/consents"
	"bagaglio/internal/planner"
	"bagaglio/internal/queue"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

// classes tells the type and the HTTP status of an error.
var classes = []struct {
	is     func(error) bool
	kind   string // behind spec.ProblemPrefix
	status int
}{
	{isA[*http.MaxBytesError], "too-large", http.StatusRequestEntityTooLarge},
	{is(store.ErrTaken), "taken", http.StatusConflict},
	{is(step.ErrBlocked), "blocked", http.StatusConflict},
	{isA[*store.LeasedError], "in-use", http.StatusConflict},
	{is(step.ErrInUse), "in-use", http.StatusConflict},
	{is(records.ErrState), "state", http.StatusConflict},
	{isA[*consents.NeededError], "consent", http.StatusConflict},
	{isA[*queue.GoneError], "consent", http.StatusConflict},
	{is(errElsewhere), "elsewhere", http.StatusForbidden},
	{is(upload.ErrPiece), "damaged-on-its-way", http.StatusBadRequest},
	{is(errNotYou), "not-you", http.StatusUnauthorized},
	{is(errTooOften), "too-often", http.StatusTooManyRequests},
	{is(errChanged), "changed", http.StatusPreconditionFailed},
	{is(records.ErrInvalid), "invalid", http.StatusBadRequest},
	{is(plan.ErrRequest), "invalid", http.StatusBadRequest},
	{store.CannotWrite, "records", http.StatusServiceUnavailable},
	{isA[*storage.HostKeyError], "host-key", http.StatusConflict},
	{is(storage.ErrLost), "unreachable", http.StatusServiceUnavailable},
	{is(host.ErrGone), "unreachable", http.StatusServiceUnavailable},
	{is(host.ErrRefused), "refused", http.StatusConflict},
	{is(storage.ErrOutside), "outside", http.StatusBadRequest},
	{is(storage.ErrName), "name", http.StatusBadRequest},
	{is(storage.ErrNotFile), "not-a-file", http.StatusUnprocessableEntity},
	{is(local.ErrKept), "kept", http.StatusBadRequest},
	{is(store.ErrNotFound), "not-found", http.StatusNotFound},
	{is(fs.ErrNotExist), "not-found", http.StatusNotFound},
	{is(fs.ErrExist), "exists", http.StatusConflict},
	{isA[*disk.MismatchError], "other-format", http.StatusUnprocessableEntity},
	{is(disk.ErrNoFormat), "format", http.StatusBadRequest},
	{is(disk.ErrFormat), "format", http.StatusUnprocessableEntity},
	{is(disk.ErrDamaged), "damaged", http.StatusUnprocessableEntity},
	{is(errors.ErrUnsupported), "unsupported", http.StatusUnprocessableEntity},
	{is(disk.ErrUnsupported), "unsupported", http.StatusUnprocessableEntity},
}

func is(target error) func(error) bool {
	return func(err error) bool { return errors.Is(err, target) }
}

func isA[E error](err error) bool {
	var target E
	return errors.As(err, &target)
}

// problem ends a request with what went wrong (RFC 9457).
func problem(c *gin.Context, err error) {
	err = records.Unwritten(err)
	p := spec.Problem{Type: plainProblem, Status: http.StatusInternalServerError, Detail: err.Error()}
	for _, class := range classes {
		if class.is(err) {
			p.Type, p.Status = spec.ProblemPrefix+class.kind, class.status
			break
		}
	}
	var blocked *planner.BlockedError
	if errors.As(err, &blocked) {
		p.Checks = &blocked.Checks
	}
	var leased *store.LeasedError
	if errors.As(err, &leased) {
		id := strconv.FormatInt(leased.Job, 10)
		p.Job = &id
	}
	answer(c, p)
}

// plainProblem is the type of a problem that says no more than its status (RFC 9457, 4.2.1).
const plainProblem = "about:blank"

func problemWith(c *gin.Context, status int, detail string) {
	answer(c, spec.Problem{Type: plainProblem, Status: status, Detail: detail})
}

func answer(c *gin.Context, p spec.Problem) {
	p.Title = http.StatusText(p.Status)
	c.Set(detailKey, p.Detail)
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(p.Status, p)
}

// writeProblem writes the body of a problem where gin is not.
func writeProblem(w io.Writer, status int, detail string) {
	_ = json.NewEncoder(w).
		Encode(spec.Problem{Type: plainProblem, Title: http.StatusText(status), Status: status, Detail: detail})
	// a line that was cut
}
