package api

import (
	"context"
	"errors"
	"fmt"

	"github.com/gin-gonic/gin"
)

// errChanged is the error for what somebody else has changed since it was read.
var errChanged = errors.New("it was changed since it was read: read it again, and see whether the change is still wanted")

// tagged answers with the ETag of what is shown.
func tagged(ctx context.Context, etag string) { ctx.(*gin.Context).Header("ETag", etag) }

// change does something to what has an ETag, one at a time, unless it is not any more what the caller has read. now tells its ETag.
func (s *server) change(match *string, now func() (string, error), do func() error) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	if match != nil && *match != "*" {
		etag, err := now()
		if err != nil {
			return err
		}
		if etag != *match {
			return fmt.Errorf("%w (it is %s, and not %s)", errChanged, etag, *match)
		}
	}
	return do()
}
