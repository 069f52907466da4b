package service

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestCopiesToAnotherHost are proven by its own checksum tool where it has one, and read back otherwise; the receipt says which.
func TestCopiesToAnotherHost(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	for name, config := range map[string][]string{"with tools": nil, "without": {"ForceCommand internal-sftp"}} {
		t.Run(name, func(t *testing.T) {
			s := start(t)
			dir := lighthouse(t, s, sshd.Start(t, config...))
			quay := s.Pool("quay-store")
			thin := filepath.Join(quay, "cargo-ledger.raw")
			noise(t, quay, "cargo-ledger.raw", 8*mib)
			long := int64(fewer.Times(512, 4096)) * mib
			require.NoError(t, os.Truncate(thin, long))
			r := plan.Request{
				Kind:        plan.Copy,
				Source:      plan.Place{Pool: "quay-store", Path: "cargo-ledger.raw"},
				Destination: &plan.Place{Pool: "far-store", Path: "ledger/cargo-ledger.raw"},
			}
			kept, err := s.Plan(t.Context(), r)
			require.NoError(t, err)
			assert.Equal(t, int64(8*mib), kept.Plan.BytesToWrite, "only what is stored goes over the line")
			r.Source.Path = "small.raw"
			noise(t, quay, "small.raw", 8*mib)
			receipt := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
			if name == "with tools" {
				assert.Contains(t, receipt.Compared, "which the destination's host took with its own tool")
				require.Len(t, receipt.Sums, 1)
			} else {
				assert.Contains(t, receipt.Compared, "read back")
				assert.Empty(t, receipt.Sums)
				r.Source.Path, r.Destination.Path = "cargo-ledger.raw", "thin.raw"
				receipt = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
				assert.Equal(t, int64(8*mib), receipt.BytesWritten)
				var st unix.Stat_t
				require.NoError(t, unix.Stat(filepath.Join(dir, "thin.raw"), &st))
				assert.Less(t, st.Blocks*512, int64(16*mib), "it is thin there too")
				kept, err := s.Plan(
					t.Context(),
					plan.Request{Kind: plan.Copy, Source: *r.Destination, Destination: &plan.Place{Pool: "quay-store", Path: "back.raw"}},
				)
				require.NoError(t, err)
				assert.Equal(t, long, kept.Plan.BytesToWrite, "holes cannot be told from there: the plan says what that costs")
			}
			assert.Equal(t, receipt.Source.Fingerprint, receipt.Destination.Fingerprint)
			back := plan.Request{
				Kind:        plan.Copy,
				Release:     true,
				Source:      *r.Destination,
				Destination: &plan.Place{Pool: "quay-store", Path: "back.raw"},
			}
			if name == "with tools" {
				receipt = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, back).Id)
				assert.NoFileExists(t, filepath.Join(dir, r.Destination.Path), "the source is held")
				held, err := s.Held(t.Context())
				require.NoError(t, err)
				require.Len(t, held, 1)
				assert.Equal(t, "far-store", held[0].Pool)
			}
		})
	}
}

// TestRulesOfAPool show up in every plan into it, with what to do, and what is done then passes.
func TestRulesOfAPool(t *testing.T) {
	t.Parallel()
	s := start(t)
	noise(t, s.Pool("quay-store"), "ticketing.raw", 3*mib+512)
	lighthouse := s.Pool("lighthouse-store")
	rules := plan.Rules{
		Name:        "UUIDEXT",
		Granularity: mib,
		Accepts:     []plan.Accepted{{Format: "vhd", Layouts: []string{"dynamic", "differencing"}}},
	}
	rules.Mode, rules.MachineFolders = "0640", true
	p, err := s.ChangePool(t.Context(), "lighthouse-store", api.PoolChange{Rules: rules})
	require.NoError(t, err)
	assert.Equal(t, rules, p.Rules)
	r := plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "ticketing.raw"},
	}
	settle := func(r plan.Request) (plan.Request, []string) { // by the first remedy of what stands in the way
		var seen []string
		for {
			kept, err := s.Plan(t.Context(), r)
			require.NoError(t, err)
			if !kept.Blocked || len(seen) > 5 {
				return r, seen
			}
			i := slices.IndexFunc(kept.Plan.Checks, func(c plan.Check) bool { return c.Severity == plan.Blocks })
			c := kept.Plan.Checks[i]
			require.NotEmpty(t, c.Remedies, c.Message)
			seen = append(seen, c.Name)
			r = patched(t, kept.Plan.Request, c.Remedies[0].Change)
		}
	}
	named := r
	named.Kind, named.As, named.Destination = plan.Convert, "vhd", &plan.Place{Pool: "lighthouse-store", Path: "ticketing.vhd"}
	_, seen := settle(named)
	assert.Equal(t, []string{"rule-size", "rule-name"}, seen[:2])
	assert.Contains(t, seen, "rule-folder")
	r, seen = settle(r)
	assert.Equal(t, []string{"rule-format", "rule-size"}, seen, "whoever converts for the pool is given a name and a folder at once")
	receipt := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Equal(t, "vhd", receipt.Destination.Format)
	assert.Equal(t, int64(4*mib), receipt.Destination.VirtualSize)
	path := filepath.Join(lighthouse, receipt.Destination.Place.Path)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	assert.Regexp(t, `/[0-9a-f-]{36}\.vhd$`, path)
	tag, err := os.ReadFile(path + ".bagtag")
	require.NoError(t, err)
	assert.Contains(t, string(tag[:400]), "ticketing", "its own name stays in the tag")
	// All of it at once, with the same name in plan and job.
	for _, kind := range []string{plan.Copy, plan.Convert} {
		r = plan.Request{
			Kind:        kind,
			Source:      plan.Place{Pool: "quay-store", Path: "ticketing.raw"},
			Destination: &plan.Place{Pool: "lighthouse-store", Path: "ticketing.raw"},
			ByRules:     true,
		}
		if kind == plan.Convert {
			r.As = "vhd"
		}
		kept, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		require.False(t, kept.Blocked, "%+v", kept.Plan.Checks)
		j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id})
		require.NoError(t, err)
		assert.Equal(t, kept.Plan.After[0].Place, testkit.Proven(t, s.Service, j.Id).Destination.Place)
	}
	_, err = s.ChangePool(t.Context(), "lighthouse-store", api.PoolChange{Rules: plan.Rules{Name: "x/y"}})
	require.ErrorContains(t, err, "name pattern")
}

// everyOrder: page by page, each disk comes once, in the order that was asked for, also when one goes between two pages.
func everyOrder(t *testing.T, s *client.Service) {
	t.Helper()
	for _, sort := range []api.ListDisksParamsSort{api.Path, api.VirtualSize, api.AllocatedSize, api.FileSize, api.Room, api.Modified} {
		for _, down := range []bool{false, true} {
			whole, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Sort: &sort, Descending: &down})
			require.NoError(t, err)
			require.Nil(t, whole.Next)
			var paths, want []string
			p := api.ListDisksParams{Sort: &sort, Descending: &down, Limit: ptr(4)}
			for {
				page, err := s.ListDisks(t.Context(), "quay-store", p)
				require.NoError(t, err)
				for _, d := range page.Items {
					paths = append(paths, d.Path)
				}
				if p.Cursor = page.Next; page.Next == nil {
					break
				}
			}
			for _, d := range whole.Items {
				want = append(want, d.Path)
			}
			assert.Equal(t, want, paths, "by %s, descending %t", sort, down)
		}
	}
	for _, cursor := range []string{"nonsense", "e30x", "eyJieSI6W119"} {
		_, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Cursor: &cursor})
		var answer *client.Error
		require.ErrorAs(t, err, &answer, cursor)
		assert.Equal(t, 400, answer.Status, cursor)
	}
}

// TestTheListOfAPool groups, searches, sorts and pages.
func TestTheListOfAPool(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	for i := range 25 {
		noise(t, quay, fmt.Sprintf("deck-%02d.raw", i), int64(i+1)*4096)
	}
	require.NoError(t, os.WriteFile(filepath.Join(quay, "notes.txt"), []byte("tide"), 0o600))
	p := api.ListDisksParams{Refresh: ptr(true), Limit: ptr(10), Descending: ptr(true), Sort: ptr(api.FileSize)}
	list, err := s.ListDisks(t.Context(), "quay-store", p)
	require.NoError(t, err)
	require.NotNil(t, list.Next)
	p.Cursor = list.Next
	list, err = s.ListDisks(t.Context(), "quay-store", p)
	require.NoError(t, err)
	assert.Equal(t, 25, list.Total)
	require.Len(t, list.Items, 10)
	assert.Equal(t, "deck-14.raw", list.Items[0].Path)
	require.Equal(t, 1, list.StrayCount)
	strays, err := s.Strays(t.Context(), "quay-store")
	require.NoError(t, err)
	assert.Equal(t, "notes.txt", strays[0].Name)
	everyOrder(t, s.Service)
	list, err = s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true), Search: ptr("k-0")})
	require.NoError(t, err)
	assert.Equal(t, 10, list.Total)
	list, err = s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true), Search: ptr("%")})
	require.NoError(t, err)
	assert.Zero(t, list.Total, "what is searched for is no pattern")
	_, err = s.ListDisks(
		t.Context(),
		"quay-store",
		api.ListDisksParams{Refresh: ptr(true), Sort: ptr(api.ListDisksParamsSort("path; DROP TABLE jobs"))},
	)
	require.Error(t, err)
	require.NoError(t, os.Remove(filepath.Join(quay, "deck-03.raw")))
	list, err = s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	assert.Equal(t, 24, list.Total, "what is gone is gone at once")
}

// TestDrain empties a pool as one group: what cannot go is listed, one that fails does not stop the others, and all of it can be paused.
func TestDrain(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("mounting a filesystem takes root")
	}
	s := start(t)
	quay, dir := t.TempDir(), t.TempDir()
	mount(t, "tmpfs", quay, "tmpfs", "size=200m")
	mount(t, "tmpfs", dir, "tmpfs", "size=300m")
	addPool(t, s.Service, "quay-full", quay)
	addPool(t, s.Service, "lighthouse-new", dir)
	for i := range 5 {
		noise(t, quay, fmt.Sprintf("deck-%d.raw", i), 20*mib)
	}
	require.NoError(t, os.WriteFile(filepath.Join(quay, "torn.qcow2"), []byte("QFI\xfb, and no more"), 0o600))
	b, drain := testkit.Balance(
		t,
		s.Service,
		plan.BalanceRequest{Kind: plan.KindDrain, Pools: []string{"quay-full"}, To: []string{"lighthouse-new"}},
	)
	require.Len(t, b.Carries, 5)
	require.Len(t, b.Left, 1)
	assert.Equal(t, "torn.qcow2", b.Left[0].Path)
	assert.Contains(t, b.Left[0].Why, "does not open")
	assert.Equal(t, b.Before[0].Free, b.After[0].Free)
	assert.Equal(t, int64(100*mib), b.After[0].Held, "for a while it takes its room")
	var requests []plan.Request
	for _, c := range b.Carries {
		requests = append(requests, c.Request)
	}
	allOrNone(t, s.Service, requests)
	testkit.Limit(t, s.Service, api.Limit{Scope: api.LimitScopeService, Jobs: 1, Speed: 20 * mib})
	group, err := s.StartGroup(t.Context(), drain.Id)
	require.NoError(t, err)
	require.Len(t, group.Jobs, 5)
	again, err := s.StartGroup(t.Context(), drain.Id)
	require.NoError(t, err)
	assert.Equal(t, group.Id, again.Id, "the same plan is the same group")
	_, err = s.ActOnGroup(t.Context(), group.Id, "pause")
	require.NoError(t, err)
	for _, j := range group.Jobs {
		awaitJob(t, s.Service, j.Id, inState(api.JobStatePaused))
	}
	require.NoError(t, os.Remove(filepath.Join(quay, "deck-3.raw"))) // so that its job fails
	testkit.Limit(t, s.Service, api.Limit{Scope: api.LimitScopeService, Jobs: 2})
	_, err = s.ActOnGroup(t.Context(), group.Id, "resume")
	require.NoError(t, err)
	done := 0
	for _, j := range group.Jobs {
		if testkit.Await(t, s.Service, j.Id).State == api.JobStateDone {
			done++
		}
	}
	assert.Equal(t, 4, done)
	names, err := filepath.Glob(filepath.Join(dir, "*.raw"))
	require.NoError(t, err)
	assert.Len(t, names, 4)
	assert.FileExists(t, filepath.Join(quay, "torn.qcow2"))
	left, err := filepath.Glob(filepath.Join(quay, "*.raw"))
	require.NoError(t, err)
	assert.Empty(t, left)
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	assert.Len(t, held, 4, "what has moved can be restored")

	spread, _ := testkit.Balance(t, s.Service, plan.BalanceRequest{Kind: plan.KindSpread, Pools: []string{"quay-full", "lighthouse-new"}})
	unequal := func(p []plan.PoolState) float64 {
		return math.Abs(float64(p[0].Free+p[0].Held)/float64(p[0].Total) - float64(p[1].Free+p[1].Held)/float64(p[1].Total))
	}
	assert.LessOrEqual(t, unequal(spread.After), unequal(spread.Before))
}

// allOrNone: with one request that is blocked, or two that would write the same file, nothing of a group is started, and it is said which.
func allOrNone(t *testing.T, s *client.Service, requests []plan.Request) {
	t.Helper()
	gone, twice := requests[0], requests[1]
	gone.Source.Path = "nowhere.raw"
	for want, more := range map[string]plan.Request{"nowhere.raw": gone, "used by another request of the group too": twice} {
		all := append(slices.Clone(requests), more)
		g, err := s.PlanGroup(t.Context(), api.NewGroupPlan{Name: "drain", Requests: &all})
		require.NoError(t, err)
		assert.True(t, g.Blocked)
		require.Len(t, g.Parts, len(all))
		assert.Contains(t, g.Parts[len(all)-1].Checks[0].Message, want)
		_, err = s.StartGroup(t.Context(), g.Id)
		var answer *client.Error
		require.ErrorAs(t, err, &answer)
		assert.Equal(t, 409, answer.Status)
	}
	groups, err := s.Groups(t.Context())
	require.NoError(t, err)
	assert.Empty(t, groups)
	jobs, err := s.Jobs(t.Context(), 10)
	require.NoError(t, err)
	assert.Empty(t, jobs)
}

// TestNothingIsMovedFromUnderADisk that stands on it, wherever in the pool that lies.
func TestNothingIsMovedFromUnderADisk(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := s.Pool("quay-store")
	s.Pool("lighthouse-store")
	noise(t, quay, "base.raw", 4*mib)
	r := plan.Request{
		Kind:        plan.Convert,
		Source:      plan.Place{Pool: "quay-store", Path: "base.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "machines/tide-board/tide-board.qcow2"},
		As:          "qcow2",
		Layout:      "overlay",
		Base:        "base.raw",
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	move := plan.Request{
		Kind:        plan.Copy,
		Release:     true,
		Source:      plan.Place{Pool: "quay-store", Path: "base.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "base.raw"},
	}
	kept, err := s.Plan(t.Context(), move)
	require.NoError(t, err)
	require.True(t, kept.Blocked)
	last := kept.Plan.Checks[len(kept.Plan.Checks)-1]
	assert.Contains(t, last.Message, "machines/tide-board/tide-board.qcow2")
	move = patched(t, kept.Plan.Request, last.Remedies[0].Change)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	assert.FileExists(t, filepath.Join(quay, "base.raw"))

	// All of them together, under another name: what stands on it is told.
	far := s.Pool("far-store")
	noise(t, quay, "gate.raw", 4*mib)
	r.Source.Path, r.Destination.Path = "gate.raw", "machines/crew-roster.qcow2"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	copied := move
	copied.Release, copied.Family, copied.Destination = false, true, &plan.Place{Pool: "lighthouse-store", Path: "set/base.raw"}
	kept, err = s.Plan(t.Context(), copied)
	require.NoError(t, err)
	assert.Contains(
		t,
		testkit.StepOf(t, kept.Plan, plan.StepFill).Uses,
		plan.Use{Pool: "quay-store", Path: "machines/crew-roster.qcow2"},
		"also from other folders",
	)
	kept, err = s.Plan(
		t.Context(),
		plan.Request{
			Kind:        plan.Copy,
			Release:     true,
			Source:      copied.Source,
			Destination: &plan.Place{Pool: "lighthouse-store", Path: "base-2.raw"},
		},
	)
	require.NoError(t, err)
	move = patched(t, kept.Plan.Request, last.Remedies[1].Change)
	move.Destination = &plan.Place{Pool: "far-store", Path: "foundation.raw"}
	require.NoError(
		t,
		os.WriteFile(filepath.Join(quay, "machines/tide-board/tide-board.qcow2.bagtag"), []byte("no tag at all"), 0o600),
	) // it comes along as it is
	receipt := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move).Id)
	assert.Contains(t, strings.Join(receipt.Remarks, "\n"), "machines/crew-roster.qcow2 came along, and opens on what it stands on")
	list, err := s.ListDisks(t.Context(), "far-store", api.ListDisksParams{Refresh: ptr(true), Only: ptr(api.Overlays)})
	require.NoError(t, err)
	require.Len(t, list.Items, 2)
	for _, d := range list.Items {
		assert.Empty(t, d.Problem)
		assert.Equal(t, []string{"foundation.raw"}, d.StandsOn)
	}
	assert.NoFileExists(t, filepath.Join(quay, "base.raw"))
	assert.NoFileExists(t, filepath.Join(quay, "machines/crew-roster.qcow2"))
	proof := testkit.Begin(
		t,
		s.Service,
		plan.Request{Kind: plan.Prove, Source: plan.Place{Pool: "far-store", Path: "machines/crew-roster.qcow2"}, Tag: plan.TagBeside},
	)
	receipt = testkit.Proven(t, s.Service, proof.Id)
	assert.NotEmpty(t, receipt.Source.Fingerprint)
	assert.Equal(t, "machines/crew-roster.qcow2.bagtag", receipt.Tag)
	quick := testkit.Begin(
		t,
		s.Service,
		plan.Request{
			Kind:   plan.Prove,
			Source: plan.Place{Pool: "far-store", Path: "machines/crew-roster.qcow2"},
			Tag:    plan.TagBeside,
			Quick:  true,
		},
	)
	testkit.Await(t, s.Service, quick.Id)
	receipt, err = s.Receipt(t.Context(), quick.Id)
	require.NoError(t, err)
	assert.Contains(t, receipt.Compared, "with the tag")
	assert.Empty(t, receipt.Remarks, "its tag speaks of the copied files")

	// Drained with the same names: they are renamed, not copied, where it is one filesystem.
	b, _ := testkit.Balance(t, s.Service, plan.BalanceRequest{Kind: plan.KindDrain, Pools: []string{"far-store"}, To: []string{"quay-store"}})
	require.Len(t, b.Carries, 1, "%+v", b)
	require.Empty(t, b.Left)
	assert.True(t, b.Carries[0].Request.Family)
	receipt = testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, b.Carries[0].Request).Id)
	assert.Contains(t, receipt.Compared, "nothing was copied")
	left, err := os.ReadDir(far)
	require.NoError(t, err)
	for _, e := range left {
		assert.Contains(t, []string{".bagaglio", "machines"}, e.Name())
	}
	list, err = s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true), Only: ptr(api.Overlays)})
	require.NoError(t, err)
	assert.Len(t, list.Items, 2)
}

// patched is a request with a remedy's change (RFC 7396).
func patched(t *testing.T, r plan.Request, change json.RawMessage) plan.Request {
	t.Helper()
	b, err := json.Marshal(r)
	require.NoError(t, err)
	var whole, part map[string]any
	require.NoError(t, json.Unmarshal(b, &whole))
	require.NoError(t, json.Unmarshal(change, &part))
	b, err = json.Marshal(merge(whole, part))
	require.NoError(t, err)
	var out plan.Request
	require.NoError(t, json.Unmarshal(b, &out))
	return out
}

func merge(whole, part map[string]any) map[string]any {
	if whole == nil {
		whole = map[string]any{}
	}
	for k, v := range part {
		switch v := v.(type) {
		case nil:
			delete(whole, k)
		case map[string]any:
			inner, _ := whole[k].(map[string]any) // or nothing yet
			whole[k] = merge(inner, v)
		default:
			whole[k] = v
		}
	}
	return whole
}
