package attack

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/hostile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// peak is the most memory that the service has had at once, in bytes.
func peak(t *testing.T, s *testkit.Service) int64 {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.Process()))
	require.NoError(t, err)
	for line := range strings.Lines(string(b)) {
		if kib, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			n, err := strconv.ParseInt(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(kib), "kB")), 10, 64)
			require.NoError(t, err)
			return n << 10
		}
	}
	t.Fatal("the kernel does not tell")
	return 0
}

// mostMemory is what the service may need, whatever a host sends.
const mostMemory = 400 << 20

// TestHostsWithoutEnd: what a host sends without end is cut off with words, its memory is bounded, and the service goes on with others.
func TestHostsWithoutEnd(t *testing.T) {
	fewer.Sometimes(t)
	files, web := hostile.StartSFTP(t), hostile.StartHTTP(t)
	files.Prints = true
	s := start(t)
	quay := s.Pool("quay-store")
	testkit.Noise(t, quay+"/tide.raw", mib)
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name:       "pier",
		Kind:       api.NewHostKindSftp,
		Address:    files.Address,
		User:       ptr("crew"),
		TrustedKey: &files.HostKey,
		Login:      &api.Secrets{Password: ptr(hostile.Password)},
	})
	require.NoError(t, err)
	_, err = s.AddHost(t.Context(), api.NewHost{Name: "buoy", Kind: api.NewHostKindHttp, Address: web})
	require.NoError(t, err)
	for _, c := range []struct{ host, folder, says string }{
		{"pier", "/endless", "a list of more than"}, {"buoy", "/long", "entries"},
	} {
		name := c.host + strings.ReplaceAll(c.folder, "/", "-")
		_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Host: &c.host, Folder: c.folder})
		require.NoError(t, err, name)
		soon(t, name, 3*time.Minute, func() {
			list, err := s.ListDisks(t.Context(), name, api.ListDisksParams{Refresh: ptr(true)})
			if err == nil && list.Problem != nil {
				err = errors.New(*list.Problem)
			}
			require.ErrorContains(t, err, c.says, name)
		})
		require.NoError(t, s.RemovePool(t.Context(), name))
	}
	assert.Less(t, peak(t, s), int64(mostMemory))
	list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
}
