package client

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync/atomic"
	"time"

	"bagaglio/api"
	"bagaglio/core/fingerprint"
	"bagaglio/core/upload"

	"golang.org/x/sync/errgroup"
)

const (
	// streams is how many pieces are sent at once.
	streams = 4
	// rounds is how often what is not on the storage as it came is sent again.
	rounds = 3
	// lookEvery is how often it is asked how much was compared.
	lookEvery = 200 * time.Millisecond
)

// BeginUpload begins to upload a file into a pool, or goes on with what was begun with the same key.
func (s *Service) BeginUpload(ctx context.Context, pool string, n api.NewUpload) (api.Upload, error) {
	return decode[api.Upload](s.calls.BeginUpload(ctx, pool, n))
}

// Upload tells how far an upload is.
func (s *Service) Upload(ctx context.Context, pool, id string) (api.Upload, error) {
	return decode[api.Upload](s.calls.GetUpload(ctx, pool, id))
}

// Uploads are those of a pool that have not ended.
func (s *Service) Uploads(ctx context.Context, pool string) ([]api.Upload, error) {
	return items[api.Upload](s.calls.ListUploads(ctx, pool))
}

// DropUpload gives an upload up, or removes what stayed where it arrived.
func (s *Service) DropUpload(ctx context.Context, pool, id string) error {
	_, err := decode[struct{}](s.calls.DropUpload(ctx, pool, id))
	return err
}

// Sparse is content that knows which of its ranges hold nothing but zeros.
type Sparse interface {
	io.ReaderAt
	// Empty tells it of a range without reading it.
	Empty(off, n int64) bool
}

// Send sends the pieces of an upload that are not there yet, and returns when what came was read back from its storage and is what content was
// when it was read here. What is Sparse is not read where it is empty. passed is told how many bytes were read here, and how many there, since the last time; each piece is given to seen, by
// its number, without content where it is empty, unless that is nil. Both may be called by several at once.
func (s *Service) Send(
	ctx context.Context, u api.Upload, content io.ReaderAt, passed func(here, there int64), seen func(piece int, content []byte),
) (api.Upload, error) {
	u, err := s.compared(ctx, u, func(int64) {}) // of an earlier time, or of somebody else
	if err == nil && u.State != api.Arriving {
		err = errors.New("it has arrived already: somebody else sent it")
	}
	if err != nil {
		return u, err
	}
	for range rounds {
		sums := make([]upload.Sum, len(u.Here))
		work, within := errgroup.WithContext(ctx)
		var next atomic.Int64
		for range streams {
			work.Go(func() error {
				p := make([]byte, u.PieceSize)
				for n := int(next.Add(1) - 1); n < len(sums); n = int(next.Add(1) - 1) {
					off := int64(n) * u.PieceSize
					length := min(u.PieceSize, u.Size-off)
					if s, ok := content.(Sparse); ok && s.Empty(off, length) {
						p, sums[n] = p[:0], upload.Zeros(length)
					} else {
						p = p[:length]
						if got, err := content.ReadAt(p, off); got < len(p) {
							return fmt.Errorf("reading what is to be sent: %w", errors.Join(err, io.ErrUnexpectedEOF))
						}
						sums[n] = sha256.Sum256(p)
					}
					if seen != nil {
						seen(n, p)
					}
					if u.Here[n] != hex.EncodeToString(sums[n][:]) {
						if err := s.put(within, u, n, p, sums[n]); err != nil {
							return err
						}
					}
					passed(length, 0)
				}
				return nil
			})
		}
		if err = work.Wait(); err != nil {
			return u, err
		}
		if u, err = s.end(ctx, u, upload.Root(sums), passed); err != nil || u.State == api.Arrived {
			return u, err
		}
		err = fmt.Errorf("what was sent did not arrive: %s", u.Problem)
	}
	return u, err
}

// put sends a piece, and again after a while where the line is cut.
func (s *Service) put(ctx context.Context, u api.Upload, n int, p []byte, sum upload.Sum) error {
	params := api.PutPieceParams{ContentDigest: "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"}
	if fingerprint.IsZero(p) {
		p = nil
	}
	return s.again(ctx, func() error {
		_, err := decode[struct{}](s.calls.PutPieceWithBody(ctx, u.Pool, u.Id, n, &params, "application/octet-stream", bytes.NewReader(p)))
		return err
	})
}

// again does something until the service answers to it, as long as that may help.
func (s *Service) again(ctx context.Context, do func() error) (err error) {
	for try := range tries {
		err = do()
		var problem *Error
		final := errors.As(err, &problem) && problem.Status < http.StatusInternalServerError && problem.Type != api.ProblemDamagedOnItsWay
		if err == nil || ctx.Err() != nil || final || try == tries-1 {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second << try):
		}
	}
	return err
}

// end ends an upload, and waits until what came was compared.
func (s *Service) end(ctx context.Context, u api.Upload, root upload.Sum, passed func(here, there int64)) (api.Upload, error) {
	end := func() error {
		got, err := decode[api.Upload](s.calls.EndUpload(ctx, u.Pool, u.Id, api.UploadEnd{Digest: hex.EncodeToString(root[:])}))
		if err == nil {
			u = got
		}
		return err
	}
	for {
		if err := s.again(ctx, end); err != nil {
			return u, err
		}
		told := int64(0)
		var err error
		u, err = s.compared(ctx, u, func(now int64) {
			passed(0, max(0, now-told))
			told = now
		})
		if err != nil || u.State != api.Arriving || u.Problem != "" {
			return u, err
		} // otherwise the service was started again meanwhile
	}
}

// compared waits until what came is not being compared any more. tell is told how much was.
func (s *Service) compared(ctx context.Context, u api.Upload, tell func(bytes int64)) (api.Upload, error) {
	for u.State == api.Comparing {
		select {
		case <-ctx.Done():
			return u, ctx.Err()
		case <-time.After(lookEvery):
		}
		err := s.again(ctx, func() error {
			got, err := s.Upload(ctx, u.Pool, u.Id)
			if err == nil {
				u = got
			}
			return err
		})
		if err != nil {
			return u, err
		}
		tell(u.Compared)
	}
	return u, nil
}
