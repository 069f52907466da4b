package attack

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// route is a call of the API, with the role that it takes.
type route struct{ method, path, role string }

// routes are those of the description.
func routes(t *testing.T) (all []route) {
	t.Helper()
	var described struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	require.NoError(t, yaml.Unmarshal(api.Spec, &described))
	for path, calls := range described.Paths {
		for method, call := range calls {
			if method == "parameters" {
				continue
			}
			var of struct {
				Role string `yaml:"x-role"`
			}
			require.NoError(t, call.Decode(&of))
			all = append(all, route{strings.ToUpper(method), path, of.Role})
		}
	}
	require.Greater(t, len(all), 60)
	return all
}

// TestEveryRouteAndEveryRole: each call of the API is open to those roles that it says, and to no other, nor to anybody without a token, or with one that is revoked or expired.
func TestEveryRouteAndEveryRole(t *testing.T) {
	t.Parallel()
	s := start(t)
	roles := []string{"", "viewer", "operator", "admin"}
	tokens := map[string]string{}
	for _, role := range roles[1:] {
		made, err := s.AddToken(t.Context(), api.NewToken{Name: role, Role: api.Role(role)})
		require.NoError(t, err)
		tokens[role] = made.Secret
	}
	elsewhere := []string{"pool:elsewhere", "host:elsewhere"}
	limited, err := s.AddToken(t.Context(), api.NewToken{Name: "limited", Role: api.Admin, WorksOn: &elsewhere})
	require.NoError(t, err)
	gone, err := s.AddToken(t.Context(), api.NewToken{Name: "gone", Role: api.Admin})
	require.NoError(t, err)
	require.NoError(t, s.RevokeToken(t.Context(), "gone"))
	tokens["gone"] = gone.Secret
	ask := func(r route, token string) int {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		path := regexp.MustCompile(`\{\w+\}`).ReplaceAllString(r.path, "none")
		q, err := http.NewRequestWithContext(ctx, r.method, s.Address+path, strings.NewReader("{}"))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		if token != "" {
			q.Header.Set("Authorization", "Bearer "+token)
		}
		answer, err := http.DefaultClient.Do(q)
		require.NoError(t, err, "%s %s", r.method, r.path)
		defer answer.Body.Close() // what is followed ends with it
		return answer.StatusCode
	}
	for _, r := range routes(t) {
		if r.role == "anybody" {
			assert.Contains(t, []route{{"GET", "/v1/health", r.role}, {"POST", "/v1/session", r.role}}, r, "nothing else is free")
			continue
		}
		needs := slices.Index(roles, r.role)
		require.Positive(t, needs, "%s %s says no role", r.method, r.path)
		if r.method != http.MethodGet { // who looks changes nothing
			assert.True(
				t,
				needs > 1 ||
					slices.Contains([]string{"/v1/plans", "/v1/session", "/v1/sessions/{session}", "/v1/me/password", "/v1/console-links"}, r.path),
				"%s %s",
				r.method,
				r.path,
			)
		}
		for has, role := range roles {
			status := ask(r, tokens[role])
			what := []any{"%s %s as %q: %d", r.method, r.path, role, status}
			switch {
			case role == "":
				assert.Equal(t, http.StatusUnauthorized, status, what...)
			case has < needs:
				assert.Equal(t, http.StatusForbidden, status, what...)
			default:
				assert.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, status, what...)
			}
		}
		status, what := ask(r, limited.Secret), []any{"%s %s of who works elsewhere", r.method, r.path}
		switch {
		case r.role == "viewer":
			assert.NotEqual(t, http.StatusForbidden, status, what...)
		case strings.Contains(r.path, "{job}") || strings.Contains(r.path, "{group}"): // of which there is none
			assert.Equal(t, http.StatusNotFound, status, what...)
		case slices.Contains([]string{"/v1/group-plans", "/v1/jobs", "/v1/groups", "/v1/exports", "/v1/exports/{export}", "/v1/consents/{consent}"}, r.path): // its body says of what, see TestWorkIsLimited
			assert.GreaterOrEqual(t, status, 400, what...)
		default:
			assert.Equal(t, http.StatusForbidden, status, what...)
		}
	}
	assert.Equal(t, http.StatusUnauthorized, ask(route{"GET", "/v1/jobs", ""}, tokens["gone"]))
}

// TestASessionIsWorthItsToken: a link of the console that a viewer made opens a session that may no more, and ends when the token is revoked, used or not.
func TestASessionIsWorthItsToken(t *testing.T) {
	t.Parallel()
	s := start(t)
	made, err := s.AddToken(t.Context(), api.NewToken{Name: "night-watch", Role: api.Viewer})
	require.NoError(t, err)
	watch, err := client.Dial(s.Address, made.Secret)
	require.NoError(t, err)
	me, err := watch.Me(t.Context())
	require.NoError(t, err)
	assert.Equal(t, api.Viewer, me.Role)
	assert.Equal(t, "night-watch", *me.Name)
	session := func() *http.Cookie {
		t.Helper()
		link, err := watch.ConsoleLink(t.Context())
		require.NoError(t, err)
		return enter(t, link.Url)
	}
	cookie := session()
	require.NotNil(t, cookie)
	ask := func(method, path string) (int, string) {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), method, s.Address+path, strings.NewReader("{}"))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		q.AddCookie(cookie)
		answer, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	status, _ := ask("GET", "/v1/jobs")
	assert.Equal(t, http.StatusOK, status)
	status, text := ask("POST", "/v1/jobs")
	assert.Equal(t, http.StatusForbidden, status)
	var told struct{ Detail string }
	require.NoError(t, json.Unmarshal([]byte(text), &told))
	assert.Contains(t, told.Detail, "takes the role operator, and you are viewer")
	later, err := watch.ConsoleLink(t.Context())
	require.NoError(t, err)
	q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+"/v1/events", nil)
	require.NoError(t, err)
	q.AddCookie(cookie)
	news, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer news.Body.Close()
	_, err = news.Body.Read(make([]byte, 1))
	require.NoError(t, err)
	require.NoError(t, s.RevokeToken(t.Context(), "night-watch"))
	_, err = io.Copy(io.Discard, news.Body)
	require.NoError(t, err, "it is told no more")
	status, _ = ask("GET", "/v1/jobs")
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Nil(t, enter(t, later.Url))
	require.Error(t, s.RevokeToken(t.Context(), "night-watch"), "it is gone")
}

// enter follows a link of the console, and returns the session that it opened, nil for none.
func enter(t *testing.T, link string) *http.Cookie {
	t.Helper()
	browser := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, link, nil)
	require.NoError(t, err)
	answer, err := browser.Do(q)
	require.NoError(t, err)
	defer answer.Body.Close()
	for _, c := range answer.Cookies() {
		if c.Value != "" {
			return c
		}
	}
	return nil
}

// TestWorkIsLimited to the pools and hosts that somebody works on: whatever reads or writes elsewhere is refused, by whichever door, and done where it may be.
func TestWorkIsLimited(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, lighthouse := s.Pool("quay-store"), s.Pool("lighthouse-store")
	testkit.Noise(t, filepath.Join(quay, "ticketing.raw"), mib)
	testkit.Noise(t, filepath.Join(lighthouse, "kiosk.raw"), mib)
	on := []string{"pool:quay-store"}
	made, err := s.AddToken(t.Context(), api.NewToken{Name: "crew", Role: api.Admin, WorksOn: &on})
	require.NoError(t, err)
	assert.Equal(t, on, *made.WorksOn)
	crew, err := client.Dial(s.Address, made.Secret)
	require.NoError(t, err)
	me, err := crew.Me(t.Context())
	require.NoError(t, err)
	assert.Equal(t, on, *me.WorksOn)
	refused := func(err error, what string) {
		t.Helper()
		var problem *client.Error
		if assert.ErrorAs(t, err, &problem, what) {
			assert.Equal(t, http.StatusForbidden, problem.Status, "%s: %s", what, problem.Detail)
			assert.Contains(t, problem.Detail, "quay-store", what)
		}
	}
	copies := func(from, to string) plan.Request {
		a, b := place(from), place(to)
		return plan.Request{Kind: plan.Copy, Source: a, Destination: &b}
	}
	begin := func(by *client.Service, r plan.Request) (api.Job, error) {
		t.Helper()
		kept, err := by.Plan(t.Context(), r)
		require.NoError(t, err, "who looks is not limited")
		return by.Start(t.Context(), api.NewJob{Plan: kept.Id})
	}
	for _, r := range []plan.Request{
		copies("quay-store:ticketing.raw", "lighthouse-store:ticketing.raw"),
		copies("lighthouse-store:kiosk.raw", "quay-store:kiosk.raw"),
		{Kind: plan.Prove, Source: place("lighthouse-store:kiosk.raw")},
		{Kind: plan.Remove, Source: place("lighthouse-store:kiosk.raw")},
	} {
		_, err := begin(crew, r)
		refused(err, r.Kind)
	}
	// A definition in another pool would be changed: it names the disk that moves.
	testkit.Noise(t, filepath.Join(quay, "roster.raw"), mib)
	vmx := filepath.Join(lighthouse, "roster.vmx")
	require.NoError(t, os.WriteFile(vmx, fmt.Appendf(nil, "displayName = \"roster\"\nscsi0:0.fileName = \"%s/roster.raw\"\n", quay), 0o600))
	_, err = begin(crew, move("quay-store:roster.raw", "quay-store:moved.raw"))
	refused(err, "a definition elsewhere")
	assert.FileExists(t, filepath.Join(quay, "roster.raw"))
	require.NoError(t, os.Remove(vmx))
	mine, err := begin(crew, copies("quay-store:ticketing.raw", "quay-store:copy.raw"))
	require.NoError(t, err)
	testkit.Proven(t, s.Service, mine.Id)
	theirs, err := begin(s.Service, copies("quay-store:ticketing.raw", "lighthouse-store:ticketing.raw"))
	require.NoError(t, err)
	testkit.Proven(t, s.Service, theirs.Id)
	_, err = crew.Again(t.Context(), theirs.Id)
	refused(err, "again")
	_, err = crew.Cancel(t.Context(), theirs.Id)
	refused(err, "cancel")
	undo, err := crew.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: mine.Id})
	require.NoError(t, err)
	_, err = crew.Start(t.Context(), api.NewJob{Plan: undo.Id})
	require.NoError(t, err, "undo what was done there")
	if undo, err = crew.Plan(t.Context(), plan.Request{Kind: plan.Undo, Job: theirs.Id}); assert.NoError(t, err) {
		_, err = crew.Start(t.Context(), api.NewJob{Plan: undo.Id})
		refused(err, "undo elsewhere")
	}
	g, err := crew.PlanGroup(t.Context(), api.NewGroupPlan{Name: "both", Requests: &[]plan.Request{
		copies("quay-store:ticketing.raw", "quay-store:a.raw"), copies("lighthouse-store:kiosk.raw", "lighthouse-store:b.raw"),
	}})
	require.NoError(t, err)
	_, err = crew.StartGroup(t.Context(), g.Id)
	refused(err, "group")

	socket := filepath.Join(t.TempDir(), "disk.sock")
	_, err = crew.OpenExport(t.Context(), api.NewExport{Disk: place("lighthouse-store:kiosk.raw"), Socket: &socket})
	refused(err, "export")
	name := "kiosk.raw"
	_, err = crew.BeginUpload(t.Context(), "lighthouse-store", api.NewUpload{Path: &name, Size: 1})
	refused(err, "upload")
	refused(crew.RemoveFile(t.Context(), "lighthouse-store", "kiosk.raw"), "remove")
	_, err = crew.SumFile(t.Context(), "lighthouse-store", "kiosk.raw")
	refused(err, "read")
	_, err = crew.AddPool(t.Context(), api.NewPool{Name: "more", Folder: t.TempDir()})
	refused(err, "pool")
	_, err = crew.AddToken(t.Context(), api.NewToken{Name: "more", Role: api.Admin})
	refused(err, "token")
	bad := []string{"quay-store"}
	_, err = s.AddToken(t.Context(), api.NewToken{Name: "more", Role: api.Admin, WorksOn: &bad})
	require.ErrorContains(t, err, "pool:NAME")

	here := []string{"host:local"}
	made, err = s.AddToken(t.Context(), api.NewToken{Name: "keeper", Role: api.Operator, WorksOn: &here})
	require.NoError(t, err)
	keeper, err := client.Dial(s.Address, made.Secret)
	require.NoError(t, err)
	job, err := begin(keeper, copies("lighthouse-store:kiosk.raw", "quay-store:kiosk.raw"))
	require.NoError(t, err, "all pools of its host")
	testkit.Proven(t, s.Service, job.Id)
}
