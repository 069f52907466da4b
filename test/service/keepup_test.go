package service

import (
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/storage/blocks"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/loops"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ledgerBlocks are the blocks of a ledger, which are written to at random.
const ledgerBlocks = 4000

// keepsALedger writes to random blocks of a file until it is told to stop: each block has its number, how often it was written to, and a count of all writes.
// Every hundred are synced.
func keepsALedger(t *testing.T, dir string) (count func() int64, stop func()) {
	t.Helper()
	f, err := os.Create(filepath.Join(dir, "ledger.db"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(ledgerBlocks*4096))
	var n atomic.Int64
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		random := rand.New(rand.NewPCG(1, 7))
		block := make([]byte, 4096)
		for {
			select {
			case <-end:
				return
			case <-time.After(50 * time.Microsecond):
			}
			number := random.Int64N(ledgerBlocks)
			for i := 0; i < len(block); i += 16 {
				binary.BigEndian.PutUint64(block[i:], uint64(number))
				binary.BigEndian.PutUint64(block[i+8:], uint64(n.Load()+1))
			}
			_, err := f.WriteAt(block, number*4096)
			if err == nil && n.Load()%100 == 0 {
				err = f.Sync()
			}
			if err != nil {
				t.Errorf("writing to the ledger: %v", err)
				return
			}
			n.Add(1)
		}
	}()
	return n.Load, ending(t, f, end, ended)
}

// isOneMoment fails where a ledger is none of one moment: the last writes to its blocks, counted, have no gap that a later write could have filled.
func isOneMoment(t *testing.T, r io.Reader, least, most int64) {
	t.Helper()
	random, last := rand.New(rand.NewPCG(1, 7)), map[int64]int64{}
	var newest int64
	got := make([]int64, ledgerBlocks)
	block := make([]byte, 4096)
	for number := range got {
		_, err := io.ReadFull(r, block)
		require.NoError(t, err)
		got[number] = int64(binary.BigEndian.Uint64(block[8:]))
		for i := 0; i < len(block); i += 16 {
			require.Equal(t, got[number], int64(binary.BigEndian.Uint64(block[i+8:])), "block %d is torn", number)
			if got[number] > 0 {
				require.Equal(t, uint64(number), binary.BigEndian.Uint64(block[i:]))
			}
		}
		newest = max(newest, got[number])
	}
	for n := int64(1); n <= newest; n++ {
		last[random.Int64N(ledgerBlocks)] = n
	}
	for number := range got {
		require.Equal(t, last[int64(number)], got[number], "block %d, of a ledger with %d writes", number, newest)
	}
	assert.GreaterOrEqual(t, newest, least)
	assert.LessOrEqual(t, newest, most)
}

// ledgerOf reads the ledger on an image.
func ledgerOf(t *testing.T, s *testkit.Service, image plan.Place) io.Reader {
	t.Helper()
	body, _, _, err := s.Take(t.Context(), image, inspect.Spot{Partition: 2, Path: "ledger.db"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = body.Close() })
	return body
}

// tellsWrites skips a test where the kernel does not tell what is written to a disk.
func tellsWrites(t *testing.T, l *loops.Loop) {
	t.Helper()
	c, err := blocks.Open().Changes(t.Context(), l.Name())
	if errors.Is(err, blocks.ErrUntold) {
		t.Skip(err)
	}
	require.NoError(t, err)
	require.NoError(t, c.Close())
}

// TestADiskThatIsKeptUpWith: it is read while somebody writes to it, and is what it was at one moment, which is none before it was read. Whoever writes waits
// for no more than a moment.
func TestADiskThatIsKeptUpWith(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	l := gateKiosk(t, 512)
	tellsWrites(t, l)
	s := start(t)
	dir := t.TempDir()
	addPool(t, s.Service, "quay-store", dir)
	at, umount := l.Mount(2, "rw")
	count, stop := keepsALedger(t, at)
	require.Eventually(t, func() bool { return count() > 300 }, time.Minute, time.Millisecond)

	for _, c := range []struct {
		name string
		used bool
	}{{"used.qcow2", true}, {"whole.qcow2", false}} {
		r := inUse(captured(l, c.name), plan.InUseKeepUp)
		r.UsedOnly, r.LongestFreeze, r.Without = c.used, 30, []string{"3"}
		j := slowly(t, s.Service, r, 40<<20)
		awaitJob(t, s.Service, j.Id, far(8<<20))
		before := count()
		lift(t, s.Service, j.Id)
		done := testkit.Proven(t, s.Service, j.Id)
		now := count()
		assert.Contains(t, strings.Join(done.Doubts, " "), "power cut")
		assert.Contains(t, strings.Join(done.Remarks, " "), "was copied in")
		assert.Equal(t, inspect.StateClean, done.Partitions[1].State)
		assert.Equal(t, c.used, done.Partitions[1].Skipped > 0)
		assert.Equal(t, c.used, done.BytesRead < 180<<20, "only what was written to is read again: %d", done.BytesRead)
		isOneMoment(t, ledgerOf(t, s, plan.Place{Pool: "quay-store", Path: c.name}), before, now)
		require.Eventually(t, func() bool { return count() > now+100 }, time.Minute, time.Millisecond, "whoever writes goes on")
	}

	// It is killed in the middle: what was written meanwhile is not known, and all is read again.
	r := inUse(captured(l, "killed.qcow2"), plan.InUseKeepUp)
	r.UsedOnly, r.LongestFreeze = false, 30
	j := slowly(t, s.Service, r, 16<<20)
	awaitJob(t, s.Service, j.Id, far(60<<20))
	s.Kill()
	s = testkit.Start(t, s.State)
	lift(t, s.Service, j.Id)
	before := count()
	done := testkit.Proven(t, s.Service, j.Id)
	assert.Equal(t, 1, done.Resumed)
	isOneMoment(t, ledgerOf(t, s, plan.Place{Pool: "quay-store", Path: "killed.qcow2"}), before, count())
	stop()
	umount()
	out, err := exec.Command("e2fsck", "-f", "-n", l.Part(2)).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// TestADiskOfAnotherComputerIsKeptUpWith over SSH, also by a login that has sudo only, and nothing is left there.
func TestADiskOfAnotherComputerIsKeptUpWith(t *testing.T) {
	t.Parallel()
	fewer.Sometimes(t)
	l := gateKiosk(t, 512)
	tellsWrites(t, l)
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	server := sshd.Start(t)
	server.Crew("fsfreeze", "dd", "blockdev", "sh")
	lighthouse(t, s, server)
	at, _ := l.Mount(2, "rw")
	count, _ := keepsALedger(t, at)
	require.Eventually(t, func() bool { return count() > 300 }, time.Minute, time.Millisecond)
	r := inUse(captured(l, "far.qcow2"), plan.InUseKeepUp)
	r.Source.Pool, r.LongestFreeze = plan.DevicesOf("lighthouse"), 30
	before := count()
	done := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Contains(t, strings.Join(done.Remarks, " "), "was copied in")
	isOneMoment(t, ledgerOf(t, s, plan.Place{Pool: "quay-store", Path: "far.qcow2"}), before, count())
}

// TestWhatCannotBeKeptUpWith is said before: what is compressed, or gets another size.
func TestWhatCannotBeKeptUpWith(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	l.Mount(2, "rw")
	for why, change := range map[string]func(r *plan.Request){
		"cannot be written twice":          func(r *plan.Request) { r.Layout = "compressed" },
		"capture it as it is, and then re": func(r *plan.Request) { r.Size = 300 << 20 },
	} {
		r := inUse(captured(l, "x.qcow2"), plan.InUseKeepUp)
		change(&r)
		p, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		assert.True(t, p.Plan.Blocked())
		assert.Contains(t, messages(p.Plan), why)
	}
}
