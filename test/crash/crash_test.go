// Package crash kills the service at random moments and at every named point of the code, and looks at what is left with its own eyes.
package crash

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

// layout is one of those that can be written.
type layout struct{ format, name, extension string }

func (l layout) String() string { return l.format + "-" + l.name }

// yard is where the killing goes on.
type yard struct {
	t                *testing.T
	quay, lighthouse string
	state            string
	source, old      []byte // contents of the disk that is copied, and of one that is replaced
	rand             *rand.Rand
	points           map[layout][]string // that a job of the layout passes, each as often as it does
	swaps            map[layout][]string // likewise, when it replaces something
	todo             []string            // points at which nothing was killed yet
	span             map[layout]time.Duration

	kills, midway, resumed, anew, past int
}

// TestKilledAtAnyMoment: the source is what it was, under its final name an image is whole or absent or still the old one, and after
// the restart the job goes on by itself and ends as proven. BAGAGLIO_KILLS says how many kills.
func TestKilledAtAnyMoment(t *testing.T) {
	kills := 4
	if n, err := strconv.Atoi(os.Getenv("BAGAGLIO_KILLS")); err == nil {
		kills = n
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	y := &yard{
		t: t, quay: t.TempDir(), lighthouse: t.TempDir(), state: filepath.Join(t.TempDir(), "state"),
		rand: rand.New(rand.NewPCG(seed, 1)), points: map[layout][]string{}, swaps: map[layout][]string{}, span: map[layout]time.Duration{},
	}
	y.source, y.old = y.content(1, 48*mib), y.content(2, 48*mib)
	require.NoError(t, os.WriteFile(filepath.Join(y.quay, "cargo-ledger.raw"), y.source, 0o400))
	require.NoError(t, os.WriteFile(filepath.Join(y.quay, "old.raw"), y.old, 0o400))
	layouts := fewer.Of(t, 4, y.layouts())
	y.prepare(layouts)
	for y.kills < kills || y.resumed == 0 && y.kills < 5*kills { // a few may all come before anything was kept
		y.rand.Shuffle(len(layouts), func(i, j int) { layouts[i], layouts[j] = layouts[j], layouts[i] })
		for _, l := range layouts[:min(len(layouts), max(kills-y.kills, 1))] {
			y.trial(l)
		}
	}
	t.Logf(
		"kills tried %d, in the middle of a job %d: gone on %d, begun anew %d, past the end %d; lost 0",
		y.kills,
		y.midway,
		y.resumed,
		y.anew,
		y.past,
	)
	if kills >= 200 {
		assert.Empty(t, y.todo, "points of the code at which nothing was killed")
	}
	assert.Positive(t, y.resumed, "no kill came when something was done: the test tested nothing")
}

func (y *yard) content(seed byte, n int) []byte {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{seed})
	for at := 0; at < n; at += 3 * mib { // with holes between
		_, _ = r.Read(b[at:min(at+2*mib, n)]) // never fails
	}
	return b
}

func (y *yard) layouts() (out []layout) {
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			out = append(out, layout{f.Name, l.Name, f.Extensions[0]})
		}
	}
	return out
}

// start starts the service; killAt may be empty.
func (y *yard) start(killAt, points string) *testkit.Service {
	y.t.Helper()
	return testkit.StartBinary(
		y.t,
		testkit.Torture(y.t),
		[]string{"BAGAGLIO_KILL_AT=" + killAt, "BAGAGLIO_POINTS=" + points},
		y.state,
		"--checkpoint",
		"15ms",
	)
}

// prepare adds the pools and what layouts stand on, and finds the points that each layout passes.
func (y *yard) prepare(layouts []layout) {
	t := y.t
	points := filepath.Join(t.TempDir(), "points")
	s := y.start("", points)
	for name, dir := range map[string]string{"quay-store": y.quay, "lighthouse-store": y.lighthouse} {
		_, err := s.AddPool(t.Context(), api.NewPool{Name: name, Folder: dir})
		require.NoError(t, err)
	}
	for _, l := range layouts {
		if base := "base" + l.extension; y.base(l) != "" {
			if _, err := os.Stat(filepath.Join(y.lighthouse, base)); err != nil {
				y.await(s, y.begin(s, plan.Request{Source: place("quay-store", "old.raw"), Destination: at(base), As: l.format}))
			}
		}
		for _, replace := range []bool{false, true} {
			require.NoError(t, os.WriteFile(points, nil, 0o600))
			began := time.Now()
			name := "measure" + l.extension
			if l.name == "pieces" {
				name = "measure.raw.001"
			}
			y.await(s, y.begin(s, y.request(l, name, replace)))
			b, err := os.ReadFile(points)
			require.NoError(t, err)
			passed := strings.Split(strings.TrimSpace(string(b)), "\n")
			if replace {
				y.swaps[l] = passed
			} else {
				y.points[l], y.span[l] = passed, time.Since(began)
			}
			for _, p := range passed {
				if !slices.Contains(y.todo, p) {
					y.todo = append(y.todo, p)
				}
			}
		}
		y.remove("measure")
		require.NoError(t, os.RemoveAll(filepath.Join(y.lighthouse, ".bagaglio")))
	}
	s.Stop()
	t.Logf("%d named points: %s", len(y.todo), strings.Join(y.todo, ", "))
}

// point is where to kill: one of those at which nothing was killed yet, at its first passing, or any.
func (y *yard) point(passed []string) string {
	for i, p := range y.todo {
		if slices.Contains(passed, p) {
			y.todo = slices.Delete(y.todo, i, i+1)
			return p + ":1"
		}
	}
	of, n := passed[y.rand.IntN(len(passed))], 0
	for _, p := range passed {
		if p == of {
			n++
		}
	}
	return fmt.Sprintf("%s:%d", of, 1+y.rand.IntN(n))
}

func place(pool, path string) plan.Place { return plan.Place{Pool: pool, Path: path} }

func at(path string) *plan.Place {
	p := place("lighthouse-store", path)
	return &p
}

func (y *yard) base(l layout) string {
	f, err := disk.Lookup(l.format)
	require.NoError(y.t, err)
	row, err := f.Layout(l.name)
	require.NoError(y.t, err)
	if row.Stands {
		return "base" + l.extension
	}
	return ""
}

func (y *yard) request(l layout, name string, replace bool) plan.Request {
	return plan.Request{
		Source:      place("quay-store", "cargo-ledger.raw"),
		Destination: at(name),
		As:          l.format,
		Layout:      l.name,
		Base:        y.base(l),
		Replace:     replace,
	}
}

func (y *yard) begin(s *testkit.Service, r plan.Request) string {
	y.t.Helper()
	if r.Kind == "" {
		r.Kind = plan.Convert
	}
	kept, err := s.Plan(y.t.Context(), r)
	require.NoError(y.t, err)
	require.False(y.t, kept.Blocked, "%+v", kept.Plan.Checks)
	j, err := s.Start(y.t.Context(), api.NewJob{Plan: kept.Id})
	require.NoError(y.t, err)
	return j.Id
}

// started starts a request, during which the service may be killed: the job is in the records all the same, since it runs.
func (y *yard) started(s *testkit.Service, r plan.Request) {
	y.t.Helper()
	if r.Kind == "" {
		r.Kind = plan.Convert
	}
	kept, err := s.Plan(y.t.Context(), r)
	require.NoError(y.t, err)
	_, _ = s.Start(y.t.Context(), api.NewJob{Plan: kept.Id})
}

// awaitLast returns when the newest job or the service has ended.
func (y *yard) awaitLast(s *testkit.Service) {
	if jobs, err := s.Jobs(y.t.Context(), 1); err == nil {
		y.await(s, jobs[0].Id)
	}
}

// await follows a job to its end, or to that of the service.
func (y *yard) await(s *testkit.Service, id string) (last api.Job) {
	for j, err := range s.Follow(y.t.Context(), id) {
		if err != nil {
			return last
		}
		last = j
	}
	return last
}

// trial kills one job, once or twice, and has it end.
func (y *yard) trial(l layout) {
	t := y.t
	y.kills++
	replace := y.rand.IntN(3) == 0
	name := "ledger" + l.extension
	if l.name == "pieces" {
		name = "ledger.raw.001"
	}
	if replace {
		s := y.start("", "")
		old := y.request(l, name, false)
		old.Source.Path = "old.raw"
		y.await(s, y.begin(s, old))
		s.Stop()
	}
	point, span := "", time.Duration(0)
	if y.rand.IntN(2) == 0 {
		passed := y.points[l]
		if replace {
			passed = y.swaps[l]
		}
		point = y.point(passed)
	} else {
		span = time.Duration(y.rand.Int64N(int64(y.span[l])))
	}
	what := fmt.Sprintf("kill %d: %s, replace %v, at %q after %v", y.kills, l, replace, point, span)
	s := y.start(point, "")
	y.started(s, y.request(l, name, replace))
	if point != "" {
		y.awaitLast(s)
	} else {
		<-time.NewTimer(span).C
	}
	s.Kill()
	y.check(what, name, replace)
	if y.rand.IntN(4) == 0 { // and once more while it goes on
		s = y.start("", "")
		<-time.NewTimer(time.Duration(y.rand.Int64N(int64(y.span[l])))).C
		s.Kill()
		y.check(what+", twice", name, replace)
	}
	s = y.start("", "")
	jobs, err := s.Jobs(t.Context(), 1)
	require.NoError(t, err)
	j := jobs[0]
	id := j.Id
	ended := j.Ended
	if !ended {
		y.midway++
		j = y.await(s, id)
	}
	if j.State != api.JobStateDone {
		require.NotNil(t, j.Reason)
		t.Fatalf("%s: ended as %s: %s", what, j.State, *j.Reason)
	}
	receipt, err := s.Receipt(t.Context(), id)
	require.NoError(t, err)
	require.Equal(t, "proven", string(receipt.Outcome), what)
	switch {
	case ended:
		y.past++
	case receipt.Resumed > 0:
		y.resumed++
	default:
		y.anew++
	}
	s.Stop()
	require.True(t, bytes.Equal(y.source, y.read(name)), "%s: what ended as proven is not the source", what)
	require.NoDirExists(t, filepath.Join(y.lighthouse, ".bagaglio", "staging"), what)
	held, err := filepath.Glob(filepath.Join(y.lighthouse, ".bagaglio", "held", "*", "held.json"))
	require.NoError(t, err)
	require.Len(t, held, map[bool]int{true: 1}[replace], what)
	require.NoError(t, os.RemoveAll(filepath.Join(y.lighthouse, ".bagaglio")))
	y.remove("ledger")
}

func (y *yard) remove(stem string) {
	names, err := filepath.Glob(filepath.Join(y.lighthouse, stem+"*"))
	require.NoError(y.t, err)
	for _, name := range names {
		require.NoError(y.t, os.RemoveAll(name))
	}
}

// check looks at the files while no service runs.
func (y *yard) check(what, name string, replaces bool) {
	t := y.t
	b, err := os.ReadFile(filepath.Join(y.quay, "cargo-ledger.raw"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(y.source, b), "%s: the source was written to", what)
	if y.absent(name) {
		held, err := filepath.Glob(filepath.Join(y.lighthouse, ".bagaglio", "held", "*", "held.json"))
		require.NoError(t, err)
		require.Len(t, held, map[bool]int{true: 1}[replaces], "%s: what was to be replaced is gone", what)
		return
	}
	got := y.read(name)
	whole := bytes.Equal(y.source, got) || replaces && bytes.Equal(y.old, got)
	require.True(t, whole, "%s: %s is there and not whole", what, name)
}

// absent tells whether nothing can be opened under a name. A folder is a disk once its descriptor is there.
func (y *yard) absent(name string) bool {
	path := filepath.Join(y.lighthouse, name)
	info, err := os.Stat(path)
	if err == nil && info.IsDir() {
		_, err = os.Stat(filepath.Join(path, "DiskDescriptor.xml"))
	}
	return os.IsNotExist(err)
}

// read returns the content of an image: with our own eyes where it lies there as it is, otherwise through the binary.
func (y *yard) read(name string) []byte {
	t := y.t
	path := filepath.Join(y.lighthouse, name)
	if strings.HasSuffix(name, ".raw") {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		return b
	}
	if strings.HasSuffix(name, ".001") {
		pieces, err := filepath.Glob(strings.TrimSuffix(path, "001") + "[0-9][0-9][0-9]")
		require.NoError(t, err)
		slices.Sort(pieces)
		var all []byte
		for _, p := range pieces {
			b, err := os.ReadFile(p)
			require.NoError(t, err)
			all = append(all, b...)
		}
		return all
	}
	back := filepath.Join(t.TempDir(), "back.raw")
	out, err := exec.Command(testkit.Binary(t), "convert", path, back, "--no-proof", "--no-tag").CombinedOutput()
	require.NoError(t, err, "%s", out)
	b, err := os.ReadFile(back)
	require.NoError(t, err)
	require.NoError(t, os.Remove(back))
	return b
}
