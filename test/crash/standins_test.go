package crash

import (
	"bufio"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/host"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pond is two stand-ins, one of this computer, and a guest on the first one that keeps a log of what it writes.
type pond struct {
	voyage
	here, there *standins.Host
}

func newPond(t *testing.T) *pond {
	t.Helper()
	x := &pond{voyage: voyage{t: t, state: filepath.Join(t.TempDir(), "state")}}
	s := testkit.Start(t, x.state)
	traits := standin.Traits{Writes: true, Layers: true}
	x.here = standins.Start(t, t.TempDir(), traits)
	kind := "standin"
	_, err := s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &kind, Machines: &x.here.URL})
	require.NoError(t, err)
	for _, pool := range []string{"lamp-room", "gallery"} {
		folder := filepath.Join(x.here.Folder, pool)
		require.NoError(t, os.Mkdir(folder, 0o700))
		_, err := s.AddPool(t.Context(), api.NewPool{Name: pool, Folder: folder})
		require.NoError(t, err)
	}
	x.there = standins.Join(t, s.Service, "lighthouse", "lantern", traits)
	disk := filepath.Join(x.here.Folder, "lamp-room", "ticketing.raw")
	require.NoError(t, os.WriteFile(disk, standins.Boots(4*mib), 0o600))
	_, err = x.here.Define([]byte(standins.Definition("ticketing", standins.TicketingID, disk, "raw")))
	require.NoError(t, err)
	_, err = x.here.Start(t.Context(), standin.Which{Name: "ticketing"})
	require.NoError(t, err)
	s.Stop()
	return x
}

// ended: it runs in one place, from one disk that has all that is in the logs, and nothing is left over.
func (x *pond) ended(w way, outcome api.JobOutcome) {
	t := x.t
	t.Helper()
	old := filepath.Join(x.here.Folder, "lamp-room", "ticketing.raw")
	on, image := x.here, filepath.Join(x.here.Folder, "gallery", "ticketing", "ticketing.qcow2")
	if w.request.To == "lighthouse" {
		on, image = x.there, filepath.Join(x.there.Folder, "ticketing", "ticketing.qcow2")
	}
	if outcome != "proven" {
		on, image = x.here, old
	}
	which := standin.Which{Name: "ticketing"}
	for _, h := range []*standins.Host{x.here, x.there} {
		all := h.List()
		if h != on {
			require.Empty(t, all)
			continue
		}
		require.Len(t, all, 1)
		assert.Equal(t, host.Running, all[0].State)
		files, err := h.Layers(t.Context(), which, "hda")
		require.NoError(t, err)
		assert.Equal(t, []string{image}, files)
		_, err = h.CutOff(which)
		require.NoError(t, err)
	}
	for _, dir := range []string{filepath.Dir(old), filepath.Dir(image)} {
		left, err := filepath.Glob(filepath.Join(dir, "*-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	content := contentOf(t, image)
	assert.Positive(t, standins.Counted(t, content))
	last := map[int64]standin.Written{}
	for _, h := range []*standins.Host{x.here, x.there} {
		logged(t, h, last)
	}
	if image == old { // what it wrote elsewhere in between is told of, and is not taken back to it
		clear(last)
		logged(t, x.here, last)
	}
	require.NotEmpty(t, last)
	if w.request.WithMemory && outcome == "proven" {
		x.goesOn()
	}
	for off, written := range last {
		assert.Equal(t, string(written.Sector()), string(content[off:off+512]), "what was written at %d", off)
	}
}

// goesOn sees that the guest began once, and went on from what it had in memory ever since.
func (x *pond) goesOn() {
	first, last := int64(math.MaxInt64), int64(0)
	for _, h := range []*standins.Host{x.here, x.there} {
		all := map[int64]standin.Written{}
		logged(x.t, h, all)
		for _, w := range all {
			first, last = min(first, w.Stamp), max(last, w.Stamp)
		}
	}
	assert.Less(x.t, last-first, int64(1_000_000), "it began anew")
}

// logged adds what guests of a host wrote last, by offsets.
func logged(t *testing.T, h *standins.Host, last map[int64]standin.Written) {
	t.Helper()
	file, err := os.Open(filepath.Join(h.State, standin.WritesLog))
	require.NoError(t, err)
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		var w standin.Written
		require.NoError(t, json.Unmarshal(lines.Bytes(), &w))
		if w.Stamp > last[w.Offset].Stamp {
			last[w.Offset] = w
		}
	}
}

// disturb does something at a random moment.
func (x *pond) disturb(random *rand.Rand, span int) func(*testkit.Service) {
	after, lasts := time.Duration(random.IntN(span))*time.Millisecond, time.Duration(random.IntN(1500))*time.Millisecond
	what := random.IntN(4)
	host, line := []*standins.Host{x.here, x.there}[random.IntN(2)], int32(standins.Lost+random.IntN(2))
	x.t.Logf("%d after %v, for %v", what, after, lasts)
	return func(s *testkit.Service) {
		time.Sleep(after) // a random moment
		if what > 0 {
			s.Kill()
			return
		}
		host.Line(line)
		time.Sleep(lasts) // likewise
		host.Line(standins.Arrive)
	}
}

// TestStandInsAreCarriedWhileTheyRun: a machine of a stand-in that writes all the time is carried in each way, while at random moments the service is killed, or hosts do not get
// what they are asked, or nobody gets their answers. It ends as proven, or the machine goes on where it was; each write that is in its log is on its disk.
func TestStandInsAreCarriedWhileTheyRun(t *testing.T) {
	fewer.Sometimes(t)
	runs := len(ways)
	if n, err := strconv.Atoi(os.Getenv("BAGAGLIO_KILLS")); err == nil {
		runs = n
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	names := slices.Sorted(maps.Keys(ways))
	for n := range runs {
		name := names[n%len(names)]
		t.Run(fmt.Sprintf("%d, %s", n, name), func(t *testing.T) {
			x, w := newPond(t), ways[name]
			w.passes = min(w.passes, 1+random.IntN(11))
			span := 3500 // about what it takes, in milliseconds
			if name == "storage" {
				span = 250
			}
			outcome := api.JobOutcome("")
			for range 1 + random.IntN(3) {
				if outcome != "" {
					break
				}
				disturb := x.disturb(random, span)
				var done sync.WaitGroup
				outcome = x.run(w, "", func(s *testkit.Service) { done.Go(func() { disturb(s) }) })
				done.Wait()
			}
			if outcome == "" {
				outcome = x.run(w, "", func(*testkit.Service) {})
			}
			t.Logf("it ended as %s", outcome)
			require.NotEmpty(t, outcome)
			x.ended(w, outcome)
		})
	}
}
