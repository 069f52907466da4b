package attack

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestWhatComesWhileAJobWaits: what a plan relied on is looked at again when its job runs. Each of these comes after the job was put into
// the queue, and stops it with the check that the plan would have had; when it is settled, the job goes on.
func TestWhatComesWhileAJobWaits(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		request plan.Request
		comes   func(t *testing.T, quay, sea string) (settle func())
		check   string
		says    string
	}{
		{"an overlay on the source", move("quay-store:tide.raw", "sea-store:tide.raw"), func(t *testing.T, quay, _ string) func() {
			overlay(t, quay, "top.qcow2", "tide.raw")
			return func() { require.NoError(t, os.Remove(filepath.Join(quay, "top.qcow2"))) }
		}, "release", "top.qcow2 stand(s) on the source"},
		{"an overlay on what gets another name", move("quay-store:tide.raw", "quay-store:elsewhere/tide.raw"), func(t *testing.T, quay, _ string) func() {
			overlay(t, quay, "top.qcow2", "tide.raw")
			return func() { require.NoError(t, os.Remove(filepath.Join(quay, "top.qcow2"))) }
		}, "release", "top.qcow2 stand(s) on the source"},
		{"a definition that names it", move("quay-store:tide.raw", "sea-store:tide.raw"), func(t *testing.T, quay, sea string) func() {
			file := filepath.Join(sea, "tide-board.vmx")
			require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "displayName = \"tide-board\"\nscsi0:0.fileName = \"%s/tide.raw\"\n", quay), 0o600))
			return func() { require.NoError(t, os.Remove(file)) }
		}, "machine", "tide-board has come to name this disk"},
		{"a lock on the source", move("quay-store:tide.raw", "sea-store:tide.raw"), func(t *testing.T, quay, _ string) func() {
			return locked(t, filepath.Join(quay, "tide.raw"))
		}, "in-use", "in use"},
		{"a lock on what is replaced", plan.Request{
			Kind: plan.Convert, As: "raw", Replace: true, Source: plan.Place{Pool: "quay-store", Path: "tide.raw"}, Destination: &plan.Place{Pool: "sea-store", Path: "old.raw"},
		}, func(t *testing.T, _, sea string) func() { return locked(t, filepath.Join(sea, "old.raw")) }, "in-use", "What would be replaced is in use"},
		{"an overlay on what is replaced", plan.Request{
			Kind: plan.Convert, As: "raw", Replace: true, Source: plan.Place{Pool: "quay-store", Path: "tide.raw"}, Destination: &plan.Place{Pool: "sea-store", Path: "old.raw"},
		}, func(t *testing.T, _, sea string) func() {
			overlay(t, sea, "top.qcow2", "old.raw")
			return func() { require.NoError(t, os.Remove(filepath.Join(sea, "top.qcow2"))) }
		}, "destination", "top.qcow2 stand(s) on what would be replaced"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := start(t)
			quay, sea := s.Pool("quay-store"), s.Pool("sea-store")
			testkit.Noise(t, filepath.Join(quay, "tide.raw"), mib)
			testkit.Noise(t, filepath.Join(sea, "old.raw"), mib)
			old, err := os.ReadFile(filepath.Join(sea, "old.raw"))
			require.NoError(t, err)
			kept, err := s.Plan(t.Context(), c.request)
			require.NoError(t, err)
			require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
			j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Hours: ptr(closed())})
			require.NoError(t, err)
			require.Equal(t, api.JobStateWaiting, j.State)
			settle := c.comes(t, quay, sea)
			_, err = s.Change(t.Context(), j.Id, api.JobChange{Hours: ptr("")})
			require.NoError(t, err)
			j = testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
			require.Equal(t, api.JobStatePaused, j.State, "%+v", j.Reason)
			assert.FileExists(t, filepath.Join(quay, "tide.raw"))
			now, err := os.ReadFile(filepath.Join(sea, "old.raw"))
			require.NoError(t, err)
			assert.Equal(t, old, now)
			require.NotNil(t, j.StoppedBy)
			assert.Equal(t, c.check, j.StoppedBy.Name)
			assert.Contains(t, *j.Reason, c.says)
			settle()
			if !j.ByItself {
				_, err = s.Resume(t.Context(), j.Id)
				require.NoError(t, err)
			}
			for {
				if j = testkit.Await(t, s.Service, j.Id); j.Finished != nil {
					break
				}
			}
			testkit.Proven(t, s.Service, j.Id)
		})
	}
}

// closed are hours that are not now.
func closed() string {
	now := time.Now()
	return now.Add(2*time.Hour).Format("15:04") + "-" + now.Add(3*time.Hour).Format("15:04")
}

// locked locks a file as a hypervisor does, until the returned function is called.
func locked(t *testing.T, file string) (unlock func()) {
	t.Helper()
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(t, err)
	lock := unix.Flock_t{Type: unix.F_WRLCK}
	require.NoError(t, unix.FcntlFlock(f.Fd(), unix.F_OFD_SETLK, &lock))
	return func() { require.NoError(t, f.Close()) }
}

// TestRestoringOverWhatIsUsed: what is held does not take the place of a disk that is locked, that a job uses, or that something stands on.
func TestRestoringOverWhatIsUsed(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "tide.raw"), mib)
	testkit.Noise(t, filepath.Join(quay, "new.raw"), mib)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Convert,
		As:          "raw",
		Replace:     true,
		Source:      plan.Place{Pool: "quay-store", Path: "new.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "tide.raw"},
	}).Id)
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1)
	now, err := os.ReadFile(filepath.Join(quay, "tide.raw"))
	require.NoError(t, err)
	refused := func(says string) {
		t.Helper()
		_, err = s.Restore(t.Context(), "quay-store", held[0].Id, true)
		require.ErrorContains(t, err, says)
		still, err := os.ReadFile(filepath.Join(quay, "tide.raw"))
		require.NoError(t, err)
		require.Equal(t, now, still)
	}
	unlock := locked(t, filepath.Join(quay, "tide.raw"))
	refused("it is in use")
	unlock()
	overlay(t, quay, "top.qcow2", "tide.raw")
	refused("top.qcow2 stand(s) on what would be replaced")
	require.NoError(t, os.Remove(filepath.Join(quay, "top.qcow2")))
	r := plan.Request{
		Kind:        plan.Convert,
		As:          "qcow2",
		Source:      plan.Place{Pool: "quay-store", Path: "tide.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "slow.qcow2"},
	}
	kept, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Speed: ptr(int64(16 << 10))})
	require.NoError(t, err)
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.State == api.JobStateRunning })
	refused("job " + j.Id + " reads")
	_, err = s.Cancel(t.Context(), j.Id)
	require.NoError(t, err)
	testkit.Await(t, s.Service, j.Id)
	_, err = s.Restore(t.Context(), "quay-store", held[0].Id, true)
	require.NoError(t, err)
}

// TestASiblingIsNoObstacle: an overlay is made anew in its place, though another one stands on the same base.
func TestASiblingIsNoObstacle(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "base.raw"), mib)
	overlay(t, quay, "one.qcow2", "base.raw")
	overlay(t, quay, "two.qcow2", "base.raw")
	disk := plan.Place{Pool: "quay-store", Path: "one.qcow2"}
	testkit.Proven(
		t,
		s.Service,
		testkit.Begin(t, s.Service, plan.Request{Kind: plan.Convert, As: "qcow2", Replace: true, Source: disk, Destination: &disk}).Id,
	)
}
