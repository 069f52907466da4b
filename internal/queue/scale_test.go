package queue

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/errand"
	"bagaglio/internal/places"
	"bagaglio/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// crowd are porters that carry nothing: each job takes them a moment.
type crowd struct {
	takes time.Duration // a job

	mu    sync.Mutex
	now   map[string]int     // jobs of each, at the moment
	most  int                // of one porter at a time
	order map[string][]int64 // in which each did its jobs
	done  int
}

func (c *crowd) Any(context.Context) bool { return true }

func (c *crowd) CanWork(_ context.Context, name string) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now[name], nil
}

func (c *crowd) FromPeer(context.Context, string, string) (errand.Peer, error) {
	return errand.Peer{}, nil
}

func (c *crowd) Do(_ context.Context, porter string, o errand.Order, t job.Task) (receipt.Receipt, error) {
	c.mu.Lock()
	c.now[porter]++
	c.most = max(c.most, c.now[porter])
	c.order[porter] = append(c.order[porter], o.Job)
	c.mu.Unlock()
	time.Sleep(c.takes)
	c.mu.Lock()
	c.now[porter]--
	c.done++
	c.mu.Unlock()
	return receipt.Receipt{ID: t.ID, Kind: plan.Copy, Outcome: receipt.Unproven, Reason: "nothing was carried", Finished: time.Now()}, nil
}

// TestManyPorters with many jobs each: limits hold, each queue is done in its order, and none waits for the others. With BAGAGLIO_BENCH=1 a thousand porters do a hundred thousand
// jobs, and how fast they were placed is told, with what memory, as there were more of them.
func TestManyPorters(t *testing.T) {
	sizes, takes := []int{40}, 100*time.Millisecond
	if os.Getenv("BAGAGLIO_BENCH") != "" {
		sizes, takes = []int{100, 300, 1000}, 5*time.Millisecond
	}
	for _, count := range sizes {
		t.Run(fmt.Sprint(count), func(t *testing.T) { manyPorters(t, count, max(20, count/10), takes) })
	}
}

func manyPorters(t *testing.T, count, each int, takes time.Duration) {
	q, p, pl := rooms(t)
	c := &crowd{takes: takes, now: map[string]int{}, order: map[string][]int64{}}
	pl.UsePorters(c)
	q.options.Porters = c
	for _, kind := range []string{scopeHost, scopeDevice} { // all lie on this one
		require.NoError(t, q.SetLimit(t.Context(), store.Limit{Scope: kind}))
	}
	folder := t.TempDir()
	for i := range count {
		name, user, key := fmt.Sprintf("porter-%d", i), "porter", "SHA256:"+fmt.Sprintf("%043d", i)
		_, err := p.AddHost(t.Context(), name, "porter", places.HostChange{Address: &name, User: &user, TrustedKey: &key})
		require.NoError(t, err)
		at := filepath.Join(folder, name)
		require.NoError(t, os.Mkdir(at, 0o700))
		_, err = p.AddPool(t.Context(), store.Pool{Name: name + "-store", Folder: at}, false)
		require.NoError(t, err)
		require.NoError(t, q.records.AddWay(t.Context(), store.Way{Pool: name + "-store", Host: name, Folder: "/srv"}))
	}
	for n := range each { // not all at once: the test is not to take more memory than the service
		var plans []plan.Plan
		for i := range count {
			pool := fmt.Sprintf("porter-%d-store", i)
			r := plan.Request{
				Kind: plan.Copy, Source: plan.Place{Pool: pool, Path: "a.raw"}, Destination: &plan.Place{Pool: pool, Path: fmt.Sprintf("b-%d.raw", n)},
			}
			plans = append(plans, plan.Plan{Request: r, Porter: fmt.Sprintf("porter-%d", i), Bodies: []plan.Disk{{ID: "d", Request: r}}})
		}
		_, _, err := q.records.AddJobs(t.Context(), store.NewJobs{Plans: plans, Who: "crew"}, time.Now())
		require.NoError(t, err)
	}
	begun := time.Now()
	q.dispatch()
	require.Eventually(t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.done == count*each
	}, 15*time.Minute, 20*time.Millisecond)
	took := time.Since(begun)
	require.Eventually(t, func() bool {
		counts, err := q.records.CountJobs(t.Context())
		return err == nil && counts[store.Done] == count*each
	}, time.Minute, 20*time.Millisecond)
	assert.LessOrEqual(t, c.most, atOnce, "the usual limit of a pool")
	if takes > 50*time.Millisecond { // so that others begin meanwhile
		assert.Equal(t, atOnce, c.most)
	}
	for i := range count {
		order := c.order[fmt.Sprintf("porter-%d", i)]
		require.Len(t, order, each)
		for k := 2; k < len(order); k++ { // two at a time
			assert.Greater(t, order[k], order[k-2])
		}
	}
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	t.Logf("%d porters, %d jobs: %.0f a second, %d MiB of memory", count, count*each, float64(count*each)/took.Seconds(), memory.Sys>>20)
}
