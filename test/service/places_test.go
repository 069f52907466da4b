package service

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/webdav"
)

func ptr[T any](v T) *T { return &v }

// lighthouse adds a host with SSH, which is trusted, with a pool whose folder it returns.
func lighthouse(t *testing.T, s *testkit.Service, server *sshd.Server) string {
	t.Helper()
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name:       "lighthouse",
		Kind:       api.NewHostKindSftp,
		Address:    server.Address,
		User:       &server.User,
		TrustedKey: &server.HostKey,
		Login:      &api.Secrets{Key: ptr(string(server.Key))},
	})
	require.NoError(t, err)
	dir := t.TempDir()
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "far-store", Host: ptr("lighthouse"), Folder: dir})
	require.NoError(t, err)
	return dir
}

// TestHostsAreTrustedFirst, and a key that changes is refused loudly.
func TestHostsAreTrustedFirst(t *testing.T) {
	t.Parallel()
	s := start(t)
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
	require.NotNil(t, h.ShownKey)
	assert.Equal(t, server.HostKey, *h.ShownKey)
	dir := t.TempDir()
	pool := api.NewPool{Name: "far-store", Host: &h.Name, Folder: dir}
	_, err = s.AddPool(t.Context(), pool)
	require.ErrorContains(t, err, "not trusted yet")
	trial, err := s.TestHost(t.Context(), "lighthouse")
	require.NoError(t, err)
	assert.False(t, trial.Worked)
	require.Len(t, trial.Steps, 1)
	assert.Equal(t, "reach", trial.Steps[0].Name)

	_, err = s.ChangeHost(t.Context(), "lighthouse", api.HostChange{TrustedKey: ptr("SHA256:somebody")})
	require.ErrorContains(t, err, "is not the one that was trusted")
	_, err = s.ChangeHost(t.Context(), "lighthouse", api.HostChange{TrustedKey: h.ShownKey})
	require.NoError(t, err)
	p, err := s.AddPool(t.Context(), pool)
	require.NoError(t, err)
	require.NotNil(t, p.Facts)
	assert.True(t, p.Facts.Holes)
	assert.False(t, p.Facts.Swaps)
	trial, err = s.TestPool(t.Context(), "far-store", false)
	require.NoError(t, err)
	assert.True(t, trial.Worked, "%+v", trial.Steps)
	var steps []string
	for _, step := range trial.Steps {
		steps = append(steps, step.Name)
	}
	assert.Equal(
		t,
		[]string{"reach", "log in", "list", "free space", "write", "rename", "sync", "holes", "names", "sharing", "speed", "clear up"},
		steps,
	)
	assert.Positive(t, trial.Facts.WriteSpeed)
	require.ErrorContains(t, s.RemoveHost(t.Context(), "lighthouse"), "far-store lies on the host")

	other := sshd.Start(t) // somebody else answers there now
	s.Stop()
	changed := testkit.Start(t, s.State)
	_, err = changed.ChangeHost(t.Context(), "lighthouse", api.HostChange{Address: &other.Address})
	require.ErrorContains(t, err, "is not the one that was trusted")
	require.NoError(t, changed.RemovePool(t.Context(), "far-store"))
	require.NoError(t, changed.RemoveHost(t.Context(), "lighthouse"))
}

// TestSecretsAreNeverTold: not in an answer, an event, the service's own notes, or its records.
func TestSecretsAreNeverTold(t *testing.T) {
	t.Parallel()
	secrets := t.TempDir()
	s := testkit.Start(t, filepath.Join(t.TempDir(), "state"), "--secrets", secrets)
	server := sshd.Start(t)
	body := strings.Split(string(server.Key), "\n")[2] // a line that is nowhere else
	_ = lighthouse(t, s, server)
	const password, fromFile = "low-tide-at-six", "high-tide-at-noon"
	require.NoError(t, os.Mkdir(filepath.Join(secrets, "127.0.0.1"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(secrets, "127.0.0.1/password"), []byte(fromFile+"\n"), 0o600))
	for name, login := range map[string]api.Secrets{"buoy": {Password: ptr(password)}, "pier": {Password: ptr("file:password")}, "mole": {Password: ptr("env:PATH")}} {
		_, err := s.AddHost(
			t.Context(),
			api.NewHost{
				Name:       name,
				Kind:       api.NewHostKindSftp,
				Address:    server.Address,
				User:       ptr("crew"),
				TrustedKey: &server.HostKey,
				Login:      &login,
			},
		)
		require.NoError(t, err)
		trial, err := s.TestHost(t.Context(), name)
		require.NoError(t, err)
		assert.False(t, trial.Worked, "nobody logs in there with a password")
		said := trial.Steps[len(trial.Steps)-1].Said
		if name == "mole" {
			assert.Contains(t, said, "begin with BAGAGLIO_", "a variable is not sent to a host just because somebody names it")
		} else {
			assert.Contains(t, said, "logging in to")
		}
		assert.NotContains(t, said, "tide")
	}
	for _, path := range []string{"/v1/hosts", "/v1/pools", "/v1/log", "/v1/pools/far-store"} {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+path, nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+s.Token)
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		require.Equal(t, 200, resp.StatusCode, path)
		answer := string(b)
		for _, secret := range []string{body, password, fromFile} {
			assert.NotContains(t, answer, secret, path)
		}
	}
	s.Stop()
	for _, where := range []string{s.Notes(), raw(t, s.State)} {
		for _, secret := range []string{body, password, fromFile} {
			assert.NotContains(t, where, secret)
		}
	}
}

// raw is everything in the state folder.
func raw(t *testing.T, state string) string {
	t.Helper()
	var all strings.Builder
	files, err := filepath.Glob(filepath.Join(state, "*"))
	require.NoError(t, err)
	for _, file := range files {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		all.Write(b)
	}
	return all.String()
}

// TestALineThatIsCut while a disk goes to another host, and comes back from there: the job pauses, and goes on by itself.
func TestALineThatIsCut(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s := start(t)
	server := sshd.Start(t)
	dir := lighthouse(t, s, server)
	quay := s.Pool("quay-store")
	noise(t, quay, "cargo-ledger.raw", 96*mib)
	for _, r := range []plan.Request{
		{Kind: plan.Convert, Source: plan.Place{Pool: "quay-store", Path: "cargo-ledger.raw"}, Destination: &plan.Place{Pool: "far-store", Path: "cargo-ledger.qcow2"}, As: "qcow2"},
		{Kind: plan.Convert, Source: plan.Place{Pool: "far-store", Path: "cargo-ledger.qcow2"}, Destination: &plan.Place{Pool: "quay-store", Path: "back.raw"}, As: "raw"},
	} {
		id := slowly(t, s.Service, r, 40*mib).Id
		awaitJob(t, s.Service, id, far(50*mib))
		server.Kill()
		j := awaitJob(t, s.Service, id, inState(api.JobStatePaused))
		assert.True(t, j.ByItself)
		assert.Contains(t, *j.Reason, "the storage is not there")
		lift(t, s.Service, id)
		server.Run()
		receipt := testkit.Proven(t, s.Service, id)
		assert.Positive(t, receipt.Resumed)
		assert.Less(t, receipt.BytesWritten, int64(150*mib), "what was there was not copied again")
	}
	out, err := exec.Command("cmp", filepath.Join(quay, "cargo-ledger.raw"), filepath.Join(quay, "back.raw")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 3, "the image, its tag, and its receipt")
}

// TestReplacingOnAnotherHost holds the old image, which can be restored.
func TestReplacingOnAnotherHost(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := lighthouse(t, s, sshd.Start(t))
	noise(t, s.Pool("quay-store"), "tide-board.raw", 4*mib)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tide-board.vhd"), []byte("old"), 0o600))
	r := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "far-store", Path: "tide-board.vhd"},
		As:          "vhd",
		Replace:     true,
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1)
	_, err = s.Restore(t.Context(), "far-store", held[0].Id, true)
	require.NoError(t, err)
	b, err := os.ReadFile(filepath.Join(dir, "tide-board.vhd"))
	require.NoError(t, err)
	assert.Equal(t, "old", string(b))
}

// TestDisksOnAWebServer are looked at, listed and converted from; nothing can be written there.
func TestDisksOnAWebServer(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.Pool("lighthouse-store")
	dir := t.TempDir()
	noise(t, dir, "tide-board.raw", 12*mib)
	web := httptest.NewServer(&webdav.Handler{Prefix: "/disks", FileSystem: webdav.Dir(dir), LockSystem: webdav.NewMemLS()})
	t.Cleanup(web.Close)
	_, err := s.AddHost(t.Context(), api.NewHost{Name: "pier", Kind: api.NewHostKindHttp, Address: web.URL})
	require.NoError(t, err)
	p, err := s.AddPool(t.Context(), api.NewPool{Name: "pier-web", Host: ptr("pier"), Folder: "/disks"})
	require.NoError(t, err)
	assert.True(t, p.ReadOnly)
	r := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "pier-web", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "tide-board.vdi"},
		As:          "vdi",
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)

	// One that does not tell what lies in it: pieces are found all the same, and one that is missing.
	plain := httptest.NewServer(http.FileServer(http.Dir(dir)))
	t.Cleanup(plain.Close)
	_, err = s.AddHost(t.Context(), api.NewHost{Name: "buoy", Kind: api.NewHostKindHttp, Address: plain.URL})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "buoy-web", Host: ptr("buoy"), Folder: "/"})
	require.NoError(t, err)
	for _, name := range []string{"log.raw.001", "log.raw.002", "log.raw.003"} {
		noise(t, dir, name, mib)
	}
	r.Source, r.Destination.Path = plan.Place{Pool: "buoy-web", Path: "log.raw"}, "log.vdi"
	assert.Equal(t, int64(3*mib), testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id).Source.VirtualSize)
	r.Replace = true
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	r.Replace = false
	require.NoError(t, os.Remove(filepath.Join(dir, "log.raw.002")))
	r.Destination.Path = "short.vdi"
	kept, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.True(t, kept.Blocked)
	assert.Contains(t, kept.Plan.Checks[0].Message, "log.raw.002 is missing")

	r.Source, r.Destination = plan.Place{Pool: "quay-store", Path: "ticketing.raw"}, &plan.Place{Pool: "pier-web", Path: "new.vdi"}
	noise(t, s.Pool("quay-store"), "ticketing.raw", mib)
	kept, err = s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.True(t, kept.Blocked)
	assert.Contains(t, kept.Plan.Checks[1].Message, "read-only")
}
