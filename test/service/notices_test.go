package service

import (
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/notices"
	"bagaglio/internal/testkit"

	"github.com/emersion/go-smtp"
	webhook "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// heard is a message that a web server got.
type heard struct {
	header http.Header
	body   []byte
}

// listener is a web server that is told what happens; it answers so.
func listener(t *testing.T, status *atomic.Int32) (url string, calls chan heard) {
	t.Helper()
	calls = make(chan heard, 100)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		calls <- heard{r.Header, body}
		w.WriteHeader(int(status.Load()))
	}))
	t.Cleanup(s.Close)
	return s.URL, calls
}

func await[T any](t *testing.T, of chan T) T {
	t.Helper()
	select {
	case x := <-of:
		return x
	case <-time.After(30 * time.Second):
		require.Fail(t, "nothing was told")
		panic("not reached")
	}
}

// TestWhoIsTold what happens: a web server by signed calls, again where it did not answer well, in their order, also after the service was killed, and each once.
func TestWhoIsTold(t *testing.T) {
	t.Parallel()
	s := start(t)
	var status atomic.Int32
	status.Store(http.StatusBadGateway)
	url, calls := listener(t, &status)
	pool := s.Pool("quay-store")
	made, err := s.AddChannel(t.Context(), api.NewChannel{
		Name: "night-watch", Kind: "web", Target: api.ChannelTarget{Url: &url}, Tells: &[]api.Told{"done", "away"},
	})
	require.NoError(t, err)
	require.ErrorContains(t, s.TryChannel(t.Context(), "night-watch"), "answers 502")
	await(t, calls)
	require.NoError(t, os.Rename(pool, pool+"-gone"))
	_, err = s.Pools(t.Context())
	require.NoError(t, err)
	first := await(t, calls)
	var told notices.Message
	require.NoError(t, json.Unmarshal(first.body, &told))
	assert.Equal(t, "away", told.Kind)
	assert.Equal(t, "quay-store", told.Pool)
	signer, err := webhook.NewWebhook(*made.Secret)
	require.NoError(t, err)
	require.NoError(t, signer.Verify(first.body, first.header))
	require.Error(t, signer.Verify(append(first.body, ' '), first.header))
	require.Eventually(t, func() bool {
		all, err := s.Channels(t.Context())
		return assert.NoError(t, err) && all[0].Waiting == 1 && all[0].Problem != nil && strings.Contains(*all[0].Problem, "502")
	}, 10*time.Second, 50*time.Millisecond)

	s.Kill()
	status.Store(http.StatusNoContent)
	require.NoError(t, os.Rename(pool+"-gone", pool))
	s = testkit.Start(t, s.State)
	again := await(t, calls)
	assert.Equal(t, first.header.Get("webhook-id"), again.header.Get("webhook-id"), "it is the same message")
	require.NoError(t, s.TryChannel(t.Context(), "night-watch"))
	var trial notices.Message
	require.NoError(t, json.Unmarshal(await(t, calls).body, &trial))
	assert.Equal(t, "trial", trial.Kind)
	require.NoError(t, os.WriteFile(filepath.Join(pool, "tide-board.raw"), make([]byte, 1<<20), 0o600))
	j := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "board.raw"},
	})
	testkit.Proven(t, s.Service, j.Id)
	var done notices.Message
	require.NoError(t, json.Unmarshal(await(t, calls).body, &done))
	assert.Equal(t, "done", done.Kind)
	assert.Contains(t, done.Text, "proven")
	s.Stop()
	s = testkit.Start(t, s.State)
	require.NoError(t, s.TryChannel(t.Context(), "night-watch"))
	require.NoError(t, json.Unmarshal(await(t, calls).body, &trial))
	assert.Equal(t, "trial", trial.Kind, "nothing is told twice")
	require.NoError(t, s.RemoveChannel(t.Context(), "night-watch"))
	require.ErrorContains(t, s.TryChannel(t.Context(), "night-watch"), "not found")
}

// letters is a mail server that hands on what it gets.
type letters chan string

func (l letters) NewSession(*smtp.Conn) (smtp.Session, error) { return l, nil }
func (l letters) Mail(string, *smtp.MailOptions) error        { return nil }
func (l letters) Rcpt(to string, _ *smtp.RcptOptions) error   { l <- to; return nil }
func (l letters) Reset()                                      {}
func (l letters) Logout() error                               { return nil }
func (l letters) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	l <- string(b)
	return err
}

// TestMailTellsWhatHappens, through a server that does not encrypt only where that is asked for.
func TestMailTellsWhatHappens(t *testing.T) {
	t.Parallel()
	s := start(t)
	got := make(letters, 10)
	server := smtp.NewServer(got)
	server.Domain = "mail.example"
	line, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(line) }() // ends with the line
	t.Cleanup(func() { server.Close() })
	target := api.ChannelTarget{Server: ptr(line.Addr().String()), From: ptr("bagaglio@quay.example"), To: &[]string{"master@quay.example"}}
	_, err = s.AddChannel(t.Context(), api.NewChannel{Name: "sealed", Kind: "mail", Target: target})
	require.NoError(t, err)
	require.ErrorContains(t, s.TryChannel(t.Context(), "sealed"), "is not accepted")
	target.InTheClear = ptr(true)
	_, err = s.AddChannel(t.Context(), api.NewChannel{Name: "harbour-master", Kind: "mail", Target: target})
	require.NoError(t, err)
	require.NoError(t, s.TryChannel(t.Context(), "harbour-master"))
	assert.Equal(t, "master@quay.example", await(t, got))
	letter := await(t, got)
	assert.Contains(t, letter, "Subject: Bagaglio: Somebody tries out whether this arrives.")
	for what, n := range map[string]api.NewChannel{
		"no address of a web server": {Name: "a", Kind: "web", Target: api.ChannelTarget{Url: ptr("file:///etc/passwd")}},
		"mail takes a server":        {Name: "a", Kind: "mail"},
		"no name of a program":       {Name: "a", Kind: "program", Target: api.ChannelTarget{Program: ptr("../../bin/sh")}},
		"told by web, mail":          {Name: "a", Kind: "bell"},
		"small letters":              {Name: "A B", Kind: "program", Target: api.ChannelTarget{Program: ptr("ring")}},
		"and not \"weather\"":        {Name: "a", Kind: "program", Target: api.ChannelTarget{Program: ptr("ring")}, Tells: &[]api.Told{"weather"}},
		"taken":                      {Name: "sealed", Kind: "program", Target: api.ChannelTarget{Program: ptr("ring")}},
	} {
		_, err := s.AddChannel(t.Context(), n)
		require.ErrorContains(t, err, what)
	}
}
