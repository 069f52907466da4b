package porters

import (
	"context"
	"encoding/json"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/job"
	"bagaglio/core/plan"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/local"
	"bagaglio/internal/errand"
	"bagaglio/internal/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counted are records that count what is kept.
type counted struct{ kept int }

func (c *counted) Load(context.Context) (*step.Journal, error) { return nil, nil }

func (c *counted) Keep(context.Context, step.Journal, *step.Mark) error {
	c.kept++
	return nil
}

func (c *counted) Forget(context.Context, string, step.Journal) error { return nil }

func (c *counted) Marks(context.Context, string) iter.Seq2[[]byte, error] {
	return func(func([]byte, error) bool) {}
}

// asks asks as a porter does, and returns what went wrong.
func asks[V any](t *testing.T, r *running, what string, data any) (V, error) {
	t.Helper()
	sent, err := json.Marshal(data)
	require.NoError(t, err)
	back, err := json.Marshal(r.answer(what, sent))
	require.NoError(t, err)
	var a errand.Answer[V]
	require.NoError(t, json.Unmarshal(back, &a))
	return a.Value, a.Problem.Error()
}

// TestAPorterThatWasStartedAgain begins with the same order at number 1: what it says then is done, though the one before had said as much, and that one is heard no more.
func TestAPorterThatWasStartedAgain(t *testing.T) {
	dir := t.TempDir()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	records := &counted{}
	r := &running{ctx: t.Context(), task: job.Task{
		Records: records,
		Plan: plan.Plan{Machine: &plan.Machine{Host: "annex", To: "beacon", Live: []plan.LiveDisk{{
			Cover:   plan.Place{Pool: "annex-machines", Path: "ticketing-1a-meanwhile.qcow2"},
			CoverAt: "/srv/ticketing-1a-meanwhile.qcow2",
		}}}},
		Ends: map[string]step.Ends{plan.MachineSubject: {Pools: map[string]storage.Folder{"annex-machines": folder}}},
	}}
	make1 := func(turn int64) error {
		_, err := asks[errand.Found](t, r, errand.Files, errand.Deed{
			Number: errand.Number{
				Turn: turn,
				N:    1,
			},
			Pool:    "annex-machines",
			Do:      errand.DoCreate,
			Name:    "ticketing-1a-meanwhile.qcow2",
			Content: errand.ContentOf([]byte("tide")),
		})
		return err
	}
	keep1 := func(turn int64) error {
		_, err := asks[struct{}](t, r, errand.Keep, errand.Kept{Number: errand.Number{Turn: turn, N: 1}})
		return err
	}
	for turn := int64(1); turn <= 2; turn++ {
		begun, err := asks[errand.Begun](t, r, errand.Begin, struct{}{})
		require.NoError(t, err)
		now := begun.Turn
		require.Equal(t, turn, now)
		for range 2 { // nobody answered the first time
			require.NoError(t, make1(now))
			require.NoError(t, keep1(now))
		}
		assert.Equal(t, int(turn), records.kept)
		require.NoError(t, os.Remove(filepath.Join(dir, "ticketing-1a-meanwhile.qcow2")), "it was made")
	}
	require.ErrorIs(t, make1(1), store.ErrOutdated)
	require.ErrorIs(t, keep1(1), store.ErrOutdated)
	assert.Equal(t, 2, records.kept)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// TestBesideOldDisks a porter makes what covers them, and what the machine had in memory; nothing else is changed there.
func TestBesideOldDisks(t *testing.T) {
	m := plan.Machine{
		Host: "annex",
		To:   "beacon",
		Live: []plan.LiveDisk{{
			Was:      plan.Place{Pool: "annex-machines", Path: "gate/ticketing.raw"},
			Cover:    plan.Place{Pool: "annex-machines", Path: "gate/ticketing-1a-meanwhile.qcow2"},
			CoverAt:  "/srv/gate/ticketing-1a-meanwhile.qcow2",
			Returned: plan.Place{Pool: "annex-machines", Path: "gate/ticketing-1a-back.qcow2"},
			ReturnAt: "/srv/gate/ticketing-1a-back.qcow2",
		}},
		Memory: &plan.MemoryFile{
			Was:     plan.Place{Pool: "annex-machines", Path: "gate/ticketing-1a.memory"},
			WasFile: "/srv/gate/ticketing-1a.memory",
		},
	}
	deed := func(do, name, to string) errand.Deed {
		return errand.Deed{Pool: "annex-machines", Do: do, Name: name, To: to}
	}
	for _, d := range []errand.Deed{
		deed(errand.DoCreate, "gate/ticketing-1a-meanwhile.qcow2", ""), deed(errand.DoRemove, "gate/ticketing-1a-meanwhile7.qcow2", ""),
		deed(errand.DoOwn, "./gate/ticketing-1a-back.qcow2", ""), deed(errand.DoStat, "gate/ticketing.raw", ""), deed(errand.DoList, ".", ""),
		deed(errand.DoRename, "gate/ticketing-1a.memory", "gate/ticketing-1a.memory"+plan.MemoryUsed),
	} {
		assert.NoError(t, mayBeside(m, d), "%+v", d)
	}
	for _, d := range []errand.Deed{
		deed(errand.DoRemove, "gate/ticketing.raw", ""), deed(errand.DoOwn, "gate/ticketing.raw", ""), deed(errand.DoCreate, "ticketing-1a-meanwhile.qcow2", ""),
		deed(errand.DoRename, "gate/ticketing-1a.memory", "gate/ticketing.raw"), deed(errand.DoRename, "gate/ticketing.raw", "gate/ticketing-1a.memory"),
		deed(errand.DoRemove, "gate/ticketing-1a-meanwhile7x.qcow2", ""), deed(errand.DoRemove, "gate/../../ticketing-1a-meanwhile.qcow2", ""),
		{Pool: "quay-store", Do: errand.DoRemove, Name: "gate/ticketing-1a-meanwhile.qcow2"},
	} {
		assert.ErrorIs(t, mayBeside(m, d), fs.ErrPermission, "%+v", d)
	}
	for file, its := range map[string]bool{
		"/srv/gate/ticketing-1a-meanwhile3.qcow2": true, "/srv/gate/ticketing-1a-back.qcow2": true, "/srv/gate/ticketing-1a.memory" + plan.MemoryUsed: true,
		"/srv/ticketing-1a-meanwhile.qcow2": false, "/srv/gate/ticketing.raw": false, "gate/ticketing-1a-meanwhile.qcow2": false,
	} {
		assert.Equal(t, its, m.Beside(plan.Place{Path: file}), file)
	}
}
