package disks

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	_ "bagaglio/core/inspect/all"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// filled has the disk of a world be one filesystem with files, and gives it a folder for what is made on the way.
func (w *world) filled() {
	w.t.Helper()
	tree := w.t.TempDir()
	for i := range 20 {
		require.NoError(w.t, os.WriteFile(filepath.Join(tree, fmt.Sprintf("gate-%d.log", i)), bytes.Repeat([]byte{byte(i + 1)}, 10_000*i), 0o644))
	}
	name := filepath.Join(w.from, "gate-kiosk.raw")
	require.NoError(w.t, os.Chmod(name, 0o600))
	require.NoError(w.t, os.Truncate(name, 0))
	require.NoError(w.t, os.Truncate(name, 64<<20))
	out, err := exec.Command("mkfs.ext4", "-q", "-F", "-d", tree, name).CombinedOutput()
	require.NoError(w.t, err, "%s", out)
	w.source, err = os.ReadFile(name)
	require.NoError(w.t, err)
	w.ends.Scratch = filepath.Join(w.t.TempDir(), "scratch")
}

// toFit is the request for a disk with another size.
func toFit() plan.Request {
	r := toQcow2()
	r.Size = 40 << 20
	return r
}

func TestADiskIsMadeToFit(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*plan.Request)
		size   int64
	}{
		{"smaller", func(*plan.Request) {}, 40 << 20},
		{"larger", func(r *plan.Request) { r.Size = 150 << 20 }, 150 << 20},
		{"larger, in a layout that counts in larger units", func(r *plan.Request) { r.Size, r.As, r.Destination.Path = 150<<20+1, "vhd", "kiosk.vhd" }, 150<<20 + 512},
		{"only what is used", func(r *plan.Request) { r.UsedOnly = true }, 40 << 20},
		{"as small as possible", func(r *plan.Request) { r.Size, r.Smallest = 0, true }, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			w.filled()
			r := toFit()
			c.change(&r)
			done, err := solo{ID: "fit", Ends: w.ends, Plan: w.plan(r)}.Run(t.Context())
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, done.Outcome)
			assert.Equal(t, receipt.FromFitted, done.Source.FingerprintFrom)
			require.NotNil(t, done.Fit)
			assert.Equal(t, 21, done.Fit.Parts[0].Files, "and lost+found")
			assert.Contains(t, done.Compared, "every file")
			if c.size > 0 {
				assert.GreaterOrEqual(t, done.Destination.VirtualSize, c.size)
				assert.Less(t, done.Destination.VirtualSize, c.size+unitOfAll)
			} else {
				assert.Less(t, done.Destination.VirtualSize, int64(40<<20))
			}
			again := plan.Request{Kind: plan.Prove, Source: plan.Place{Path: r.Destination.Path}, Tag: plan.TagBeside}
			there := *w
			there.ends = step.Ends{Source: w.ends.Destination}
			proven, err := solo{ID: "again", Ends: there.ends, Plan: there.plan(again)}.Run(t.Context())
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, proven.Outcome, "its tag fits to it")
			assert.Equal(t, done.Destination.Fingerprint, proven.Source.Fingerprint)
			left, err := os.ReadDir(w.ends.Scratch)
			require.NoError(t, err)
			assert.Empty(t, left, "what was made on the way is gone")
			now, err := os.ReadFile(filepath.Join(w.from, "gate-kiosk.raw"))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(w.source, now), "the source is as it was")
		})
	}
}

// unitOfAll is what a layout may round a size up to.
const unitOfAll = 1 << 20

// TestFittingDoesNotLie: the tools of the system damage a file, somebody damages what was made on the way, and the source changes meanwhile. Nothing is
// proven then, and nothing gets a name.
func TestFittingDoesNotLie(t *testing.T) {
	damage := func(t *testing.T, name string) {
		t.Helper()
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		at := bytes.Index(b, bytes.Repeat([]byte{20}, 8000))
		require.Positive(t, at)
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte("x"), int64(at)+4000)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	for _, c := range []struct {
		name, want string
		at         string // the step
		do         func(t *testing.T, w *world)
	}{
		{"what was made on the way is damaged", "gate-19.log has other content than before", plan.StepFill, func(t *testing.T, w *world) {
			damage(t, filepath.Join(w.ends.Scratch, "fit", "0.raw"))
		}},
		{"the source changes while it is made to fit", "the source changed while it was copied", plan.StepFit, func(t *testing.T, w *world) {
			damage(t, filepath.Join(w.from, "gate-kiosk.raw"))
		}},
		{"the source changes while it is copied", "the source changed while it was copied", plan.StepFill, func(t *testing.T, w *world) {
			damage(t, filepath.Join(w.from, "gate-kiosk.raw"))
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			w.filled()
			once := false
			task := solo{ID: "fit", Ends: w.ends, Plan: w.plan(toFit()), Watch: func(p step.Progress) {
				if p.Step == c.at && !once {
					once = true
					c.do(t, w)
				}
			}}
			done, err := task.Run(t.Context())
			require.True(t, once)
			require.ErrorContains(t, err, c.want)
			assert.NotEqual(t, receipt.Proven, done.Outcome)
			assert.Empty(t, lying(t, w.to))
		})
	}
	t.Run("the tool loses a file", func(t *testing.T) {
		w := newWorld(t)
		w.filled()
		real, err := exec.LookPath("resize2fs")
		require.NoError(t, err)
		tools := t.TempDir()
		require.NoError(
			t,
			os.WriteFile(
				filepath.Join(tools, "resize2fs"),
				[]byte("#!/bin/sh\n"+real+" \"$@\" || exit\ndebugfs -w -R 'rm gate-7.log' \"$1\"\n"),
				0o755,
			),
		)
		t.Setenv("PATH", tools+":"+os.Getenv("PATH"))
		done, err := solo{ID: "fit", Ends: w.ends, Plan: w.plan(toFit())}.Run(t.Context())
		require.ErrorIs(t, err, step.ErrNotProven)
		require.ErrorContains(t, err, "gate-7.log is not there any more")
		assert.NotEqual(t, receipt.Proven, done.Outcome)
		assert.Empty(t, lying(t, w.to))
	})
}

// TestFittingGoesOn: set aside in each step; what was made on the way is still there, or lost meanwhile, and then all of it is made anew: two times of a
// tool do not make the same bytes.
func TestFittingGoesOn(t *testing.T) {
	for _, at := range []string{plan.StepFit, plan.StepFill, plan.StepProve} {
		for _, lost := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, lost %v", at, lost), func(t *testing.T) {
				w := newWorld(t)
				w.filled()
				ctx, stop := context.WithCancelCause(t.Context())
				task := solo{ID: "fit", Ends: w.ends, Plan: w.plan(toFit()), Records: &notebook{}}
				task.Watch = func(p step.Progress) {
					if p.Step == at {
						stop(step.ErrSetAside)
					}
				}
				_, err := task.Run(ctx)
				require.ErrorIs(t, err, step.ErrSetAside)
				if lost {
					require.NoError(t, os.RemoveAll(w.ends.Scratch))
				}
				task.Watch = nil
				done, err := task.Run(t.Context())
				require.NoError(t, err)
				assert.Equal(t, receipt.Proven, done.Outcome)
				assert.Equal(t, 21, done.Fit.Parts[0].Files)
			})
		}
	}
}

// TestSizesThatCannotBe are said before, with what is possible.
func TestSizesThatCannotBe(t *testing.T) {
	w := newWorld(t)
	w.filled()
	r := toFit()
	r.Size = 1 << 20
	p, err := Prepare(t.Context(), w.ends, r, step.Known{})
	require.NoError(t, err)
	require.True(t, p.Blocked())
	stop := p.With(plan.Blocks)[0]
	assert.Contains(t, stop.Message, "The smallest size that is possible is")
	require.Len(t, stop.Remedies, 1)
	assert.JSONEq(t, `{"size":null,"smallest":true}`, string(stop.Remedies[0].Change))
	for name, change := range map[string]func(*plan.Request){
		"not both":                   func(r *plan.Request) { r.Smallest = true },
		"give it a size":             func(r *plan.Request) { r.Size, r.Grow = 0, "1" },
		"does not change meanwhile":  func(r *plan.Request) { r.Recopy = true },
		"cannot have a size of -512": func(r *plan.Request) { r.Size = -512 },
	} {
		r := toFit()
		change(&r)
		_, err := Prepare(t.Context(), w.ends, r, step.Known{})
		require.ErrorIs(t, err, plan.ErrRequest)
		assert.ErrorContains(t, err, name)
	}
}
