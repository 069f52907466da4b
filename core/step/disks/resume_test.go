package disks

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"iter"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"
	"bagaglio/core/storage/faulty"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// notebook keeps records as the store does: as bytes.
type notebook struct {
	state []byte
	marks map[string][][]byte
}

func (n *notebook) Load(context.Context) (*step.Journal, error) {
	if n.state == nil {
		return nil, nil
	}
	j := &step.Journal{}
	return j, json.Unmarshal(n.state, j)
}

func (n *notebook) Keep(_ context.Context, j step.Journal, mark *step.Mark) (err error) {
	if mark != nil {
		if n.marks == nil {
			n.marks = map[string][][]byte{}
		}
		n.marks[mark.Step] = append(n.marks[mark.Step], mark.Mark)
	}
	n.state, err = json.Marshal(j)
	return err
}

func (n *notebook) Marks(_ context.Context, stage string) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		for _, m := range n.marks[stage] {
			if !yield(m, nil) {
				return
			}
		}
	}
}

func (n *notebook) Forget(ctx context.Context, subject string, j step.Journal) error {
	maps.DeleteFunc(n.marks, func(of string, _ [][]byte) bool { return step.Subject(of) == subject })
	return n.Keep(ctx, j, nil)
}

// asideAt sets the task aside when so many bytes have been asked for, in all.
func (w *world) asideAt(p plan.Plan, bytes int64) (receipt.Receipt, error) {
	ctx, stop := context.WithCancelCause(w.t.Context())
	defer stop(nil)
	var asked atomic.Int64
	task := w.task(p)
	task.Wait = func(_ context.Context, n int64) error {
		if asked.Add(n) > bytes {
			stop(step.ErrSetAside)
		}
		return nil
	}
	return task.Run(ctx)
}

func (w *world) task(p plan.Plan) solo {
	return solo{ID: "test-1", Ends: w.ends, Plan: p, Records: w.records, Hold: time.Hour, By: "job 1"}
}

// TestGoesOnWhereItWas, in the writing and in the proof.
func TestGoesOnWhereItWas(t *testing.T) {
	for name, layout := range map[string]string{"in places": "thin", "encoded": "compressed"} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.records = &notebook{}
			request := toQcow2()
			request.Layout = layout
			p := w.plan(request)
			var r receipt.Receipt
			for i, after := range []int64{9 << 20, 9 << 20, 5 << 20} {
				var err error
				r, err = w.asideAt(p, after)
				if err == nil {
					break
				}
				require.ErrorIs(t, err, step.ErrSetAside)
				assert.DirExists(t, filepath.Join(w.to, StagingFolder, "test-1"), "round %d", i)
			}
			r, err := w.task(p).Run(t.Context())
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, r.Outcome)
			assert.Positive(t, r.Resumed)
			assert.Empty(t, r.Remarks)
			w.untouched("gate-kiosk.qcow2")
		})
	}
}

// TestNamesAreGivenWithoutTheSource: what was proven before the process ended gets its name, whatever has become of the source.
func TestNamesAreGivenWithoutTheSource(t *testing.T) {
	w := newWorld(t)
	w.records = &notebook{}
	ctx, stop := context.WithCancelCause(t.Context())
	defer stop(nil)
	p := w.plan(toQcow2())
	task := w.task(p)
	task.Watch = func(p step.Progress) {
		if p.Step == plan.StepPublish {
			stop(step.ErrSetAside)
		}
	}
	_, err := task.Run(ctx)
	require.ErrorIs(t, err, step.ErrSetAside)
	source := filepath.Join(w.from, "gate-kiosk.raw")
	require.NoError(t, os.Rename(source, source+".away"))
	r, err := w.task(p).Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	require.NoError(t, os.Rename(source+".away", source))
	w.untouched("gate-kiosk.qcow2")
}

// TestRestoredAsAWhole: power is cut behind every operation of holding and restoring an image of three files. The one that makes it
// openable is only there when all are, none is ever gone, and restoring goes on from there.
func TestRestoredAsAWhole(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	files := []string{"deck/disk.vmdk", "deck/disk-s002.vmdk", "deck/disk-s001.vmdk"} // the one that opens it first
	pool := faulty.New(false)
	for _, name := range files {
		f, err := pool.Create(name)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte(name), 0)
		require.NoError(t, errors.Join(err, f.Sync()))
	}
	require.NoError(t, errors.Join(pool.Sync("deck"), pool.Sync(".")))
	begin := pool.Len()
	require.NoError(t, hold(pool, Held{ID: "one", Path: files[0], Files: files, Until: time.Now()}, func(file string) string { return file }))
	_, err := Restore(pool, "one", false, time.Hour)
	require.NoError(t, err)
	for n := begin; n <= pool.Len(); n++ {
		cut, _ := pool.Cut(n, r)
		there := 0
		for _, name := range files {
			_, err := cut.Stat(name)
			_, heldErr := cut.Stat(HeldFolder + "/one/files/" + name)
			require.True(t, err == nil || heldErr == nil, "%s is gone behind operation %d", name, n-begin)
			if err == nil {
				there++
			}
		}
		if _, err := cut.Stat(files[0]); err == nil {
			require.Equal(t, len(files), there, "behind operation %d it can be opened and is not whole", n-begin)
			continue
		}
		_, err := Restore(cut, "one", false, time.Hour)
		require.NoError(t, err, "behind operation %d", n-begin)
		for _, name := range files {
			_, err := cut.Stat(name)
			require.NoError(t, err)
		}
	}
}

// TestBegunAnew: what was done is of no use when the source has changed or the files are gone.
func TestBegunAnew(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(*world) error
		says string
	}{
		"source changed": {func(w *world) error {
			return os.Chtimes(filepath.Join(w.from, "gate-kiosk.raw"), time.Now(), time.Now())
		}, "since the source had changed"},
		"files gone": {func(w *world) error { return os.RemoveAll(filepath.Join(w.to, OwnFolder)) }, "since its files were gone"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.records = &notebook{}
			p := w.plan(toQcow2())
			_, err := w.asideAt(p, 9<<20)
			require.ErrorIs(t, err, step.ErrSetAside)
			require.NoError(t, c.do(w))
			r, err := w.task(p).Run(t.Context())
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, r.Outcome)
			require.Len(t, r.Remarks, 1)
			assert.Contains(t, r.Remarks[0], c.says)
			w.untouched("gate-kiosk.qcow2")
		})
	}
}

// TestSourceChangesWhileItIsCopied: nothing is put in place, or what differs is copied again; a mixture never is.
func TestSourceChangesWhileItIsCopied(t *testing.T) {
	for _, c := range []struct {
		layout string
		recopy bool
		says   string
	}{{"thin", false, ""}, {"thin", true, "were copied again"}, {"compressed", true, "from the beginning"}} {
		t.Run(c.layout, func(t *testing.T) {
			w := newWorld(t)
			path := filepath.Join(w.from, "gate-kiosk.raw")
			require.NoError(t, os.Chmod(path, 0o600))
			request := toQcow2()
			request.Layout, request.Recopy = c.layout, c.recopy
			task := w.task(w.plan(request))
			var asked atomic.Int64
			task.Wait = func(_ context.Context, n int64) error {
				if asked.Add(n) != n { // once, when the first block is asked for
					return nil
				}
				// A block that was data becomes zeros, one that was zeros data.
				copy(w.source[2<<20:], make([]byte, 1<<20))
				copy(w.source[20<<20:], bytes.Repeat([]byte("tide"), 1000))
				f, err := os.OpenFile(path, os.O_WRONLY, 0)
				if err == nil {
					_, err = f.WriteAt(w.source[2<<20:3<<20], 2<<20)
				}
				if err == nil {
					_, err = f.WriteAt(w.source[20<<20:21<<20], 20<<20)
				}
				return errors.Join(err, f.Close())
			}
			r, err := task.Run(t.Context())
			if !c.recopy {
				require.ErrorContains(t, err, "the source changed while it was copied")
				assert.Equal(t, receipt.Failed, r.Outcome)
				w.untouched()
				return
			}
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, r.Outcome)
			require.NotEmpty(t, r.Remarks)
			assert.Contains(t, r.Remarks[0], c.says)
			assert.Equal(t, w.fingerprint(), r.Destination.Fingerprint, "the copy is what the source is now")
			w.untouched("gate-kiosk.qcow2")
		})
	}
}

// fingerprint is that of the content that the source has.
func (w *world) fingerprint() string {
	leaves := fingerprint.NewLeaves(int64(len(w.source)))
	for at := 0; at < len(w.source); at += fingerprint.LeafSize {
		leaves.Append(fingerprint.Leaf(w.source[at:min(at+fingerprint.LeafSize, len(w.source))]))
	}
	sum, err := leaves.Sum()
	require.NoError(w.t, err)
	return sum.String()
}

// TestSourceInUse: a disk that another program has locked, or has open for writing, is found before and while it is read.
func TestSourceInUse(t *testing.T) {
	for name, take := range map[string]func(*os.File) error{
		"open for writing": func(*os.File) error { return nil },
		"locked":           func(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_EX) },
		"locked a part": func(f *os.File) error {
			return unix.FcntlFlock(f.Fd(), unix.F_OFD_SETLK, &unix.Flock_t{Type: unix.F_WRLCK, Start: 100, Len: 1})
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			path := filepath.Join(w.from, "gate-kiosk.raw")
			require.NoError(t, os.Chmod(path, 0o600))
			before := w.plan(toQcow2())
			require.False(t, before.Blocked(), "%+v", before.Checks)
			f, err := os.OpenFile(path, os.O_RDWR, 0)
			require.NoError(t, err)
			defer f.Close()
			require.NoError(t, take(f))
			p := w.plan(toQcow2())
			require.True(t, p.Blocked())
			assert.Contains(t, p.Checks[1].Message, "in use")
			_, err = w.run(t.Context(), before, nil)
			require.ErrorIs(t, err, step.ErrInUse)
			require.NoError(t, f.Close())

			task := w.task(before)
			var held *os.File
			var once sync.Once // several workers ask
			task.Wait = func(context.Context, int64) (err error) {
				once.Do(func() {
					if held, err = os.OpenFile(path, os.O_RDWR, 0); err == nil {
						err = take(held)
					}
				})
				return err
			}
			_, err = task.Run(t.Context())
			require.ErrorIs(t, err, step.ErrInUse)
			require.NoError(t, held.Close())
			w.untouched()
		})
	}
}

// scratched is a folder whose files cannot be read in some ranges, always or only now and then.
type scratched struct {
	storage.Folder
	ranges []fingerprint.Range
	every  int64 // every how many reads one fails, when not 0
	short  bool  // large reads give half, and no error
	delay  time.Duration
	reads  *atomic.Int64
}

func (s scratched) Fresh() storage.Folder { return s }

func (s scratched) Open(name string) (storage.File, error) {
	f, err := s.Folder.Open(name)
	return &scratchedFile{f, s}, err
}

func (s scratched) Create(name string) (storage.File, error) {
	f, err := s.Folder.Create(name)
	return &scratchedFile{f, s}, err
}

type scratchedFile struct {
	storage.File
	on scratched
}

func (f *scratchedFile) Range(off int64) (int64, bool, error) {
	return f.File.(storage.RangeFinder).Range(off)
}

func (f *scratchedFile) ReadAt(p []byte, off int64) (int, error) {
	if f.on.every > 0 && f.on.reads.Add(1)%f.on.every == 0 {
		return 0, syscall.EIO
	}
	time.Sleep(f.on.delay)
	if f.on.short && len(p) > 1<<20 {
		return f.File.ReadAt(p[:len(p)/2], off)
	}
	for _, r := range f.on.ranges {
		if off < r.Offset+r.Length && off+int64(len(p)) > r.Offset {
			return 0, syscall.EIO
		}
	}
	return f.File.ReadAt(p, off)
}

func (f *scratchedFile) WriteAt(p []byte, off int64) (int, error) {
	if f.on.every > 0 && f.on.reads.Add(1)%f.on.every == 0 {
		return 0, syscall.EAGAIN
	}
	return f.File.WriteAt(p, off)
}

// TestRoomFromWhatIsHeld: on request what is held goes before anything is written.
func TestRoomFromWhatIsHeld(t *testing.T) {
	w := newWorld(t)
	request := toQcow2()
	for range 2 {
		_, err := w.run(t.Context(), w.plan(request), nil)
		require.NoError(t, err)
		request.Replace = true
	}
	held, err := ListHeld(w.ends.Destination)
	require.NoError(t, err)
	require.Len(t, held, 1)
	request.ClearHeld = true
	p := w.plan(request)
	said := ""
	for _, c := range p.Checks {
		said += c.Message
	}
	assert.Contains(t, said, "is removed for good before anything is written")
	r, err := w.run(t.Context(), p, nil)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(r.Remarks, "\n"), "what was held of gate-kiosk.qcow2 was removed to make room")
	now, err := ListHeld(w.ends.Destination)
	require.NoError(t, err)
	require.Len(t, now, 1, "the one that was replaced just now")
	assert.True(t, now[0].Since.After(held[0].Since) || now[0].Since.Equal(held[0].Since))
	dropped, err := DropExpired(w.ends.Destination, time.Now().Add(2*time.Hour))
	require.NoError(t, err)
	assert.Len(t, dropped, 1)
	w.untouched("gate-kiosk.qcow2")
}

var unreadable = []fingerprint.Range{{Offset: 3 << 20, Length: 512}, {Offset: 5<<20 + 1000, Length: 3000}}

// TestUnreadableRanges: the job stops and says where; on request it goes on, and says what is missing.
func TestUnreadableRanges(t *testing.T) {
	w := newWorld(t)
	w.ends.Source = scratched{Folder: w.ends.Source, ranges: unreadable}
	request := toQcow2()
	r, err := w.run(t.Context(), w.plan(request), nil)
	require.ErrorIs(t, err, syscall.EIO)
	assert.Contains(t, r.Reason, "reading the source at offset")
	w.untouched()

	request.PastDamage = true
	r, err = w.run(t.Context(), w.plan(request), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Damaged, r.Outcome)
	assert.Equal(t, []fingerprint.Range{{Offset: 3 << 20, Length: 512}, {Offset: 5<<20 + 512, Length: 3584}}, r.Unreadable)
	for _, u := range r.Unreadable {
		clear(w.source[u.Offset : u.Offset+u.Length])
	}
	assert.Equal(t, w.fingerprint(), r.Destination.Fingerprint, "everything else arrived")
	var text strings.Builder
	require.NoError(t, r.WriteText(&text))
	assert.Contains(t, text.String(), "DAMAGED")
	assert.Contains(t, text.String(), "Unreadable")
}

// TestWhatFailsNowAndThenIsTriedAgain, and noted.
func TestWhatFailsNowAndThenIsTriedAgain(t *testing.T) {
	w := newWorld(t)
	p := w.plan(toQcow2())
	w.ends.Source = scratched{Folder: w.ends.Source, every: 3, reads: &atomic.Int64{}}
	w.ends.Destination = scratched{Folder: w.ends.Destination, every: 1 << 40, reads: &atomic.Int64{}}
	r, err := w.run(t.Context(), p, nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.Positive(t, r.Retries)
}

// TestStorageThatGivesLess, or takes its time: what is short never passes for whole.
func TestStorageThatGivesLess(t *testing.T) {
	w := newWorld(t)
	p := w.plan(toQcow2())
	plain := w.ends
	w.ends.Source = scratched{Folder: plain.Source, short: true}
	r, err := w.run(t.Context(), p, nil)
	require.Error(t, err)
	assert.Equal(t, receipt.Failed, r.Outcome)
	w.ends = plain
	w.untouched()
	w.ends.Source = scratched{Folder: plain.Source, delay: 3 * time.Millisecond}
	w.ends.Destination = scratched{Folder: plain.Destination, delay: 3 * time.Millisecond}
	r, err = w.run(t.Context(), p, nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	w.ends = plain
	w.untouched("gate-kiosk.qcow2")
}

// TestTags: a proof against the tag finds damage anywhere later, says which MiB, and a quick one says that it proves nothing.
func TestTags(t *testing.T) {
	w := newWorld(t)
	request := toQcow2()
	request.As, request.Destination.Path = "raw", "deck/gate-kiosk.raw"
	made, err := w.run(t.Context(), w.plan(request), nil)
	require.NoError(t, err)
	w.ends.Source = w.ends.Destination
	prove := plan.Request{Kind: plan.Prove, Source: plan.Place{Path: "deck/gate-kiosk.raw"}, Tag: plan.TagBeside}
	r, err := w.run(t.Context(), w.plan(prove), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.Equal(t, "deck/gate-kiosk.raw.bagtag", r.Tag)
	assert.Equal(t, made.Source.Fingerprint, r.Against)
	assert.Contains(t, r.Compared, "a full proof")
	assert.Less(t, r.BytesRead, int64(diskSize), "holes are not read")

	image := filepath.Join(w.to, "deck", "gate-kiosk.raw")
	f, err := os.OpenFile(image, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{w.source[7<<20+5] ^ 1}, 7<<20+5)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	r, err = w.run(t.Context(), w.plan(prove), nil)
	require.ErrorIs(t, err, step.ErrNotProven)
	assert.Equal(t, []fingerprint.Range{{Offset: 7 << 20, Length: 1 << 20}}, r.Differences)
	require.Len(t, r.Remarks, 1)
	assert.Contains(t, r.Remarks[0], "a machine that has run since")

	prove.Quick = true
	r, err = w.run(t.Context(), w.plan(prove), nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Unproven, r.Outcome)
	assert.Contains(t, r.Reason, "a quick proof says nothing about the content")
	assert.Contains(t, r.Remarks[0], "modified")
	assert.Zero(t, r.BytesRead)
	require.NoError(t, os.Truncate(image, diskSize-512))
	_, err = w.run(t.Context(), w.plan(prove), nil)
	require.ErrorContains(t, err, "the virtual size is")

	// A tag that was changed is not believed, whatever of it.
	prove.Quick = false
	tag := image + ".bagtag"
	b, err := os.ReadFile(tag)
	require.NoError(t, err)
	for _, at := range []int{12, 60, len(b) / 2, len(b) - 5} {
		spoiled := bytes.Clone(b)
		spoiled[at] ^= 1
		require.NoError(t, os.WriteFile(tag, spoiled, 0o600))
		_, err = w.run(t.Context(), w.plan(prove), nil)
		require.Error(t, err, at)
	}
	_, err = fingerprint.ReadTag(io.LimitReader(bytes.NewReader(b), int64(len(b)-20)), diskSize)
	require.ErrorIs(t, err, fingerprint.ErrTag)
}
