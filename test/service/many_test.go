package service

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// many makes so many machines on the quay, crew-0 and so on, each with a small disk in a folder of its own.
func many(t *testing.T, quay *standins.Host, n int) {
	t.Helper()
	for i := range n {
		name := fmt.Sprintf("crew-%d", i)
		noise(t, quay.Folder, name+"/system.raw", 64<<10)
		text := standins.Definition(name, fmt.Sprintf("0c7a6c7e-39b4-4e4b-9a53-%012d", i), filepath.Join(quay.Folder, name, "system.raw"), "raw")
		_, err := quay.Define([]byte(strings.Replace(text, "52:54:00:00:00:01", fmt.Sprintf("52:54:00:00:01:%02x", i), 1)))
		require.NoError(t, err)
	}
}

// TestAHundredMachinesMove as one group, of which every tenth cannot: the survey says which and why, and the page to be printed too; all others move, and the
// report has a line for each.
func TestAHundredMachinesMove(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	lighthouse := standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	n := fewer.Times(30, 100)
	many(t, quay, n)
	for i := 0; i < n; i += 10 {
		name := fmt.Sprintf("crew-%d", i)
		switch i % 30 {
		case 0: // one that runs
			_, err := s.StartMachine(t.Context(), "quay", name)
			require.NoError(t, err)
		case 10: // one whose disk is gone
			require.NoError(t, os.Remove(filepath.Join(quay.Folder, name, "system.raw")))
		case 20: // one whose name is taken
			noise(t, lighthouse.Folder, name+"-other.raw", 64<<10)
			_, err := lighthouse.Define([]byte(standins.Definition(name, fmt.Sprintf("9c7a6c7e-39b4-4e4b-9a53-%012d", i),
				filepath.Join(lighthouse.Folder, name+"-other.raw"), "raw")))
			require.NoError(t, err)
		}
	}
	words := []string{
		"--machines-of",
		"quay",
		"--each",
		"kind=move-machine",
		"--each",
		"to=lighthouse",
		"--each",
		"destination.pool=lamp-room",
		"--each",
		"as=qcow2",
	}
	page := filepath.Join(t.TempDir(), "weekend.html")
	out := testkit.Run(t, quay.Folder, s.State, append([]string{"group", "survey", "--page", page}, words...)...)
	require.Zero(t, out.Code, out.Notes)
	assert.Contains(t, out.Out, fmt.Sprintf("%d of %d can go", n-n/10, n))
	assert.Contains(t, out.Out, "quay:crew-0 is running")
	assert.Contains(t, out.Out, "lighthouse has a machine of the name crew-20 already")
	printed, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Contains(t, string(printed), "<td>quay:crew-10</td><td>NO</td>")
	assert.Contains(t, string(printed), "lamp-room")

	out = testkit.Run(t, quay.Folder, s.State, append([]string{"group", "start", "--yes"}, words...)...)
	assert.Equal(t, 3, out.Code, "some are blocked")
	assert.Empty(t, groupsOf(t, s))
	out = testkit.Run(
		t,
		quay.Folder,
		s.State,
		append([]string{"group", "start", "--yes", "--wait", "--without-blocked", "--at-once", "8"}, words...)...)
	require.Zero(t, out.Code, out.Notes)
	assert.Contains(t, out.Notes, fmt.Sprintf("%d of %d done", n-n/10, n-n/10))
	assert.Contains(t, out.Out, fmt.Sprintf("quay:crew-%d", n-1))
	there := 0
	for _, m := range lighthouse.List() {
		if strings.HasPrefix(m.Name, "crew-") {
			there++
		}
	}
	assert.Equal(t, n-n/10+(n/10+1)/3, there)
	assert.Len(t, quay.List(), n/10)
}

func groupsOf(t *testing.T, s *testkit.Service) []api.Group {
	t.Helper()
	all, err := s.Groups(t.Context())
	require.NoError(t, err)
	return all
}

// TestAGroupHasManners: its jobs run one after the other where that is asked for, and wait where so many of it have failed; let go on, they do. More than a
// pool has room for is told before.
func TestAGroupHasManners(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	many(t, quay, 6)
	later := time.Now().Add(3 * time.Hour)
	file := filepath.Join(t.TempDir(), "weekend.yaml")
	text := fmt.Sprintf(`name: the weekend
at_once: 1
stop_after: 2
hours: "%s-%s"
each:
  kind: copy-machine
  to: lighthouse
  destination: {pool: lamp-room}
requests:
  - {machine: "quay:crew-0"}
  - {machine: "quay:crew-1"}
  - {machine: "quay:crew-2", name: crew-two}
  - {machine: "quay:crew-3"}
  - {machine: "quay:crew-4"}
`, later.Format("15:04"), later.Add(time.Hour).Format("15:04"))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	out := testkit.Run(t, quay.Folder, s.State, "group", "start", file, "--yes")
	require.Zero(t, out.Code, out.Notes)
	g := groupsOf(t, s)[0]
	require.Len(t, g.Jobs, 5)
	assert.Equal(t, "the weekend", g.Name)
	for _, name := range []string{"crew-1", "crew-2"} { // which has been planned
		require.NoError(t, os.Remove(filepath.Join(quay.Folder, name, "system.raw")))
		require.NoError(t, os.Mkdir(filepath.Join(quay.Folder, name, "system.raw"), 0o700))
	}
	now := ""
	for _, j := range g.Jobs {
		_, err := s.Change(t.Context(), j.Id, api.JobChange{Hours: &now})
		require.NoError(t, err)
	}
	states := func() (all []string) {
		g, err := s.Group(t.Context(), g.Id)
		require.NoError(t, err)
		running := 0
		for _, j := range g.Jobs {
			all = append(all, string(j.State))
			if j.State == api.JobStateRunning {
				running++
			}
		}
		assert.LessOrEqual(t, running, 1)
		return all
	}
	want := []string{"done", "failed", "failed", "paused", "paused"}
	require.Eventually(t, func() bool { return assert.ObjectsAreEqual(want, states()) }, time.Minute, 5*time.Millisecond, "%v", states())
	j, err := s.Job(t.Context(), g.Jobs[3].Id)
	require.NoError(t, err)
	assert.Contains(t, *j.Reason, "2 of its group failed, and the others wait")
	_, err = s.ActOnGroup(t.Context(), g.Id, "resume")
	require.NoError(t, err)
	want[3], want[4] = "done", "done"
	require.Eventually(t, func() bool { return assert.ObjectsAreEqual(want, states()) }, time.Minute, 5*time.Millisecond, "%v", states())

	_, err = s.AnswerGroup(t.Context(), g.Id, "back")
	require.ErrorContains(t, err, "no job of group "+g.Id+" asks something")
	csv := filepath.Join(t.TempDir(), "list.csv")
	require.NoError(
		t,
		os.WriteFile(csv, []byte("kind,machine,destination.pool,to,start\ncopy-machine,quay:crew-5,lamp-room,lighthouse,\n"), 0o600),
	)
	out = testkit.Run(t, quay.Folder, s.State, "group", "survey", csv)
	require.Zero(t, out.Code, out.Notes)
	assert.Contains(t, out.Out, "1 of 1 can go")
	require.NoError(t, os.WriteFile(csv, []byte("kind,machin\ncopy-machine,quay:crew-5\n"), 0o600))
	out = testkit.Run(t, quay.Folder, s.State, "group", "survey", csv)
	assert.Equal(t, 2, out.Code)
	assert.Contains(t, out.Notes, "it takes no \"machin\"")
}

// TestOneAnswerHoldsForAll: machines of a group that do not come up are all answered at once.
func TestOneAnswerHoldsForAll(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay := standins.Join(t, s.Service, "quay", "quay-store", standin.Traits{})
	standins.Join(t, s.Service, "lighthouse", "lamp-room", standin.Traits{})
	many(t, quay, 3) // whose disks start nothing
	var all []plan.Request
	for i := range 3 {
		all = append(all, plan.Request{
			Kind:        plan.CopyMachine,
			Machine:     fmt.Sprintf("quay:crew-%d", i),
			To:          "lighthouse",
			Destination: &plan.Place{Pool: "lamp-room"},
			Start:       true,
			Within:      1,
		})
	}
	kept, err := s.PlanGroup(t.Context(), api.NewGroupPlan{Name: "trial", Requests: &all})
	require.NoError(t, err)
	require.False(t, kept.Blocked)
	g, err := s.StartGroup(t.Context(), kept.Id)
	require.NoError(t, err)
	for _, j := range g.Jobs {
		testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.State == api.JobStateAsking })
	}
	out := testkit.Run(t, quay.Folder, s.State, "group", "answer", g.Id, "keep")
	require.Zero(t, out.Code, out.Notes)
	for _, j := range g.Jobs {
		assert.Equal(t, api.JobStateDone, testkit.Await(t, s.Service, j.Id).State)
	}
}

// TestAGroupThatDoesNotFit is stopped from where the room ends, though each by itself would fit.
func TestAGroupThatDoesNotFit(t *testing.T) {
	g := plan.Group{}
	for _, need := range []int64{40, 40, 40} {
		g.Parts = append(g.Parts, plan.Part{Needs: map[string]int64{"lamp-room": need}, EstimatedSeconds: 2})
	}
	g.Survey(map[string]int64{"lamp-room": 100})
	assert.Equal(t, []plan.Room{{Pool: "lamp-room", Needs: 120, Free: 100, Seconds: 6}}, g.Rooms)
	require.Len(t, g.Stopped(), 1)
	assert.Contains(t, g.Parts[2].Checks[0].Message, "Up to here the group needs 120 bytes")
}
