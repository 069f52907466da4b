// Package client is the Go client of the HTTP API of api/openapi.yaml.
package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"os"
	"os/user"
	"strings"
	"syscall"
	"time"

	"bagaglio/api"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage/blocks"
)

// Service is a service to call. Errors that it answers with are a *[Error].
type Service struct{ calls *Client }

// Error is what the service answered instead of a result (RFC 9457).
type Error struct{ api.Problem }

func (e *Error) Error() string { return e.Detail }

// Dial returns the service at that address, such as http://127.0.0.1:2247. Nothing is sent yet. BAGAGLIO_WHO says who uses it, for the
// service's log, when not the user of this computer.
func Dial(address, token string, options ...ClientOption) (*Service, error) {
	who := os.Getenv("BAGAGLIO_WHO")
	if who == "" {
		who = self()
	}
	c, err := NewClient(address, append(options, WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set("Bagaglio-Who", who)
		return nil
	}))...)
	return &Service{c}, err
}

// self is the user and computer that this runs as, for the service's log.
func self() string {
	who := ""
	if u, err := user.Current(); err == nil {
		who = u.Username
	}
	if host, err := os.Hostname(); err == nil {
		who += "@" + host
	}
	return who
}

// decode reads the answer to a call.
func decode[T any](resp *http.Response, err error) (out T, _ error) {
	if err != nil {
		return out, unreachable(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return out, decodeProblem(resp)
	}
	if resp.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("reading the service's answer: %w", err)
	}
	return out, nil
}

// items reads the answer to a call that lists.
func items[T any](resp *http.Response, err error) ([]T, error) {
	list, err := decode[struct{ Items []T }](resp, err)
	return list.Items, err
}

// unreachable adds what to do to an error of the line.
func unreachable(err error) error {
	if errors.Is(err, syscall.ECONNREFUSED) {
		return fmt.Errorf("%w: no service answers there; start it with bagaglio serve", err)
	}
	return err
}

func decodeProblem(resp *http.Response) error {
	var e Error
	if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&e.Problem); err != nil || e.Detail == "" {
		return fmt.Errorf("what answers there is not Bagaglio: it says %s", resp.Status)
	}
	return &e
}

// Version tells what is running.
func (s *Service) Version(ctx context.Context) (api.Version, error) {
	return decode[api.Version](s.calls.GetVersion(ctx))
}

// ConsoleLink makes a link that opens the console once.
func (s *Service) ConsoleLink(ctx context.Context) (api.ConsoleLink, error) {
	return decode[api.ConsoleLink](s.calls.MakeConsoleLink(ctx))
}

// Disks returns all disks in a pool.
func (s *Service) Disks(ctx context.Context, pool string) ([]api.DiskEntry, error) {
	refresh := true
	list, err := s.AllDisks(ctx, pool, api.ListDisksParams{Refresh: &refresh})
	return list.Items, err
}

// AllDisks returns all disks in a pool that are asked for, as one list.
func (s *Service) AllDisks(ctx context.Context, pool string, p api.ListDisksParams) (all api.DiskList, err error) {
	limit := 1000
	p.Limit = &limit
	all, err = s.ListDisks(ctx, pool, p)
	for next := all.Next; err == nil && next != nil; {
		p.Cursor, p.Refresh = next, nil
		var page api.DiskList
		if page, err = s.ListDisks(ctx, pool, p); err == nil {
			all.Items, next = append(all.Items, page.Items...), page.Next
		}
	}
	all.Next = nil
	return all, err
}

// Strays returns all files in a pool that belong to no disk.
func (s *Service) Strays(ctx context.Context, pool string) ([]api.PoolFile, error) {
	limit := 1000
	p := api.ListStraysParams{Limit: &limit}
	var all []api.PoolFile
	for {
		page, err := decode[api.StrayList](s.calls.ListStrays(ctx, pool, &p))
		all = append(all, page.Items...)
		if err != nil || page.Next == nil {
			return all, err
		}
		p.Cursor = page.Next
	}
}

// StopLooking ends the look through a pool that is under way.
func (s *Service) StopLooking(ctx context.Context, pool string) error {
	_, err := decode[struct{}](s.calls.StopLooking(ctx, pool))
	return err
}

// ListDisks returns those disks in a pool that are asked for.
func (s *Service) ListDisks(ctx context.Context, pool string, p api.ListDisksParams) (api.DiskList, error) {
	return decode[api.DiskList](s.calls.ListDisks(ctx, pool, &p))
}

// Look reports on a disk.
func (s *Service) Look(ctx context.Context, p plan.Place) (inspect.Report, error) {
	params := api.LookAtDiskParams{Path: p.Path}
	if p.Format != "" {
		params.Format = &p.Format
	}
	if p.Snapshot != "" {
		params.Snapshot = &p.Snapshot
	}
	if p.ByGeometry {
		params.ByGeometry = &p.ByGeometry
	}
	return decode[inspect.Report](s.calls.LookAtDisk(ctx, p.Pool, &params))
}

// Starts tells what a disk starts from.
func (s *Service) Starts(ctx context.Context, p plan.Place) (inspect.Starts, error) {
	params := api.GetStartsParams{Path: p.Path, Format: &p.Format, Snapshot: &p.Snapshot}
	return decode[inspect.Starts](s.calls.GetStarts(ctx, p.Pool, &params))
}

// Inside lists a folder inside of a disk.
func (s *Service) Inside(ctx context.Context, p plan.Place, at inspect.Spot) ([]inspect.Found, error) {
	params := api.ListInsideParams{Path: p.Path, At: at.String(), Format: &p.Format, Snapshot: &p.Snapshot}
	return items[inspect.Found](s.calls.ListInside(ctx, p.Pool, &params))
}

// Take opens a file inside of a disk: its content, which the caller closes, its size in bytes, and when it was modified.
func (s *Service) Take(ctx context.Context, p plan.Place, at inspect.Spot) (io.ReadCloser, int64, time.Time, error) {
	params := api.TakeFileParams{Path: p.Path, At: at.String(), Format: &p.Format, Snapshot: &p.Snapshot}
	resp, err := s.calls.TakeFile(ctx, p.Pool, &params)
	if err != nil {
		return nil, 0, time.Time{}, unreachable(err)
	}
	if resp.StatusCode >= 300 {
		defer resp.Body.Close()
		return nil, 0, time.Time{}, decodeProblem(resp)
	}
	modified, err := http.ParseTime(resp.Header.Get("Last-Modified"))
	if err != nil {
		modified = time.Now()
	}
	return resp.Body, max(0, resp.ContentLength), modified, nil
}

// Devices are the physical disks of a host, empty for all that can be asked.
func (s *Service) Devices(ctx context.Context, host string) ([]blocks.Seen, error) {
	var params api.ListDevicesParams
	if host != "" {
		params.Host = &host
	}
	return items[blocks.Seen](s.calls.ListDevices(ctx, &params))
}

// Plan says what a request would do.
func (s *Service) Plan(ctx context.Context, r plan.Request) (api.KeptPlan, error) {
	return decode[api.KeptPlan](s.calls.MakePlan(ctx, r))
}

// Start starts a plan as a job.
func (s *Service) Start(ctx context.Context, n api.NewJob) (api.Job, error) {
	return decode[api.Job](s.calls.StartJob(ctx, n))
}

// KeptPlan returns a plan that was made.
func (s *Service) KeptPlan(ctx context.Context, id string) (api.KeptPlan, error) {
	return decode[api.KeptPlan](s.calls.GetPlan(ctx, id))
}

// ListJobs returns those jobs that are asked for, without their plans, and the cursor of the next page.
func (s *Service) ListJobs(ctx context.Context, p api.ListJobsParams) (api.JobList, error) {
	return decode[api.JobList](s.calls.ListJobs(ctx, &p))
}

// Jobs returns the newest jobs, at most limit, without their plans.
func (s *Service) Jobs(ctx context.Context, limit int) ([]api.Job, error) {
	return items[api.Job](s.calls.ListJobs(ctx, &api.ListJobsParams{Limit: &limit}))
}

// JobsOf returns the newest of those jobs that are asked for.
func (s *Service) JobsOf(ctx context.Context, p api.ListJobsParams) ([]api.Job, error) {
	return items[api.Job](s.calls.ListJobs(ctx, &p))
}

// Job returns one job.
func (s *Service) Job(ctx context.Context, id string) (api.Job, error) {
	return decode[api.Job](s.calls.GetJob(ctx, id))
}

// Cancel stops a job.
func (s *Service) Cancel(ctx context.Context, id string) (api.Job, error) {
	return decode[api.Job](s.calls.CancelJob(ctx, id))
}

// Again starts the request of an ended job as a new job.
func (s *Service) Again(ctx context.Context, id string) (api.Job, error) {
	return decode[api.Job](s.calls.StartAgain(ctx, id))
}

// Receipt returns what an ended job proves.
func (s *Service) Receipt(ctx context.Context, id string) (receipt.Receipt, error) {
	return decode[receipt.Receipt](s.calls.GetReceipt(ctx, id))
}

// Seals returns the signed receipts behind a number, some of them, and the key that checks them.
func (s *Service) Seals(ctx context.Context, after int64) (api.Seals, error) {
	return decode[api.Seals](s.calls.ListSeals(ctx, &api.ListSealsParams{After: &after}))
}

// ErrAway is the error for a service that does not answer any more. Follow tries to reach it again.
var ErrAway = errors.New("the line to the service was cut")

// again is how long is waited before the service is tried again.
const again = time.Second

// Follow yields a job's states as they change, up to the one in which it has ended. When the service is away meanwhile, that is told once
// with an error that wraps ErrAway, and the states go on when it is back, for as long as the caller and ctx want to wait.
func (s *Service) Follow(ctx context.Context, id string) iter.Seq2[api.Job, error] {
	return func(yield func(api.Job, error) bool) {
		for reached, told := false, false; ; {
			more, err := s.follow(ctx, id, func(j api.Job) bool {
				reached, told = true, false
				return yield(j, nil)
			})
			if !more {
				return
			}
			var answer *Error
			if !reached || ctx.Err() != nil || errors.As(err, &answer) && answer.Status < http.StatusInternalServerError {
				yield(api.Job{}, err)
				return
			}
			if !told && !yield(api.Job{}, fmt.Errorf("%w: %w", ErrAway, err)) {
				return
			}
			told = true
			select {
			case <-ctx.Done():
			case <-time.After(again):
			}
		}
	}
}

// follow passes the states of a job on until the line ends; more tells that they are still wanted, and err why it ended.
func (s *Service) follow(ctx context.Context, id string, each func(api.Job) bool) (more bool, err error) {
	resp, err := s.calls.FollowEvents(ctx, &api.FollowEventsParams{Job: &id})
	if err != nil {
		return true, unreachable(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return true, decodeProblem(resp)
	}
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 4<<20) // a job with its plan is far shorter
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var j api.Job
		if err := json.Unmarshal([]byte(data), &j); err != nil {
			return true, err
		}
		if !each(j) || j.Ended {
			return false, nil
		}
	}
	if err := lines.Err(); err != nil {
		return true, err
	}
	return true, errors.New("it has closed the line")
}
