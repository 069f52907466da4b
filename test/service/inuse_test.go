package service

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/storage/blocks"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// writes has a log written to a folder until it is told to stop, each line with its number, synced, one a millisecond: more would fill the disk. It
// returns how many lines there are by now.
func writes(t *testing.T, dir string) (lines func() int64, stop func()) {
	t.Helper()
	f, err := os.Create(filepath.Join(dir, "gate.log"))
	require.NoError(t, err)
	var n atomic.Int64
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		pace := time.NewTicker(time.Millisecond)
		defer pace.Stop()
		for {
			select {
			case <-end:
				return
			case <-pace.C:
			}
			line := make([]byte, 512)
			binary.BigEndian.PutUint64(line, uint64(n.Load()+1))
			_, err := f.Write(line)
			if err == nil {
				err = f.Sync()
			}
			if err != nil {
				t.Errorf("writing line %d: %v", n.Load()+1, err)
				return
			}
			n.Add(1)
		}
	}()
	return n.Load, ending(t, f, end, ended)
}

// ending is what ends somebody who writes to a file, once, and at the end of the test.
func ending(t *testing.T, f *os.File, end chan<- struct{}, ended <-chan struct{}) func() {
	stop := sync.OnceFunc(func() {
		close(end)
		<-ended
		_ = f.Close() // it was synced
	})
	t.Cleanup(stop)
	return stop
}

// inUse is the request for a disk that is.
func inUse(r plan.Request, how string) plan.Request {
	r.InUse, r.Without = how, nil
	return r
}

// TestADiskInUseIsFrozen while it is read: whoever writes waits, and goes on afterwards; the image has all that was written before, and is clean.
func TestADiskInUseIsFrozen(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	s := start(t)
	dir := t.TempDir()
	addPool(t, s.Service, "quay-store", dir)
	at, umount := l.Mount(2, "rw")
	lines, stop := writes(t, at)
	require.Eventually(t, func() bool { return lines() > 3 }, time.Minute, time.Millisecond)
	p, err := s.Plan(t.Context(), captured(l, "kiosk.qcow2"))
	require.NoError(t, err)
	require.True(t, p.Plan.Blocked())
	var ways []string
	for _, r := range p.Plan.With(plan.Blocks)[0].Remedies {
		ways = append(ways, string(r.Change))
	}
	assert.Equal(t, []string{`{"in_use":"freeze"}`, `{"in_use":"keep-up"}`, `{"in_use":"as-it-is"}`}, ways)

	before := lines()
	r := testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, inUse(captured(l, "kiosk.qcow2"), plan.InUseFreeze)).Id)
	assert.Contains(t, strings.Join(r.Doubts, " "), "power cut")
	assert.Contains(t, strings.Join(r.Remarks, " "), "were frozen while it was read")
	assert.Equal(t, inspect.StateClean, r.Partitions[1].State)
	assert.Positive(t, r.Partitions[1].Skipped, "what is free is known while it is frozen")
	now := lines()
	require.Eventually(t, func() bool { return lines() > now }, time.Minute, time.Millisecond, "whoever writes goes on")
	body, size, _, err := s.Take(
		t.Context(),
		plan.Place{Pool: "quay-store", Path: "kiosk.qcow2"},
		inspect.Spot{Partition: 2, Path: "gate.log"},
	)
	require.NoError(t, err)
	defer body.Close()
	assert.GreaterOrEqual(t, size, before*512, "all that was synced before is there")
	line := make([]byte, 512)
	for i := range size / 512 {
		_, err := io.ReadFull(body, line)
		require.NoError(t, err)
		require.Equal(t, uint64(i+1), binary.BigEndian.Uint64(line))
	}

	// It is not frozen for as long as reading takes: nothing is made.
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 8 << 20})
	short := inUse(captured(l, "short.qcow2"), plan.InUseFreeze)
	short.LongestFreeze, short.UsedOnly = 1, false
	j := testkit.Await(t, s.Service, testkit.Begin(t, s.Service, short).Id)
	assert.Equal(t, string(receipt.Failed), string(*j.Outcome))
	assert.Contains(t, *j.Reason, "thawed before all was read")
	assert.NoFileExists(t, filepath.Join(dir, "short.qcow2"))

	// Whoever froze it is killed: it goes on all the same.
	long := inUse(captured(l, "long.qcow2"), plan.InUseFreeze)
	long.LongestFreeze, long.UsedOnly = 600, false
	j = testkit.Begin(t, s.Service, long)
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 0 })
	halted := lines()
	s.Kill()
	require.Eventually(t, func() bool { return lines() > halted+1 }, time.Minute, time.Millisecond, "the watchdog lets it go on")
	stop()
	umount()
	out, err := exec.Command("e2fsck", "-f", "-n", l.Part(2)).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// TestADiskInUseAsItIs is read, and never called proven where somebody wrote to it meanwhile.
func TestADiskInUseAsItIs(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	at, _ := l.Mount(2, "rw,noinit_itable") // its system writes nothing by itself
	require.NoError(t, exec.CommandContext(t.Context(), "sync", "-f", at).Run())
	still := ended(t, s.Service, inUse(captured(l, "still.qcow2"), plan.InUseAsItIs))
	assert.Equal(t, receipt.Proven, still.Outcome, "nobody wrote to it")
	assert.Contains(t, strings.Join(still.Doubts, " "), "read as it is")
	assert.Contains(t, still.Partitions[1].Whole, "mounted")
	_, stop := writes(t, at)
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 40 << 20})
	torn := ended(t, s.Service, inUse(captured(l, "torn.qcow2"), plan.InUseAsItIs))
	stop()
	assert.Equal(t, receipt.Unproven, torn.Outcome, fmt.Sprint(torn.Reason))
	assert.Contains(t, strings.Join(torn.Doubts, " "), "somebody wrote to the disk")
	wrong := inUse(captured(l, "x.qcow2"), "somehow")
	_, err := s.Plan(t.Context(), wrong)
	require.ErrorContains(t, err, `is read "freeze", "keep-up" or "as-it-is"`)
	assert.True(t, bytes.Contains([]byte(torn.Reason), []byte("never like that at one moment")))
}

// hook puts a program onto this computer that is told of a disk, and returns its name and what it was told.
func hook(t *testing.T, disk string) (name string, said func() string) {
	t.Helper()
	heard := filepath.Join(t.TempDir(), "heard")
	require.NoError(t, os.MkdirAll(blocks.Hooks, 0o755))
	name = fmt.Sprintf("gate-%d-%d", os.Getpid(), time.Now().UnixNano())
	hook := filepath.Join(blocks.Hooks, name)
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho \"$1 $2\" >> "+heard+"\n"), 0o755))
	t.Cleanup(func() {
		_ = os.Remove(hook)
		_ = os.Remove(blocks.Hooks) // where nothing else is in them
		_ = os.Remove(filepath.Dir(blocks.Hooks))
	})
	return name, func() string {
		text, err := os.ReadFile(heard)
		if err != nil {
			return ""
		}
		return strings.ReplaceAll(string(text), disk, "DEVICE")
	}
}

// TestAProgramIsTold of a freeze, before and afterwards, also when whoever froze is killed; where it does not want that, nothing is frozen.
func TestAProgramIsTold(t *testing.T) {
	t.Parallel()
	l := gateKiosk(t, 512)
	name, said := hook(t, l.Path)
	s := start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	l.Mount(2, "rw")
	r := inUse(captured(l, "kiosk.qcow2"), plan.InUseFreeze)
	r.Tell = name
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	assert.Equal(t, "before DEVICE\nafter DEVICE\n", said())

	r.Destination, r.UsedOnly, r.LongestFreeze = &plan.Place{Pool: "quay-store", Path: "long.qcow2"}, false, 600
	testkit.Limit(t, s.Service, api.Limit{Scope: "service", Jobs: 1, Speed: 8 << 20})
	j := testkit.Begin(t, s.Service, r)
	testkit.Await(t, s.Service, j.Id, func(j api.Job) bool { return j.Progress != nil && j.Progress.Done > 0 })
	s.Kill()
	require.Eventually(
		t,
		func() bool { return said() == "before DEVICE\nafter DEVICE\nbefore DEVICE\nafter DEVICE\n" },
		10*time.Second,
		5*time.Millisecond,
	)

	require.NoError(t, os.WriteFile(filepath.Join(blocks.Hooks, name), []byte("#!/bin/sh\nexit 1\n"), 0o755))
	s = start(t)
	addPool(t, s.Service, "quay-store", t.TempDir())
	failed := ended(t, s.Service, r)
	assert.Equal(t, receipt.Failed, failed.Outcome)
	assert.Contains(t, failed.Reason, "telling "+filepath.Join(blocks.Hooks, name))
	r.Tell = "../gate"
	_, err := s.Plan(t.Context(), r)
	require.ErrorContains(t, err, "is no name of a program")
}
