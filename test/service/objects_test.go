package service

import (
	"bytes"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/objectstore"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// depot is a service with the pool quay-store here, and depot-store in an object store.
func depot(t *testing.T) (s *testkit.Service, store *objectstore.Store, folder string) {
	t.Helper()
	s = testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--checkpoint", "100ms")
	store, folder = objectstore.Start(t), t.TempDir()
	secret := objectstore.SecretKey
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name: "depot", Kind: api.NewHostKindS3, Address: store.URL, User: ptr(objectstore.AccessKey), Login: &api.Secrets{Password: &secret},
	})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "depot-store", Host: ptr("depot"), Folder: "/depot/disks"})
	require.NoError(t, err)
	addPool(t, s.Service, "quay-store", folder)
	return s, store, folder
}

// TestAnObjectStore is a pool like others: disks are converted into it and out of it, copied, moved inside, proven, taken back and removed.
func TestAnObjectStore(t *testing.T) {
	t.Parallel()
	s, store, folder := depot(t)
	const size = 80 << 20 // more than two parts
	testkit.Noise(t, filepath.Join(folder, "ticketing.raw"), size)
	want, err := os.ReadFile(filepath.Join(folder, "ticketing.raw"))
	require.NoError(t, err)
	at := func(path string) *plan.Place { return &plan.Place{Pool: "depot-store", Path: path} }
	here := plan.Place{Pool: "quay-store", Path: "ticketing.raw"}
	for _, r := range []plan.Request{
		{Kind: plan.Copy, Source: here, Destination: at("ticketing.raw")},
		{Kind: plan.Convert, As: "qcow2", Source: here, Destination: at("deck/ticketing.qcow2")},
		{Kind: plan.Prove, Source: *at("ticketing.raw"), Tag: "beside"},
		{Kind: plan.Convert, As: "raw", Source: *at("deck/ticketing.qcow2"), Destination: &plan.Place{Pool: "quay-store", Path: "back.raw"}},
	} {
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	}
	assert.True(t, bytes.Equal(want, store.Get("depot/disks/ticketing.raw")), "others see one object")
	back, err := os.ReadFile(filepath.Join(folder, "back.raw"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, back))

	move := testkit.Begin(
		t,
		s.Service,
		plan.Request{Kind: plan.Copy, Release: true, Source: *at("ticketing.raw"), Destination: at("pier/ticketing.raw")},
	)
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, move.Id).State)
	assert.Nil(t, store.Get("depot/disks/ticketing.raw"))
	assert.True(t, bytes.Equal(want, store.Get("depot/disks/pier/ticketing.raw")))
	undo := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: move.Id})
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, undo.Id).State)
	assert.True(t, bytes.Equal(want, store.Get("depot/disks/ticketing.raw")))

	remove := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Remove, Source: *at("deck/ticketing.qcow2")})
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, remove.Id).State)
	assert.Nil(t, store.Get("depot/disks/deck/ticketing.qcow2"))
	for _, name := range store.Names() {
		assert.NotContains(t, name, ".bagparts", "nothing is left in parts")
	}
}

// TestAnObjectStoreThatChangesContent is found by the proof, and one that copies badly before anything has the name.
func TestAnObjectStoreThatChangesContent(t *testing.T) {
	t.Parallel()
	s, store, folder := depot(t)
	testkit.Noise(t, filepath.Join(folder, "ticketing.raw"), 40<<20)
	r := plan.Request{
		Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "depot-store", Path: "ticketing.raw"},
	}
	store.Rot.Store(true)
	j := testkit.Await(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Equal(t, api.JobStateFailed, j.State)
	assert.Contains(t, *j.Reason, "is not what was written")
	assert.Nil(t, store.Get("depot/disks/ticketing.raw"))
	store.Rot.Store(false)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	content := bytes.Clone(store.Get("depot/disks/ticketing.raw"))
	content[30<<20] ^= 1
	store.Put("depot/disks/ticketing.raw", content)
	proof := testkit.Begin(t, s.Service, plan.Request{Kind: plan.Prove, Source: *r.Destination, AgainstDisk: &r.Source})
	testkit.Await(t, s.Service, proof.Id)
	done, err := s.Receipt(t.Context(), proof.Id)
	require.NoError(t, err)
	assert.NotEqual(t, receipt.Proven, done.Outcome)
}

// TestAnObjectStoreGoesAway: the job waits, and goes on with the parts that are there when the store is back, also when the service was killed meanwhile.
func TestAnObjectStoreGoesAway(t *testing.T) {
	t.Parallel()
	s, store, folder := depot(t)
	const size = 120 << 20
	testkit.Noise(t, filepath.Join(folder, "ticketing.raw"), size)
	var away atomic.Bool
	var first atomic.Int64 // how often its first part was sent
	store.Fault = func(r *http.Request) int {
		if r.Method == http.MethodPut && strings.HasSuffix(r.URL.Path, ".bagparts/000000") {
			first.Add(1)
		}
		if away.Load() && strings.HasPrefix(r.URL.Path, "/depot") {
			return http.StatusServiceUnavailable
		}
		return 0
	}
	job := testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "depot-store", Path: "ticketing.raw"},
	})
	slow, none := int64(8<<20), int64(0)
	_, err := s.Change(t.Context(), job.Id, api.JobChange{Speed: &slow})
	require.NoError(t, err)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 96<<20 })
	away.Store(true)
	testkit.Await(t, s.Service, job.Id, func(j api.Job) bool { return j.State == api.JobStatePaused })
	s.Kill()
	before := first.Load()
	away.Store(false)
	s = testkit.Start(t, s.State)
	_, err = s.Change(t.Context(), job.Id, api.JobChange{Speed: &none})
	require.NoError(t, err)
	done := testkit.Proven(t, s.Service, job.Id)
	assert.Positive(t, done.Resumed)
	assert.Equal(t, before, first.Load(), "what was there already was not sent again")
	assert.Len(t, store.Get("depot/disks/ticketing.raw"), size)
}
