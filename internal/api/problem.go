package api

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/http"

	spec "bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/core/storage/sftp"
	"bagaglio/internal/service"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

// classes tells the HTTP status of an error.
var classes = []struct {
	is     func(error) bool
	status int
}{
	{isA[*http.MaxBytesError], http.StatusRequestEntityTooLarge},
	{is(store.ErrTaken), http.StatusConflict},
	{is(job.ErrBlocked), http.StatusConflict},
	{is(job.ErrInUse), http.StatusConflict},
	{is(service.ErrState), http.StatusConflict},
	{is(service.ErrInvalid), http.StatusBadRequest},
	{is(plan.ErrRequest), http.StatusBadRequest},
	{store.CannotWrite, http.StatusServiceUnavailable},
	{isA[*sftp.HostKeyError], http.StatusConflict},
	{is(storage.ErrLost), http.StatusServiceUnavailable},
	{is(storage.ErrOutside), http.StatusBadRequest},
	{is(storage.ErrName), http.StatusBadRequest},
	{is(storage.ErrNotFile), http.StatusUnprocessableEntity},
	{is(local.ErrKept), http.StatusBadRequest},
	{is(store.ErrNotFound), http.StatusNotFound},
	{is(fs.ErrNotExist), http.StatusNotFound},
	{is(fs.ErrExist), http.StatusConflict},
	{isA[*disk.MismatchError], http.StatusUnprocessableEntity},
	{is(disk.ErrNoFormat), http.StatusBadRequest},
	{is(disk.ErrFormat), http.StatusUnprocessableEntity},
	{is(disk.ErrDamaged), http.StatusUnprocessableEntity},
	{is(disk.ErrUnsupported), http.StatusUnprocessableEntity},
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
	err = service.Unwritten(err)
	status := http.StatusInternalServerError
	for _, class := range classes {
		if class.is(err) {
			status = class.status
			break
		}
	}
	kind := plainProblem
	if errors.Is(err, job.ErrBlocked) {
		kind = spec.ProblemBlocked
	}
	answer(c, kind, status, err.Error())
}

// plainProblem is the type of a problem that says no more than its status (RFC 9457, 4.2.1).
const plainProblem = "about:blank"

func problemWith(c *gin.Context, status int, detail string) { answer(c, plainProblem, status, detail) }

func answer(c *gin.Context, kind string, status int, detail string) {
	c.Set(detailKey, detail)
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, spec.Problem{Type: kind, Title: http.StatusText(status), Status: status, Detail: detail})
}

// writeProblem writes the body of a problem where gin is not.
func writeProblem(w io.Writer, status int, detail string) {
	_ = json.NewEncoder(w).Encode(spec.Problem{Type: plainProblem, Title: http.StatusText(status), Status: status, Detail: detail}) // a line that was cut
}
