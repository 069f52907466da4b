package disks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage/blocks"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// overTheOld is a world whose disk goes onto one of this computer.
func overTheOld(t *testing.T) (*world, *loops.Loop, plan.Request) {
	t.Helper()
	l := loops.New(t, 32<<20, 512, "label: gpt\nstart=1MiB, size=20MiB, type=L\n")
	noise := bytes.Repeat([]byte("old gate "), 30<<20/9)
	f, err := os.OpenFile(l.Path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(noise, 1<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	w := newWorld(t)
	w.ends.Destination, w.ends.Saved = blocks.Open(), filepath.Join(t.TempDir(), "saved")
	return w, l, plan.Request{
		Kind: plan.WriteBack, Source: plan.Place{Path: "gate-kiosk.raw"}, ConfirmSerial: "33554432",
		Destination: &plan.Place{Pool: plan.DevicesOf(""), Path: l.Name()},
	}
}

func on(t *testing.T, l *loops.Loop) []byte {
	t.Helper()
	b, err := os.ReadFile(l.Path)
	require.NoError(t, err)
	return b
}

// TestADiskIsWrittenOver: also its zeros, and not what lies behind the image.
func TestADiskIsWrittenOver(t *testing.T) {
	for _, differing := range []bool{false, true} {
		w, l, r := overTheOld(t)
		r.DifferingOnly = differing
		before := on(t, l)
		done, err := solo{ID: "back", Ends: w.ends, Plan: w.plan(r)}.Run(t.Context())
		require.NoError(t, err)
		assert.Equal(t, receipt.Proven, done.Outcome)
		now := on(t, l)
		assert.True(t, bytes.Equal(w.source, now[:diskSize]))
		assert.True(t, bytes.Equal(before[diskSize:], now[diskSize:]))
		if differing {
			assert.Less(t, done.BytesWritten, int64(diskSize))
		} else {
			assert.Equal(t, int64(diskSize), done.BytesWritten)
		}
	}
}

// TestTheRestIsWiped on request only, in both ways, and read back.
func TestTheRestIsWiped(t *testing.T) {
	for _, how := range []string{plan.WipeZeros, plan.WipeDiscard} {
		w, l, r := overTheOld(t)
		r.Wipe = how
		assert.False(t, allZeros(on(t, l)[diskSize:]))
		done, err := solo{ID: "back", Ends: w.ends, Plan: w.plan(r)}.Run(t.Context())
		require.NoError(t, err)
		assert.Equal(t, receipt.Proven, done.Outcome)
		assert.Contains(t, strings.Join(done.Remarks, " "), "were wiped, and read back as zeros")
		now := on(t, l)
		assert.True(t, bytes.Equal(w.source, now[:diskSize]))
		assert.True(t, allZeros(now[diskSize:]))
	}
	w, l, r := overTheOld(t)
	r.Wipe = plan.WipeZeros
	at, damaged := "", false
	_, err := solo{
		ID: "back", Ends: w.ends, Plan: w.plan(r), Watch: func(p step.Progress) { at = p.Step },
		Wait: func(context.Context, int64) error { // before each read
			if at != plan.StepWipe || damaged {
				return nil
			}
			damaged = true
			f, err := os.OpenFile(l.Path, os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte("x"), 31<<20)
			require.NoError(t, errors.Join(err, f.Sync(), f.Close()))
			return nil
		},
	}.Run(t.Context())
	require.True(t, damaged)
	require.ErrorContains(t, err, "does not read as zeros in the MiB at offset 32505856")
}

func allZeros(b []byte) bool { return len(bytes.Trim(b, "\x00")) == 0 }

// TestWritingOverDoesNotLie: what is on the disk is damaged before it is read back; the image changes meanwhile; another disk gets the name.
func TestWritingOverDoesNotLie(t *testing.T) {
	for _, c := range []struct {
		name, want, at string
		do             func(t *testing.T, w *world, l *loops.Loop)
	}{
		{"the disk is damaged", "what was read back differs", plan.StepReadBack, func(t *testing.T, _ *world, l *loops.Loop) {
			f, err := os.OpenFile(l.Path, os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte("x"), 20<<20)
			require.NoError(t, err)
			require.NoError(t, f.Close())
		}},
		{"the image changes", "the source changed while it was copied", plan.StepOverwrite, func(t *testing.T, w *world, _ *loops.Loop) {
			name := filepath.Join(w.from, "gate-kiosk.raw")
			require.NoError(t, os.Chmod(name, 0o600))
			require.NoError(t, os.WriteFile(name, make([]byte, diskSize), 0o600))
		}},
		{"another disk", "is another disk than the one", plan.StepLook, func(_ *testing.T, _ *world, l *loops.Loop) { l.Again() }},
	} {
		t.Run(c.name, func(t *testing.T) {
			w, l, r := overTheOld(t)
			once := false
			_, err := solo{ID: "back", Ends: w.ends, Plan: w.plan(r), Watch: func(p step.Progress) {
				if p.Step == c.at && !once {
					once = true
					c.do(t, w, l)
				}
			}}.Run(t.Context())
			require.True(t, once)
			require.ErrorContains(t, err, c.want)
		})
	}
}

// TestWritingOverGoesOn: set aside in each of its steps. What was saved at first stays.
func TestWritingOverGoesOn(t *testing.T) {
	for _, at := range []string{plan.StepSave, plan.StepWipe, plan.StepOverwrite, plan.StepReadBack} {
		t.Run(fmt.Sprintf("in %s", at), func(t *testing.T) {
			w, l, r := overTheOld(t)
			r.Wipe = plan.WipeZeros
			before := on(t, l)
			ctx, stop := context.WithCancelCause(t.Context())
			task := solo{ID: "back", Ends: w.ends, Plan: w.plan(r), Records: &notebook{}}
			task.Watch = func(p step.Progress) {
				if p.Step == at {
					stop(step.ErrSetAside)
				}
			}
			_, err := task.Run(ctx)
			require.ErrorIs(t, err, step.ErrSetAside)
			task.Watch = nil
			done, err := task.Run(t.Context())
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, done.Outcome)
			assert.True(t, bytes.Equal(w.source, on(t, l)[:diskSize]))
			names, err := filepath.Glob(filepath.Join(w.ends.Saved, "*.first"))
			require.NoError(t, err)
			require.Len(t, names, 1)
			saved, err := os.ReadFile(names[0])
			require.NoError(t, err)
			assert.True(t, bytes.Equal(before[:1<<20], saved))
		})
	}
}
