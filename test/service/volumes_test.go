package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/sshd"
	group "bagaglio/internal/testkit/volumes"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAPoolOfVolumes: disks are converted to volumes and out of them, moved in with their definitions, renamed, replaced, held and given back, like files.
func TestAPoolOfVolumes(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	for _, c := range []struct {
		name  string
		there bool
	}{{"of this computer", false}, {"of another one", true}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			g := group.New(t, "isola", 256<<20)
			s := testkit.StartBinary(t, testkit.Binary(t), []string{"PATH=" + g.Path()}, filepath.Join(t.TempDir(), "state"))
			quay, beside := s.Pool("quay-store"), t.TempDir()
			n := api.NewPool{Name: "lighthouse-volumes", Folder: beside, Volumes: ptr("lvm:isola")}
			if c.there {
				server := sshd.Start(t, "SetEnv PATH="+g.Path())
				lighthouse(t, s, server)
				n.Host = ptr("lighthouse")
			}
			pool, err := s.AddPool(t.Context(), n)
			require.NoError(t, err)
			assert.Equal(t, "lvm:isola", *pool.Volumes)
			assert.Equal(t, []plan.Accepted{{Format: "raw", Layouts: []string{"thin", "thick"}}}, pool.Rules.Accepts)
			assert.Equal(t, int64(4<<20), pool.Rules.Granularity)
			n.Name, n.Folder = "again", t.TempDir()
			_, err = s.AddPool(t.Context(), n)
			require.ErrorContains(t, err, "by the pool lighthouse-volumes")

			noise(t, quay, "crew-roster.raw", 6*mib)
			odd, err := s.Plan(t.Context(), plan.Request{
				Kind: plan.Convert, As: "raw", Source: plan.Place{Pool: "quay-store", Path: "crew-roster.raw"},
				Destination: &plan.Place{Pool: "lighthouse-volumes", Path: "crew-roster.raw"},
			})
			require.NoError(t, err)
			assert.True(t, odd.Blocked, "no volume can have that size")
			assert.Contains(t, messages(odd.Plan), "accepts sizes in units of 4.0 MiB")

			noise(t, quay, "tides/tide-board.raw", 8*mib)
			definition := filepath.Join(quay, "tides", "tide-board.xml")
			const domain = "<domain type='x'>\n  <name>tide-board</name>\n  <devices><disk type=\"%s\" device='disk'><driver type='raw'/><source %s=\"%s\"/></disk></devices>\n</domain>\n"
			require.NoError(t, os.WriteFile(definition, fmt.Appendf(nil, domain, "file", "file", quay+"/tides/tide-board.raw"), 0o600))
			moved := testkit.Begin(t, s.Service, plan.Request{
				Kind: plan.Copy, Release: true, Source: plan.Place{Pool: "quay-store", Path: "tides/tide-board.raw"},
				Destination: &plan.Place{Pool: "lighthouse-volumes", Path: "machines/tide-board.raw"},
			})
			in := testkit.Proven(t, s.Service, moved.Id)
			assert.Equal(t, []string{"machines+2Ftide-board"}, g.Volumes(t))
			assert.FileExists(t, filepath.Join(beside, "machines", "tide-board.raw.bagtag"))
			text, err := os.ReadFile(definition)
			require.NoError(t, err)
			if c.there { // the definition is of another host
				assert.Contains(t, string(text), quay)
			} else {
				assert.Equal(t, fmt.Sprintf(domain, "block", "dev", "/dev/isola/machines+2Ftide-board"), string(text))
			}

			g.Open(t, "machines+2Ftide-board", true)
			out := plan.Request{
				Kind: plan.Convert, As: "qcow2", Source: plan.Place{Pool: "lighthouse-volumes", Path: "machines/tide-board.raw"},
				Destination: &plan.Place{Pool: "quay-store", Path: "back.qcow2"},
			}
			used, err := s.Plan(t.Context(), out)
			require.NoError(t, err)
			assert.True(t, used.Blocked, "it is open on its host: %+v", used.Plan.Checks)
			g.Open(t, "machines+2Ftide-board", false)
			back := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, out).Id)
			assert.Equal(t, in.Source.Fingerprint, back.Destination.Fingerprint)

			// Over it comes another one: the old volume is held, and comes back.
			noise(t, quay, "new.raw", 8*mib)
			over := plan.Request{
				Kind: plan.Convert, As: "raw", Replace: true, Source: plan.Place{Pool: "quay-store", Path: "new.raw"},
				Destination: &plan.Place{Pool: "lighthouse-volumes", Path: "machines/tide-board.raw"},
			}
			replaced := testkit.Begin(t, s.Service, over)
			now := testkit.Proven(t, s.Service, replaced.Id)
			assert.NotEqual(t, in.Source.Fingerprint, now.Source.Fingerprint)
			assert.Len(t, g.Volumes(t), 2, "the old one is held")
			undone := testkit.Await(t, s.Service, testkit.Begin(t, s.Service, plan.Request{Kind: plan.Undo, Job: replaced.Id}).Id)
			assert.Equal(t, api.JobStateDone, undone.State)
			proof := plan.Request{Kind: plan.Prove, Source: out.Source, Against: in.Source.Fingerprint}
			testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, proof).Id)
			list, err := s.ListDisks(t.Context(), "lighthouse-volumes", api.ListDisksParams{Refresh: ptr(true)})
			require.NoError(t, err)
			require.Len(t, list.Items, 1)
			assert.Equal(t, "machines/tide-board.raw", list.Items[0].Path)
		})
	}
}

// TestAVolumeThatIsWrittenTo while it is read is never proven: there is no time of it that would tell.
func TestAVolumeThatIsWrittenTo(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	g := group.New(t, "isola", 256<<20)
	s := testkit.StartBinary(t, testkit.Binary(t), []string{"PATH=" + g.Path()}, filepath.Join(t.TempDir(), "state"))
	quay := s.Pool("quay-store")
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "volumes", Folder: t.TempDir(), Volumes: ptr("lvm:isola/tides")})
	require.NoError(t, err)
	noise(t, quay, "cargo.raw", 64*mib)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "raw", Source: plan.Place{Pool: "quay-store", Path: "cargo.raw"},
		Destination: &plan.Place{Pool: "volumes", Path: "cargo.raw"},
	}).Id)
	j := slowly(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "qcow2", AsItIs: true, Source: plan.Place{Pool: "volumes", Path: "cargo.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "back.qcow2"},
	}, 8*mib)
	awaitJob(t, s.Service, j.Id, far(16*mib))
	device, err := os.OpenFile(g.Device("cargo"), os.O_WRONLY|os.O_SYNC, 0)
	require.NoError(t, err)
	_, err = device.WriteAt([]byte("somebody writes here"), 100)
	require.NoError(t, errors.Join(err, device.Close()))
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1})
	ended := testkit.Await(t, s.Service, j.Id)
	assert.Equal(t, api.JobOutcomeFailed, *ended.Outcome)
	assert.Contains(t, *ended.Reason, "the source changed while it was copied")
	assert.NoFileExists(t, filepath.Join(quay, "back.qcow2"))

	// From a snapshot it is read as it was at that moment, and nothing is left of that, also where the service is killed.
	g.Open(t, "cargo", true)
	r := plan.Request{
		Kind:        plan.Convert,
		As:          "qcow2",
		Source:      plan.Place{Pool: "volumes", Path: "cargo.raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "back.qcow2"},
	}
	used, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	require.True(t, used.Plan.Blocked())
	assert.JSONEq(t, `{"in_use":"snapshot"}`, string(used.Plan.With(plan.Blocks)[0].Remedies[0].Change))
	r.InUse = plan.InUseSnapshot
	was, err := os.ReadFile(g.Device("cargo"))
	require.NoError(t, err)
	j = slowly(t, s.Service, r, 8*mib)
	awaitJob(t, s.Service, j.Id, far(16*mib))
	assert.Len(t, g.Volumes(t), 2)
	s.Kill()
	s = testkit.StartBinary(t, testkit.Binary(t), []string{"PATH=" + g.Path()}, s.State)
	awaitJob(t, s.Service, j.Id, far(8*mib))
	device, err = os.OpenFile(g.Device("cargo"), os.O_WRONLY|os.O_SYNC, 0)
	require.NoError(t, err)
	_, err = device.WriteAt([]byte("somebody writes here again"), 60*mib)
	require.NoError(t, errors.Join(err, device.Close()))
	lift(t, s.Service, j.Id)
	done := testkit.Proven(t, s.Service, j.Id)
	assert.Contains(t, strings.Join(done.Doubts, " "), "power cut")
	assert.Contains(t, strings.Join(done.Remarks, " "), "was written to after its tag was made")
	assert.Equal(t, []string{"cargo"}, g.Volumes(t))
	require.NoError(t, os.WriteFile(filepath.Join(quay, "was.raw"), was, 0o600))
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, plan.Request{
		Kind: plan.Prove, Source: *r.Destination, AgainstDisk: &plan.Place{Pool: "quay-store", Path: "was.raw"},
	}).Id)
}

// TestAServiceIsKilledOverAVolume: the job goes on behind what it has, and nothing is left over.
func TestAServiceIsKilledOverAVolume(t *testing.T) {
	t.Parallel()
	g := group.New(t, "isola", 256<<20)
	state, env := filepath.Join(t.TempDir(), "state"), []string{"PATH=" + g.Path()}
	s := testkit.StartBinary(t, testkit.Binary(t), env, state)
	quay := s.Pool("quay-store")
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "volumes", Folder: t.TempDir(), Volumes: ptr("lvm:isola")})
	require.NoError(t, err)
	noise(t, quay, "cargo.raw", 96*mib)
	j := slowly(t, s.Service, plan.Request{
		Kind: plan.Convert, As: "raw", Source: plan.Place{Pool: "quay-store", Path: "cargo.raw"},
		Destination: &plan.Place{Pool: "volumes", Path: "cargo.raw"},
	}, 16*mib)
	awaitJob(t, s.Service, j.Id, far(48*mib))
	s.Kill()
	s = testkit.StartBinary(t, testkit.Binary(t), env, state)
	lift(t, s.Service, j.Id)
	done := testkit.Proven(t, s.Service, j.Id)
	assert.Equal(t, 1, done.Resumed)
	assert.Less(t, done.BytesRead, int64((2*96+48)*mib), "it went on behind its last mark")
	assert.Equal(t, []string{"cargo"}, g.Volumes(t))
}
