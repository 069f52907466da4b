package console

import (
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"
)

// TestARemedyForAJobThatWasStopped: what came while it waited stands on its page, and a remedy starts its request anew.
func TestARemedyForAJobThatWasStopped(t *testing.T) {
	t.Parallel()
	s := world(t)
	now := time.Now()
	hours, all := now.Add(2*time.Hour).Format("15:04")+"-"+now.Add(3*time.Hour).Format("15:04"), ""
	disk := plan.Place{Pool: "quay-store", Path: "tide-board.raw"}
	kept, err := s.Plan(
		t.Context(),
		plan.Request{Kind: plan.Copy, Release: true, Source: disk, Destination: &plan.Place{Pool: "lighthouse-store", Path: "tide-board.raw"}},
	)
	require.NoError(t, err)
	j, err := s.Start(t.Context(), api.NewJob{Plan: kept.Id, Hours: &hours})
	require.NoError(t, err)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Convert,
		As:          "qcow2",
		Layout:      "overlay",
		Base:        disk.Path,
		Source:      disk,
		Destination: &plan.Place{Pool: "quay-store", Path: "monday.qcow2"},
	}).Id)
	_, err = s.Change(t.Context(), j.Id, api.JobChange{Hours: &all})
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	p.Open(s.Address + "/jobs/" + j.Id)
	p.AwaitText("monday.qcow2 stand(s) on the source")
	p.Click("Copy it instead: the source stays")
	p.AwaitText("Proven: what arrived is what left")
	old, err := s.Job(t.Context(), j.Id)
	require.NoError(t, err)
	require.Equal(t, api.JobStateCancelled, old.State)
}

// TestTheConsoleSaysThatRecordsCannotBeWritten, as long as that is so.
func TestTheConsoleSaysThatRecordsCannotBeWritten(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	records, err := sqlx.Open("sqlite", filepath.Join(s.State, "records.sqlite")+"?_txlock=exclusive")
	require.NoError(t, err)
	defer records.Close()
	tx, err := records.Beginx()
	require.NoError(t, err)
	p.AwaitText("cannot write its records")
	require.NoError(t, tx.Rollback())
	p.Await(`!document.body.innerText.includes("cannot write its records")`)
}

// TestAJobThatAsks: what it wants to know stands on its page, and it goes on when that is answered there.
func TestAJobThatAsks(t *testing.T) {
	t.Parallel()
	drive := testkit.NewDrive(t, "gate-kiosk.raw", 8<<20)
	noise := make([]byte, 8<<20)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(noise) // never fails
	_, err := drive.WriteAt(noise, 0)
	require.NoError(t, err)
	drive.Scratch(5<<20, 4096)
	s := world(t)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "kiosk", Folder: filepath.Dir(drive.Path)})
	require.NoError(t, err)
	j := testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Convert,
		As:          "qcow2",
		Source:      plan.Place{Pool: "kiosk", Path: "gate-kiosk.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "gate-kiosk.qcow2"},
	})
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	p.Open(s.Address + "/jobs/" + j.Id)
	p.AwaitText("Something of the source cannot be read")
	p.AwaitText("It waits for an answer")
	p.Click("Put zeros in the place of what cannot be read, here and further on: the copy is then damaged, and says where")
	p.AwaitText("the answer to what to do about it was to put zeros there")
	ended := testkit.Await(t, s.Service, j.Id)
	require.Equal(t, api.JobOutcomeDamaged, *ended.Outcome)
}

// TestTheConsoleSaysThatTheServiceIsAway, and takes up what it missed when that is there again.
func TestTheConsoleSaysThatTheServiceIsAway(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.AwaitText("Nothing runs")
	s.Kill()
	p.AwaitText("The service does not answer")
	s = testkit.Start(t, s.State, "--listen", strings.TrimPrefix(s.Address, "http://"))
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind:        plan.Copy,
		Source:      plan.Place{Pool: "quay-store", Path: "tide-board.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "tide-board.raw"},
	}).Id)
	p.Await(`!document.body.innerText.includes("The service does not answer")`)
	p.AwaitText("quay-store:tide-board.raw")
}
