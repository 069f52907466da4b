// Package service tests the service as a process, through its client and its HTTP interface.
package service

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func start(t *testing.T) *testkit.Service {
	return testkit.Start(t, filepath.Join(t.TempDir(), "state"))
}

// noise writes a disk of random content into a folder.
func noise(t *testing.T, dir, name string, size int64) {
	t.Helper()
	testkit.Noise(t, filepath.Join(dir, name), size)
}

// convert asks for a disk of quay-store as another one in lighthouse-store.
func convert(from, to, as string) plan.Request {
	return plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: from},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: to},
		As:          as,
	}
}

// awaitStep returns when the job has come to that step.
func awaitStep(t *testing.T, s *client.Service, id, step string) {
	t.Helper()
	for j, err := range s.Follow(t.Context(), id) {
		require.NoError(t, err)
		if j.Progress != nil && j.Progress.Step == step {
			return
		}
	}
	t.Fatalf("job %s ended before its step %s was seen", id, step)
}

// contract checks every answer against the description of the API.
type contract struct {
	t      *testing.T
	router routers.Router
	seen   map[string]bool
}

func newContract(t *testing.T) *contract {
	doc, err := openapi3.NewLoader().LoadFromData(api.Spec)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()))
	doc.Servers = nil // tests listen elsewhere
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	return &contract{t, router, map[string]bool{}}
}

func (c *contract) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil || resp.Header.Get("Content-Type") == "text/event-stream" {
		return resp, err
	}
	route, params, err := c.router.FindRoute(r)
	require.NoError(c.t, err, r.URL)
	c.seen[route.Operation.OperationID] = true
	body, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	resp.Body = io.NopCloser(bytes.NewReader(body))
	err = openapi3filter.ValidateResponse(r.Context(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route},
		Status:                 resp.StatusCode, Header: resp.Header, Body: io.NopCloser(bytes.NewReader(body)),
	})
	assert.NoError(c.t, err, "%s %s: %s", r.Method, r.URL, body)
	return resp, nil
}

// TestEveryAnswerIsAsDescribed goes through the API as a technician would, and holds each answer against openapi.yaml.
func TestEveryAnswerIsAsDescribed(t *testing.T) {
	t.Parallel()
	service := start(t)
	c := newContract(t)
	s, err := client.Dial(service.Address, service.Token, client.WithHTTPClient(&http.Client{Transport: c}))
	require.NoError(t, err)
	quay, lighthouse := t.TempDir(), t.TempDir()
	for name, dir := range map[string]string{"quay-store": quay, "lighthouse-store": lighthouse} {
		_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Folder: dir})
		require.NoError(t, err)
	}
	noise(t, quay, "ticketing.raw", 5<<20+512)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "broken.qcow2"), []byte("no"), 0o600))
	pools, err := s.Pools(t.Context())
	require.NoError(t, err)
	assert.Len(t, pools, 2)
	disks, err := s.Disks(t.Context(), "quay-store")
	require.NoError(t, err)
	require.Len(t, disks, 2)
	assert.Contains(t, disks[0].Problem, "no marks of qcow2")
	assert.Equal(t, int64(5<<20+512), disks[1].VirtualSize)
	report, err := s.Look(t.Context(), plan.Place{Pool: "quay-store", Path: "ticketing.raw"})
	require.NoError(t, err)
	assert.Equal(t, "raw", report.Format)

	j := testkit.Begin(t, s, convert("ticketing.raw", "ticketing.vhd", "vhd"))
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s, j.Id).State)
	done, err := s.Receipt(t.Context(), j.Id)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, done.Outcome)
	_, err = s.Job(t.Context(), j.Id)
	require.NoError(t, err)
	jobs, err := s.Jobs(t.Context(), 10)
	require.NoError(t, err)
	assert.Len(t, jobs, 1)

	// What cannot be is told as a problem, with the right class.
	for _, wrong := range []struct {
		status int
		says   string
		call   func() error
	}{
		{404, "not found", func() error { _, err := s.Job(t.Context(), "99"); return err }},
		{404, "not found", func() error { _, err := s.Job(t.Context(), "ferry"); return err }},
		{404, "not found", func() error { _, err := s.Start(t.Context(), api.NewJob{Plan: "no such plan"}); return err }},
		{409, "has ended already", func() error { _, err := s.Cancel(t.Context(), j.Id); return err }},
		{409, "exists already", func() error { _, err := s.Again(t.Context(), j.Id); return err }},
		{404, "not found", func() error { return s.RemovePool(t.Context(), "cellar") }},
		{404, "no such file", func() error {
			_, err := s.Look(t.Context(), plan.Place{Pool: "quay-store", Path: "gone.raw"})
			return err
		}},
		{422, "no marks of qcow2", func() error {
			_, err := s.Look(t.Context(), plan.Place{Pool: "quay-store", Path: "broken.qcow2"})
			return err
		}},
		{400, "leads out of its folder", func() error { _, err := s.Look(t.Context(), plan.Place{Pool: "quay-store", Path: "../x"}); return err }},
		{400, "makes no sense", func() error { _, err := s.Plan(t.Context(), plan.Request{Kind: "sink"}); return err }},
		{400, "small letters", func() error {
			_, err := s.AddPool(t.Context(), api.NewPool{Name: "Quay Store", Folder: quay})
			return err
		}},
		{400, "absolute path", func() error { _, err := s.AddPool(t.Context(), api.NewPool{Name: "x", Folder: "quay"}); return err }},
		{400, "make it first", func() error {
			_, err := s.AddPool(t.Context(), api.NewPool{Name: "x", Folder: quay + "/none"})
			return err
		}},
		{409, "taken already", func() error {
			_, err := s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: t.TempDir()})
			return err
		}},
		{409, "taken already", func() error { _, err := s.AddPool(t.Context(), api.NewPool{Name: "again", Folder: quay}); return err }},
		{400, "limit", func() error { _, err := s.Jobs(t.Context(), 100_000); return err }},
		{400, "limit", func() error { _, err := s.Events(t.Context(), 0, "", 100_000); return err }},
		{409, "not paused", func() error { _, err := s.Resume(t.Context(), j.Id); return err }},
		{409, "is done", func() error { _, err := s.Pause(t.Context(), j.Id); return err }},
		{409, "only jobs that wait", func() error { _, err := s.Move(t.Context(), j.Id, ""); return err }},
		{409, "has ended", func() error { _, err := s.Change(t.Context(), j.Id, api.JobChange{}); return err }},
		{400, "there is one service", func() error { _, err := s.SetLimit(t.Context(), api.Limit{Scope: "service", Name: "x"}); return err }},
		{400, "0, for none, or more", func() error { _, err := s.SetLimit(t.Context(), api.Limit{Scope: "pool", Jobs: -1}); return err }},
		{404, "holds nothing", func() error { return s.FreeLeases(t.Context(), j.Id) }},
		{404, "nothing is held", func() error { _, err := s.Restore(t.Context(), "quay-store", "x", false); return err }},
		{404, "nothing is held", func() error { return s.DropHeld(t.Context(), "quay-store", "none") }},
	} {
		var problem *client.Error
		require.ErrorAs(t, wrong.call(), &problem, wrong.says)
		assert.Equal(t, wrong.status, problem.Status, problem.Detail)
		assert.Contains(t, problem.Detail, wrong.says)
	}
	again, err := s.Plan(t.Context(), convert("ticketing.raw", "ticketing.vhd", "vhd"))
	require.NoError(t, err)
	assert.True(t, again.Blocked)
	_, err = s.Version(t.Context())
	require.NoError(t, err)
	_, err = s.ConsoleLink(t.Context())
	require.NoError(t, err)
	_, err = s.Change(t.Context(), testkit.Begin(t, s, convert("ticketing.raw", "second.vhd", "vhd")).Id, api.JobChange{})
	if err != nil { // it may have ended already
		require.ErrorContains(t, err, "has ended")
	}
	limits, err := s.Limits(t.Context())
	require.NoError(t, err)
	assert.Len(t, limits, 4)
	testkit.Limit(t, s, limits[0])
	_, err = s.Leases(t.Context())
	require.NoError(t, err)
	_, err = s.Held(t.Context())
	require.NoError(t, err)
	events, err := s.Events(t.Context(), 0, "", 100)
	require.NoError(t, err)
	assert.NotEmpty(t, events)
	for _, j := range []string{"1", "2"} {
		testkit.Await(t, s, j)
	}
	aroundPlaces(t, s)
	require.NoError(t, s.RemovePool(t.Context(), "lighthouse-store"))
	assert.FileExists(t, filepath.Join(lighthouse, "ticketing.vhd"), "a pool is forgotten, its files stay")
	assert.GreaterOrEqual(t, len(c.seen), 38)
}

// aroundPlaces goes through the calls about hosts, pools and groups.
func aroundPlaces(t *testing.T, s *client.Service) {
	t.Helper()
	server := sshd.Start(t)
	h, err := s.AddHost(
		t.Context(),
		api.NewHost{
			Name:    "lighthouse",
			Kind:    api.NewHostKindSftp,
			Address: server.Address,
			User:    &server.User,
			Login:   &api.Secrets{Key: ptr(string(server.Key))},
		},
	)
	require.NoError(t, err)
	trial, err := s.TestHost(t.Context(), "lighthouse")
	require.NoError(t, err)
	assert.False(t, trial.Worked)
	_, err = s.ChangeHost(t.Context(), "lighthouse", api.HostChange{TrustedKey: h.ShownKey})
	require.NoError(t, err)
	trial, err = s.TestHost(t.Context(), "lighthouse")
	require.NoError(t, err)
	assert.True(t, trial.Worked)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "far-store", Host: ptr("lighthouse"), Folder: t.TempDir()})
	require.NoError(t, err)
	hosts, err := s.Hosts(t.Context())
	require.NoError(t, err)
	assert.Len(t, hosts, 2)
	traits, err := s.Traits(t.Context())
	require.NoError(t, err)
	_, err = s.ChangePool(t.Context(), "far-store", api.PoolChange{Traits: &[]string{traits[1].Name}})
	require.NoError(t, err)
	p, err := s.Pool(t.Context(), "far-store")
	require.NoError(t, err)
	assert.Equal(t, []string{traits[1].Name}, p.Rules.Traits)
	_, err = s.TestPool(t.Context(), "lighthouse-store", false)
	require.NoError(t, err)
	b, _ := testkit.Balance(t, s, plan.BalanceRequest{Kind: plan.KindSpread, Pools: []string{"quay-store", "lighthouse-store"}})
	assert.Len(t, b.Before, 2)
	planned, err := s.PlanGroup(t.Context(), api.NewGroupPlan{Name: "carry", Requests: &[]plan.Request{
		{
			Kind:        plan.Copy,
			Source:      plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
			Destination: &plan.Place{Pool: "lighthouse-store", Path: "carried/ticketing.raw"},
		},
	}})
	require.NoError(t, err)
	g, err := s.StartGroup(t.Context(), planned.Id)
	require.NoError(t, err)
	require.Len(t, g.Jobs, 1)
	assert.Equal(t, api.JobStateDone, testkit.Await(t, s, g.Jobs[0].Id).State)
	for _, act := range []string{"pause", "resume", "cancel"} {
		_, err = s.ActOnGroup(t.Context(), g.Id, act)
		require.NoError(t, err, "of jobs that have ended nothing is left to do")
	}
	groups, err := s.Groups(t.Context())
	require.NoError(t, err)
	assert.Len(t, groups, 1)
	require.NoError(t, s.RemovePool(t.Context(), "far-store"))
	require.NoError(t, s.RemoveHost(t.Context(), "lighthouse"))
	for _, wrong := range []func() error{
		func() error { return s.RemoveHost(t.Context(), "lighthouse") },
		func() error { _, err := s.Group(t.Context(), "99"); return err },
		func() error { _, err := s.Pool(t.Context(), "cellar"); return err },
		func() error { _, err := s.TestHost(t.Context(), "cellar"); return err },
	} {
		var problem *client.Error
		require.ErrorAs(t, wrong(), &problem)
		assert.Equal(t, 404, problem.Status, problem.Detail)
	}
}

// TestRawStaysRaw: whoever owns a guest can write any header into its raw disk.
func TestRawStaysRaw(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "gate-kiosk.img", 4<<20)
	place := plan.Place{Pool: "quay-store", Path: "gate-kiosk.img"}
	hourAgo := time.Now().Add(-time.Hour) // nothing is on its way any more
	require.NoError(t, os.Chtimes(filepath.Join(quay, "gate-kiosk.img"), hourAgo, hourAgo))
	report, err := s.Look(t.Context(), place)
	require.NoError(t, err)
	require.Equal(t, "raw", report.Format)

	// The guest makes its disk look like an image of another format.
	noise(t, quay, "other.raw", 1<<20)
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, convert("other.raw", "other.qcow2", "qcow2")).Id)
	image, err := os.ReadFile(filepath.Join(lighthouse, "other.qcow2"))
	require.NoError(t, err)
	f, err := os.OpenFile(filepath.Join(quay, "gate-kiosk.img"), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(image, 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())

	report, err = s.Look(t.Context(), place)
	require.NoError(t, err)
	assert.Equal(t, "raw", report.Format)
	assert.Equal(t, int64(4<<20), report.VirtualSize)
	kept, err := s.Plan(t.Context(), convert("gate-kiosk.img", "gate-kiosk.vhd", "vhd"))
	require.NoError(t, err)
	assert.Equal(t, "raw", kept.Plan.Before[0].Format)
	var warned bool
	for _, c := range kept.Plan.Checks {
		warned = warned || c.Severity == plan.Warns && strings.Contains(c.Message, "looks like qcow2")
	}
	assert.True(t, warned, "%+v", kept.Plan.Checks)

	// A person says otherwise: from then on it is what they said.
	request := convert("gate-kiosk.img", "gate-kiosk.vhd", "vhd")
	request.Source.Format = "qcow2"
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, request).Id)
	report, err = s.Look(t.Context(), place)
	require.NoError(t, err)
	assert.Equal(t, "qcow2", report.Format)
}

// TestKnownImageLosesItsMarks: what was written as an image and is damaged at its start is not read as a plain disk, unless a
// person says so.
func TestKnownImageLosesItsMarks(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "crew-roster.raw", 4<<20)
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, convert("crew-roster.raw", "crew-roster.hds", "hdd")).Id)
	place := plan.Place{Pool: "lighthouse-store", Path: "crew-roster.hds"}
	_, err := s.Look(t.Context(), place)
	require.NoError(t, err)
	f, err := os.OpenFile(filepath.Join(lighthouse, "crew-roster.hds"), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(make([]byte, 16), 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = s.Look(t.Context(), place)
	require.ErrorContains(t, err, "no marks of hdd")
	request := plan.Request{Kind: plan.Prove, Source: place}
	kept, err := s.Plan(t.Context(), request)
	require.NoError(t, err)
	assert.True(t, kept.Blocked, "%+v", kept.Plan.Checks)
	place.Format = "hdd"
	report, err := s.Look(t.Context(), place)
	require.NoError(t, err)
	assert.Equal(t, "plain", report.Layout)
}

// TestAnImageOnItsWayIsNotKnownAsRaw: as long as its first bytes have not come, it looks like that.
func TestAnImageOnItsWayIsNotKnownAsRaw(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "a.raw", 1<<20)
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, convert("a.raw", "a.qcow2", "qcow2")).Id)
	image, err := os.ReadFile(filepath.Join(lighthouse, "a.qcow2"))
	require.NoError(t, err)
	f, err := os.Create(filepath.Join(quay, "late.img"))
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt(image[512:], 512)
	require.NoError(t, err)
	disks, err := s.Disks(t.Context(), "quay-store")
	require.NoError(t, err)
	require.Equal(t, "raw", disks[1].Format)
	_, err = f.WriteAt(image[:512], 0)
	require.NoError(t, err)
	disks, err = s.Disks(t.Context(), "quay-store")
	require.NoError(t, err)
	require.Equal(t, "qcow2", disks[1].Format)
}

// TestADiskOfSeveralFilesIsOne: its parts are not listed beside it.
func TestADiskOfSeveralFilesIsOne(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	s.Pool("lighthouse-store")
	noise(t, quay, "ferry/deck-flat.vmdk", 2<<20)
	text := "# Disk DescriptorFile\r\nversion = 1\r\nCID=7\r\nparentCID=ffffffff\r\ncreateType=\"monolithicFlat\"\r\nRW 4096 FLAT \"deck-flat.vmdk\" 0\r\n"
	require.NoError(t, os.WriteFile(filepath.Join(quay, "ferry", "deck.vmdk"), []byte(text), 0o600))
	disks, err := s.Disks(t.Context(), "quay-store")
	require.NoError(t, err)
	require.Len(t, disks, 1, "%+v", disks)
	assert.Equal(t, "ferry/deck.vmdk", disks[0].Path)
	assert.Equal(t, "flat", disks[0].Layout)
	assert.Equal(t, int64(2<<20), disks[0].VirtualSize)
	assert.Equal(t, int64(2<<20+len(text)), disks[0].FileSize)
	testkit.Await(t, s.Service, testkit.Begin(t, s.Service, convert("ferry/deck.vmdk", "deck.raw", "raw")).Id)
}

func TestCancelLeavesNothing(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	noise(t, quay, "cargo-ledger.raw", 1<<30)
	// Three: two run at once, one waits.
	var ids []string
	for _, name := range []string{"a.qcow2", "b.qcow2", "c.qcow2"} {
		ids = append(ids, testkit.Begin(t, s.Service, convert("cargo-ledger.raw", name, "qcow2")).Id)
	}
	awaitStep(t, s.Service, ids[0], "fill")
	err := s.RemovePool(t.Context(), "quay-store")
	require.ErrorContains(t, err, "uses the pool")
	for _, id := range []string{ids[2], ids[0], ids[1]} {
		_, err := s.Cancel(t.Context(), id)
		require.NoError(t, err)
	}
	for _, id := range ids {
		j := testkit.Await(t, s.Service, id)
		assert.Equal(t, api.JobStateCancelled, j.State)
		require.NotNil(t, j.Reason)
		assert.Contains(t, *j.Reason, "cancelled on request")
	}
	done, err := s.Receipt(t.Context(), ids[0])
	require.NoError(t, err)
	assert.Equal(t, receipt.Cancelled, done.Outcome)
	entries, err := os.ReadDir(lighthouse)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// TestOneServiceForAState: two would not know of each other's jobs.
func TestOneServiceForAState(t *testing.T) {
	t.Parallel()
	s := start(t)
	r := testkit.Run(t, t.TempDir(), s.State, "serve", "--listen", "127.0.0.1:0")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Notes, "another service uses the state folder")
}

func TestMetrics(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.Pool("seabag")
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+"/metrics", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.Token)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	for _, line := range []string{`bagaglio_jobs{state="running"} 0`, `bagaglio_pool_free_bytes{pool="seabag"}`, "process_resident_memory_bytes"} {
		assert.Contains(t, string(b), line)
	}
}

// TestFollowEndsWithItsCaller, and with the service.
func TestFollowEndsWithTheService(t *testing.T) {
	t.Parallel()
	s := start(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address+"/v1/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.Token)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, "text/event-stream", resp.Header.Get("Content-Type"))
	s.Stop()
	_, err = io.ReadAll(resp.Body)
	require.NoError(t, err, "the stream ends in order")
}
