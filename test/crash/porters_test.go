package crash

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/engines"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chaos is a service with two porters that reach the same storage, of which anything may die at any moment.
type chaos struct {
	t       *testing.T
	s       *testkit.Service
	address string // that porters connect to
	porters []*testkit.Porter
	folder  string
	engines *engines.Cluster // that keep the records too, nil where none do
	keptFor string           // what their recovery key is known by
	random  *rand.Rand
	did     []string
}

func newChaos(t *testing.T, seed uint64) *chaos {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	x := &chaos{t: t, address: l.Addr().String(), folder: t.TempDir(), random: rand.New(rand.NewPCG(seed, 21))}
	require.NoError(t, l.Close())
	all := fewer.Times(0, 1) == 1 // what takes minutes
	if all && x.random.IntN(4) == 0 {
		x.did = append(x.did, "three engines")
		x.engines = engines.Start(t, 3)
		made := testkit.Run(t, t.TempDir(), "", "recovery", "key")
		require.Zero(t, made.Code, made.Notes)
		_, x.keptFor, _ = strings.Cut(strings.Split(made.Out, "\n")[0], "known by ")
	}
	x.start(filepath.Join(t.TempDir(), "state"))
	for _, name := range []string{"annex", "beacon"} {
		if off := time.Duration(x.random.IntN(3)-1) * time.Hour; all && off != 0 {
			x.did = append(x.did, fmt.Sprint(name, " is off by ", off))
			x.porters = append(x.porters, testkit.JoinOff(t, x.s, name, off))
			continue
		}
		x.porters = append(x.porters, testkit.Join(t, x.s, name))
	}
	host := "annex"
	_, err = x.s.AddPool(t.Context(), api.NewPool{Name: "annex-store", Host: &host, Folder: x.folder})
	require.NoError(t, err)
	_, err = x.s.AddWay(t.Context(), "annex-store", api.Way{Host: "beacon", Folder: x.folder})
	require.NoError(t, err)
	testkit.Noise(t, filepath.Join(x.folder, "ticketing.raw"), 24<<20)
	return x
}

func (x *chaos) start(state string) {
	args := []string{"--porters", x.address, "--checkpoint", "50ms"}
	if x.engines != nil {
		args = append(args, "--engine", x.engines.URL, "--engine-copies", "3", "--recovery-to", x.keptFor)
	}
	x.s = testkit.Start(x.t, state, args...)
}

// trouble does something bad, and returns what makes it good again.
func (x *chaos) trouble() (heal func()) {
	p := x.porters[x.random.IntN(len(x.porters))]
	what := x.random.IntN(6)
	if x.engines != nil && x.random.IntN(3) == 0 {
		one := x.random.IntN(3)
		x.did = append(x.did, fmt.Sprintf("engine %d killed", one))
		x.engines.Kill(one)
		return func() { x.engines.Restart(one) }
	}
	x.did = append(
		x.did,
		fmt.Sprint(p.Name, " ", []string{"killed", "stopped", "cut off", "frozen", "drained", "and the service killed"}[what]),
	)
	switch what {
	case 0:
		p.Kill()
		return p.Start
	case 1:
		p.Stop()
		return p.Start
	case 2:
		p.Line.Cut(true)
		return func() { p.Line.Cut(false) }
	case 3:
		p.Signal(syscall.SIGSTOP)
		return func() { p.Signal(syscall.SIGCONT) }
	case 4:
		_, err := x.s.DrainPorter(x.t.Context(), p.Name)
		require.NoError(x.t, err)
		return func() {
			_, err := x.s.PausePorter(x.t.Context(), p.Name, false)
			require.NoError(x.t, err)
		}
	}
	x.s.Kill()
	return func() { x.start(x.s.State) }
}

// TestPortersAtRandom: porters, lines and the service die, freeze and are cut at random while jobs run. Nothing is lost, each job ends proven, its image is the disk, and nothing is left
// over; no job was begun by two at a time.
func TestPortersAtRandom(t *testing.T) {
	t.Parallel()
	for run := range fewer.Times(1, 300) {
		seed := rand.Uint64()
		t.Run(fmt.Sprint(run), func(t *testing.T) { atRandom(t, seed) })
	}
}

func atRandom(t *testing.T, seed uint64) {
	x := newChaos(t, seed)
	defer func() { t.Logf("seed %d: %v", seed, x.did) }()
	speed, none := int64(6<<20), int64(0)
	var jobs []string
	for i, kind := range []string{plan.Convert, plan.Copy, plan.Convert} {
		r := plan.Request{
			Kind: kind, Source: plan.Place{Pool: "annex-store", Path: "ticketing.raw"},
			Destination: &plan.Place{Pool: "annex-store", Path: fmt.Sprintf("%d.raw", i)},
		}
		if kind == plan.Convert {
			r.As, r.Destination.Path = "qcow2", fmt.Sprintf("%d.qcow2", i)
		}
		job := testkit.Begin(t, x.s.Service, r)
		jobs = append(jobs, job.Id)
		_, err := x.s.Change(t.Context(), job.Id, api.JobChange{Speed: &speed})
		require.NoError(t, err)
	}
	for range 4 {
		time.Sleep(time.Duration(x.random.IntN(700)) * time.Millisecond) // any moment
		heal := x.trouble()
		time.Sleep(time.Duration(x.random.IntN(2500)) * time.Millisecond)
		heal()
	}
	for _, id := range jobs {
		if _, err := x.s.Change(t.Context(), id, api.JobChange{Speed: &none}); err != nil {
			require.ErrorContains(t, err, "has ended")
		}
	}
	for _, p := range x.porters {
		p.Connected(x.s)
	}
	want, err := os.ReadFile(filepath.Join(x.folder, "ticketing.raw"))
	require.NoError(t, err)
	folder, err := local.Open(x.folder)
	require.NoError(t, err)
	defer folder.Close()
	for _, id := range jobs {
		done := testkit.Proven(t, x.s.Service, id)
		r, err := disk.Open(t.Context(), folder, done.Destination.Place.Path, "")
		require.NoError(t, err)
		got := make([]byte, len(want))
		_, err = r.ReadAt(got, 0)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		assert.True(t, bytes.Equal(want, got), "job %s", id)
	}
	assert.NoDirExists(t, filepath.Join(x.folder, disks.StagingFolder))
	entries, err := os.ReadDir(x.folder)
	require.NoError(t, err)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	slices.Sort(names)
	assert.Equal(t, []string{
		".bagaglio", "0.qcow2", "0.qcow2.bagtag", "1.raw", "1.raw.bagtag", "2.qcow2", "2.qcow2.bagtag", "ticketing.raw",
	}, names)
	x.inTurn(jobs)
	for _, p := range x.porters { // which would tell their service first that they end, and that ends before them
		p.Kill()
	}
}

// inTurn checks the log: what a porter began of a job, it began when nobody else had it, or no more.
func (x *chaos) inTurn(jobs []string) {
	leases, err := x.s.Leases(x.t.Context())
	require.NoError(x.t, err)
	assert.Empty(x.t, leases)
	events, err := x.s.Events(x.t.Context(), 0, "job ", 1000)
	require.NoError(x.t, err)
	for _, id := range jobs {
		running, ended := false, 0
		for _, e := range slices.Backward(events) { // the newest comes first
			if e.Subject != "job "+id {
				continue
			}
			switch e.What {
			case "started":
				assert.False(x.t, running, "job %s: %v", id, events)
				running = true
			case "set aside", "found interrupted":
				running = false
			case "ended":
				ended++
			}
		}
		assert.Equal(x.t, 1, ended, "job %s", id)
	}
}
