package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/gin-gonic/gin"
)

// heartbeat keeps a quiet stream from being taken for dead.
const heartbeat = 15 * time.Second

func (s *server) FollowEvents(ctx context.Context, r FollowEventsRequestObject) (FollowEventsResponseObject, error) {
	var job string
	if r.Params.Job != nil {
		job = *r.Params.Job
	}
	// The stream outlives this call, and gin uses its own context again after it.
	inside, leave := s.service.Access.While(ctx.(*gin.Context).Request.Context(), personOf(ctx))
	jobs, err := s.service.Queue.Follow(inside, job)
	if err != nil {
		leave()
		return nil, err
	}
	in, out := io.Pipe()
	go func() {
		defer leave()
		stop := make(chan struct{})
		defer close(stop)
		go func() {
			tick := time.NewTicker(heartbeat)
			defer tick.Stop()
			for {
				if _, err := io.WriteString(out, ": here\n\n"); err != nil {
					return
				}
				select {
				case <-tick.C:
				case <-stop:
					return
				}
			}
		}()
		for j := range jobs {
			b, err := json.Marshal(summary(j))
			if err == nil {
				_, err = fmt.Fprintf(out, "event: job\ndata: %s\n\n", b)
			}
			if err != nil {
				break
			}
		}
		_ = out.Close() // never fails
	}()
	return FollowEvents200TexteventStreamResponse{Body: in}, nil
}
