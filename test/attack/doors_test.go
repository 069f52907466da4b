package attack

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// call asks the service something, with headers, and returns the status and the answer.
func call(t *testing.T, method, url, body string, headers ...string) (int, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(b)
}

// TestWhoIsRefusedIsNotedOnce: hundreds of requests with wrong tokens, long names and made-up origins leave a line in the log, which says
// what they were and where they came from; whoever brings too many has to wait, and the right token does not.
func TestWhoIsRefusedIsNotedOnce(t *testing.T) {
	t.Parallel()
	s := start(t)
	long := strings.Repeat("x", 30<<10)
	statuses := map[int]int{}
	for i := range 200 {
		status, _ := call(
			t,
			http.MethodPost,
			s.Address+"/v1/pools/"+long+"/test",
			"{}",
			"Authorization",
			"Bearer "+fmt.Sprint(i),
			"Bagaglio-Who",
			long[:1000],
			"X-Forwarded-For",
			fmt.Sprintf("10.1.2.%d", i),
		)
		statuses[status]++
	}
	assert.Positive(t, statuses[http.StatusUnauthorized])
	assert.Positive(t, statuses[http.StatusTooManyRequests])
	assert.Len(t, statuses, 2)
	status, _ := call(t, http.MethodGet, s.Address+"/v1/pools", "", "Authorization", "Bearer "+s.Token)
	assert.Equal(t, http.StatusOK, status)
	status, _ = call(
		t,
		http.MethodPost,
		s.Address+"/v1/console-links",
		"",
		"Origin",
		"http://elsewhere.example",
		"Sec-Fetch-Site",
		"cross-site",
	)
	assert.Equal(t, http.StatusForbidden, status)
	events, err := s.Events(t.Context(), 0, "", 1000)
	require.NoError(t, err)
	refused := 0
	for _, e := range events {
		assert.Less(t, len(fmt.Sprint(e)), 8<<10)
		if strings.Contains(e.Who, "wrong token") {
			refused++
			assert.Equal(t, "127.0.0.1", e.Origin, "where it came from, nobody else says")
		}
	}
	assert.Equal(t, 1, refused)
}

// TestCrossSiteRefusalsAreNoted, with where they came from.
func TestCrossSiteRefusalsAreNoted(t *testing.T) {
	t.Parallel()
	s := start(t)
	status, body := call(
		t,
		http.MethodPost,
		s.Address+"/v1/console-links",
		"",
		"Origin",
		"http://elsewhere.example",
		"Sec-Fetch-Site",
		"cross-site",
	)
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, body, "a page of another site")
	events, err := s.Events(t.Context(), 0, "", 10)
	require.NoError(t, err)
	require.NotEmpty(t, events)
	assert.Contains(t, events[0].Who, "another site")
	assert.Equal(t, "127.0.0.1", events[0].Origin)
	assert.Contains(t, events[0].Result, "http://elsewhere.example")
}

// TestHalfRequests: thousands of requests whose bodies never come fail no job, and let others in again.
func TestHalfRequests(t *testing.T) {
	s := start(t)
	quay := s.Pool("quay-store")
	j := slowJob(t, s, quay)
	address := strings.TrimPrefix(s.Address, "http://")
	var mu sync.Mutex
	var lines []net.Conn
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			for range 100 {
				line, err := net.DialTimeout("tcp", address, time.Second)
				if err != nil {
					continue // it takes no more
				}
				_, _ = fmt.Fprintf(
					line,
					"POST /v1/plans HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{",
					address,
				)
				mu.Lock()
				lines = append(lines, line)
				mu.Unlock()
			}
		})
	}
	all.Wait()
	files, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", s.Process()))
	require.NoError(t, err)
	assert.Less(t, len(files), 700, "the service keeps files for itself")
	for j.Finished == nil {
		j = testkit.Await(t, s.Service, j.Id)
	}
	testkit.Proven(t, s.Service, j.Id)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "sea-store", Folder: t.TempDir()})
	require.NoError(t, err)
	for _, l := range lines {
		_ = l.Close()
	}
	assert.FileExists(t, filepath.Join(quay, "tide.qcow2"))
}
