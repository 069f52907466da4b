package attack

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestNamesThatDisturb: characters of control, marks that turn the direction of writing and bytes that are no text are shown as numbers
// everywhere, and disks that are called so can be worked on.
func TestNamesThatDisturb(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	for _, raw := range []string{"tide\u009b31m.raw", "crew\u202ewar.raw", "gate\xff\xc3.raw", "log\x1b[2J\n.raw"} {
		testkit.Noise(t, filepath.Join(quay, raw), 100_000)
	}
	list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	require.Len(t, list.Items, 4)
	r := testkit.Run(t, quay, s.State, "pool", "disks", "quay-store")
	plain(t, r.Out+r.Notes)
	for i, d := range list.Items {
		plain(t, d.Path)
		assert.Contains(t, d.Path, `\x`)
		to := fmt.Sprintf("moved/%d.raw", i)
		testkit.Proven(
			t,
			s.Service,
			testkit.Begin(
				t,
				s.Service,
				plan.Request{
					Kind:        plan.Convert,
					As:          "qcow2",
					Source:      plan.Place{Pool: "quay-store", Path: d.Path},
					Destination: &plan.Place{Pool: "quay-store", Path: fmt.Sprintf("%d.qcow2", i)},
				},
			).Id,
		)
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move("quay-store:"+d.Path, "quay-store:"+to)).Id)
		assert.FileExists(t, filepath.Join(quay, to))
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move("quay-store:"+to, "quay-store:"+d.Path)).Id)
	}
	assert.FileExists(t, filepath.Join(quay, "gate\xff\xc3.raw"), "the name is the one that it was")
	r = testkit.Run(t, quay, s.State, "look", "quay-store:"+list.Items[0].Path)
	require.Zero(t, r.Code, r.Notes)
	plain(t, r.Out+r.Notes)
}

// plain fails for a text that would disturb a terminal.
func plain(t *testing.T, text string) {
	t.Helper()
	for line := range strings.Lines(text) {
		assert.False(
			t,
			strings.ContainsFunc(strings.TrimSuffix(line, "\n"), func(r rune) bool { return !unicode.IsPrint(r) && r != '\t' }),
			"%q",
			line,
		)
	}
}

// TestWhatIsNoDiskIsRefusedWithWords: it is the mistake of whoever asks, and not one of the service.
func TestWhatIsNoDiskIsRefusedWithWords(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "tide.raw"), 4096)
	require.NoError(t, unix.Mkfifo(filepath.Join(quay, "pipe"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(quay, "deck"), 0o700))
	if os.Geteuid() == 0 {
		require.NoError(t, unix.Mknod(filepath.Join(quay, "device"), unix.S_IFCHR|0o600, int(unix.Mkdev(1, 5))))
	}
	get := func(query string) (int, string) {
		return call(t, http.MethodGet, s.Address+"/v1/pools/quay-store/disk?"+query, "", "Authorization", "Bearer "+s.Token)
	}
	for _, path := range []string{"pipe", "deck", "device", "gone", "new\nline", "bell\a", "../etc/passwd", "/etc/passwd", "a\x00b", `\x2e\x2e/secret`, ".bagaglio"} {
		status, body := get("path=" + url.QueryEscape(path))
		assert.GreaterOrEqual(t, status, 400, path)
		assert.Less(t, status, 500, "%q: %s", path, body)
		plain(t, body)
		status, body = call(
			t,
			http.MethodPost,
			s.Address+"/v1/plans",
			fmt.Sprintf(
				`{"kind":"convert","as":"qcow2","source":{"pool":"quay-store","path":%q},"destination":{"pool":"quay-store","path":"x.qcow2"}}`,
				path,
			),
			"Authorization",
			"Bearer "+s.Token,
			"Content-Type",
			"application/json",
		)
		assert.Less(t, status, 500, "%q: %s", path, body)
		assert.True(t, status >= 400 || strings.Contains(body, `"blocked":true`), "%q: %s", path, body)
	}
	for _, query := range []string{"path=tide.raw&format=floppy", "path=tide.raw&snapshot=none", "path=", ""} {
		status, body := get(query)
		assert.GreaterOrEqual(t, status, 400, query)
		assert.Less(t, status, 500, "%s: %s", query, body)
	}
}

// TestOneFileUnderTwoPools: a pool that is mounted at two places is one, for those who use its files and for what can be moved without
// being copied.
func TestOneFileUnderTwoPools(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "inner/tide.raw"), 8*mib)
	other := t.TempDir()
	bind(t, filepath.Join(quay, "inner"), other)
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "inner-store", Folder: other, Nested: ptr(true)})
	require.NoError(t, err)
	kept, err := s.Plan(
		t.Context(),
		plan.Request{
			Kind:        plan.Convert,
			As:          "qcow2",
			Source:      plan.Place{Pool: "quay-store", Path: "inner/tide.raw"},
			Destination: &plan.Place{Pool: "quay-store", Path: "tide.qcow2"},
		},
	)
	require.NoError(t, err)
	slow, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Speed: ptr(int64(2 * mib))})
	require.NoError(t, err)
	testkit.Await(t, s.Service, slow.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 0 })
	// The same disk, under its other name, waits for the one that reads it.
	kept, err = s.Plan(t.Context(), move("inner-store:tide.raw", "quay-store:elsewhere/tide.raw"))
	require.NoError(t, err)
	require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
	assert.Contains(t, testkit.Kinds(kept.Plan), plan.StepFill, "no file gets a name in another mount without being copied")
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
	require.NoError(t, err)
	j = testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.State == api.JobStateWaiting && j.Reason != nil })
	require.NotNil(t, j.Reason)
	assert.Contains(t, *j.Reason, "job "+slow.Id+" reads")
	testkit.Proven(t, s.Service, slow.Id)
	testkit.Proven(t, s.Service, j.Id)
	assert.FileExists(t, filepath.Join(quay, "elsewhere/tide.raw"))
}

// TestASourceThatWasSwapped while its job waited is named as that.
func TestASourceThatWasSwapped(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, filepath.Join(quay, "tide.raw"), mib)
	kept, err := s.Plan(
		t.Context(),
		plan.Request{
			Kind:        plan.Convert,
			As:          "qcow2",
			Source:      plan.Place{Pool: "quay-store", Path: "tide.raw"},
			Destination: &plan.Place{Pool: "quay-store", Path: "tide.qcow2"},
		},
	)
	require.NoError(t, err)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Hours: ptr(closed())})
	require.NoError(t, err)
	testkit.Noise(t, filepath.Join(quay, "new.raw"), mib)
	require.NoError(t, os.Rename(filepath.Join(quay, "new.raw"), filepath.Join(quay, "tide.raw")))
	_, err = s.Change(t.Context(), j.Id, api.JobChange{Hours: ptr("")})
	require.NoError(t, err)
	receipt := testkit.Proven(t, s.Service, j.Id)
	assert.Contains(t, fmt.Sprint(receipt.Remarks), "it was swapped meanwhile")
}

// TestAnOpenStateFolderIsClosed when the service starts.
func TestAnOpenStateFolderIsClosed(t *testing.T) {
	t.Parallel()
	state := filepath.Join(t.TempDir(), "state")
	require.NoError(t, os.Mkdir(state, 0o777))
	require.NoError(t, os.Chmod(state, 0o777))
	testkit.Start(t, state)
	info, err := os.Stat(state)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}
