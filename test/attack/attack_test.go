// Package attack does to the service, as a process, what somebody would who wants to fool it, stop it, or get at what is not theirs.
package attack

import (
	"io"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/plan"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

func ptr[T any](v T) *T { return &v }

func start(t *testing.T) *testkit.Service {
	return testkit.Start(t, filepath.Join(t.TempDir(), "state"))
}

// overlay makes an image in a folder that stands on another one there.
func overlay(t *testing.T, dir, name, base string) {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	below, err := disk.Open(t.Context(), folder, base, "")
	require.NoError(t, err)
	defer below.Close()
	rel, err := filepath.Rel(filepath.Dir(name), base)
	require.NoError(t, err)
	f, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	w, err := f.Create(disk.Target{Folder: folder, Name: name, Size: below.Size(), Layout: "overlay", Base: below, BaseName: rel})
	require.NoError(t, err)
	_, err = w.WriteAt([]byte("what the guest wrote since"), 0)
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	require.NoError(t, w.Close())
	testkit.Settled(t, filepath.Join(dir, name))
}

// place is what POOL:PATH says.
func place(s string) plan.Place {
	pool, path, _ := strings.Cut(s, ":")
	return plan.Place{Pool: pool, Path: path}
}

// move asks for a disk to be moved.
func move(from, to string) plan.Request {
	there := place(to)
	return plan.Request{Kind: plan.Copy, Release: true, Source: place(from), Destination: &there}
}

// blocks are the messages of what stands in the way of a plan, by name.
func blocks(p plan.Plan, name string) (messages []string) {
	for _, c := range p.Checks {
		if c.Severity == plan.Blocks && c.Name == name {
			messages = append(messages, c.Message)
		}
	}
	return messages
}

// metric returns a figure of the service.
func metric(t *testing.T, s *testkit.Service, name string) float64 {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+"/metrics", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.Token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	for line := range strings.Lines(string(b)) {
		if figure, ok := strings.CutPrefix(line, name+" "); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(figure), 64)
			require.NoError(t, err)
			return v
		}
	}
	t.Fatalf("there is no figure %s", name)
	return 0
}

// soon fails when something takes much longer than it may: whatever it is bounded by, not by this.
func soon(t *testing.T, what string, bound time.Duration, do func()) {
	t.Helper()
	begin := time.Now()
	do()
	assert.Less(t, time.Since(begin), bound, what)
}
