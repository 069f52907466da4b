package rounds

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneAtATime: many who ask at the same time get rounds that began after they asked, of which never two go through one thing at once,
// while others are gone through side by side.
func TestOneAtATime(t *testing.T) {
	var now [2]atomic.Int64
	var all, most atomic.Int64
	r := New(func(_ context.Context, name string) error {
		i := name[0] - 'a'
		if now[i].Add(1) > 1 {
			t.Error("two rounds at once through", name)
		}
		most.Store(max(most.Load(), now[0].Load()+now[1].Load()))
		all.Add(1)
		time.Sleep(2 * time.Millisecond) // so that others come meanwhile
		now[i].Add(-1)
		return nil
	})
	defer r.Close()
	var wait sync.WaitGroup
	for i := range 200 {
		wait.Go(func() {
			since := time.Now()
			round, err := r.After(t.Context(), string(rune('a'+i%2)), since)
			assert.NoError(t, err)
			assert.False(t, round.Began.Before(since))
			assert.False(t, round.Ended.Before(round.Began))
		})
	}
	wait.Wait()
	assert.Less(t, all.Load(), int64(100), "one round answers many")
	assert.Equal(t, int64(2), most.Load())
	_, ok, since := r.Last("a")
	assert.True(t, ok)
	assert.True(t, since.IsZero())
}

// TestNobodyWaits: what is wanted again and again is gone through now and then, and at once where somebody waits for it.
func TestNobodyWaits(t *testing.T) {
	var count atomic.Int64
	takes := map[string]time.Duration{"pool": 20 * time.Millisecond, "large": 300 * time.Millisecond}
	r := New(func(_ context.Context, name string) error {
		count.Add(1)
		time.Sleep(takes[name])
		return nil
	})
	defer r.Close()
	since := time.Now()
	var last Round
	for time.Since(since) < 500*time.Millisecond {
		r.Want("pool")
		time.Sleep(time.Millisecond) // between two changes
		if seen, ok, _ := r.Last("pool"); ok && !seen.Began.Equal(last.Began) {
			if !last.Ended.IsZero() {
				assert.GreaterOrEqual(t, seen.Began.Sub(last.Ended), rests*last.Ended.Sub(last.Began))
			}
			last = seen
		}
	}
	assert.Greater(t, count.Load(), int64(1))
	_, err := r.After(t.Context(), "large", time.Now())
	require.NoError(t, err)
	r.Want("large")
	_, _, wanted := r.Last("large")
	assert.False(t, wanted.IsZero(), "what is known may be old")
	asked := time.Now()
	round, err := r.After(t.Context(), "large", asked)
	require.NoError(t, err)
	assert.Less(t, round.Began.Sub(asked), 2*takes["large"], "it does not rest")
}

// TestARoundThatFailsAnswersNobodyLater, and one that is ended says so.
func TestARoundThatFailsAnswersNobodyLater(t *testing.T) {
	fails := errors.New("the drive is gone")
	began := make(chan struct{}, 10)
	r := New(func(ctx context.Context, name string) error {
		began <- struct{}{}
		if name == "slow" {
			<-ctx.Done()
			return ctx.Err()
		}
		return fails
	})
	since := time.Now()
	_, err := r.After(t.Context(), "pool", since)
	require.ErrorIs(t, err, fails)
	_, err = r.After(t.Context(), "pool", since)
	require.ErrorIs(t, err, fails)
	assert.Len(t, began, 2, "it was tried again")
	assert.False(t, r.Cancel("pool"), "nothing is under way")
	ended := make(chan error, 1)
	go func() {
		_, err := r.After(context.Background(), "slow", time.Now())
		ended <- err
	}()
	require.Eventually(t, func() bool { return r.Cancel("slow") }, time.Minute, time.Millisecond)
	require.ErrorIs(t, <-ended, ErrCancelled)
	within, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, err = r.After(within, "slow", time.Now())
	require.ErrorIs(t, err, context.DeadlineExceeded, "whoever waits may stop waiting")
	r.Close()
	_, err = r.After(t.Context(), "pool", time.Now())
	require.ErrorIs(t, err, context.Canceled)
}

// TestChangesAreSeen: by the kernel, by the times of folders where it does not watch, and when another folder comes to lie where one was.
func TestChangesAreSeen(t *testing.T) {
	for _, kernel := range []bool{true, false} {
		t.Run(fmt.Sprint(kernel), func(t *testing.T) {
			root := filepath.Join(t.TempDir(), "pool")
			require.NoError(t, os.MkdirAll(filepath.Join(root, "deck"), 0o700))
			rounds := make(chan struct{}, 100)
			r := New(func(context.Context, string) error { rounds <- struct{}{}; return nil })
			defer r.Close()
			w := watch(r, nil)
			if kernel {
				require.NoError(t, w.Close())
				w = Watch(r)
			}
			defer func() { require.NoError(t, w.Close()) }()
			seen := func(what string, do func() error) {
				w.Set("pool", root, []string{".", "deck"})
				require.NoError(t, do(), what)
				select {
				case <-rounds:
				case <-time.After(time.Minute):
					t.Fatal(what, "was not seen")
				}
			}
			seen("a new file", func() error { return os.WriteFile(filepath.Join(root, "deck/tide.raw"), []byte("a"), 0o600) })
			if kernel {
				seen("what was written", func() error { return os.WriteFile(filepath.Join(root, "deck/tide.raw"), []byte("ab"), 0o600) })
			}
			seen("one that is gone", func() error { return os.Remove(filepath.Join(root, "deck/tide.raw")) })
			seen("another folder", func() error {
				return errors.Join(os.Rename(root, root+".old"), os.MkdirAll(filepath.Join(root, "deck"), 0o700))
			})
			w.Forget("pool")
		})
	}
}
