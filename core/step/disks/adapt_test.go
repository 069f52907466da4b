package disks

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	"bagaglio/core/initramfs"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// canFit says why guests are not fitted here, empty where they are.
func canFit() string {
	if err := adapt.Able("ext4"); err != nil {
		return err.Error()
	}
	return ""
}

// guest has the disk of a world be a system that knows the bus SATA alone.
func (w *world) guest() {
	w.t.Helper()
	if why := canFit(); why != "" {
		w.t.Skip(why)
	}
	const version = "6.1.0-18-amd64"
	lib, tree := "lib/modules/"+version+"/", w.t.TempDir()
	for name, content := range map[string]string{
		"etc/os-release":                      "PRETTY_NAME=\"Harbour Linux 12\"\n",
		"etc/fstab":                           "/dev/sda / ext4 defaults 0 1\n",
		lib + "modules.dep":                   "kernel/virtio_blk.ko: kernel/virtio_ring.ko\nkernel/virtio_ring.ko:\nkernel/virtio_pci.ko:\n",
		lib + "kernel/virtio_blk.ko":          strings.Repeat("block", 30_000),
		lib + "kernel/virtio_ring.ko":         strings.Repeat("ring", 10_000),
		lib + "kernel/virtio_pci.ko":          strings.Repeat("pci", 10_000),
		"boot/initrd.img-" + version:          string(initramfs.Archive([]initramfs.File{{Name: "conf", Dir: true}, {Name: "conf/modules", Mode: 0o644}})),
		"home/crew/" + strings.Repeat("t", 9): strings.Repeat("the tide comes in\n", 200_000),
	} {
		require.NoError(w.t, os.MkdirAll(filepath.Dir(filepath.Join(tree, name)), 0o755))
		require.NoError(w.t, os.WriteFile(filepath.Join(tree, name), []byte(content), 0o644))
	}
	name := filepath.Join(w.from, "gate-kiosk.raw")
	require.NoError(w.t, os.Chmod(name, 0o600))
	require.NoError(w.t, os.Truncate(name, 0))
	require.NoError(w.t, os.Truncate(name, 24<<20))
	out, err := exec.CommandContext(w.t.Context(), "mkfs.ext4", "-q", "-F", "-d", tree, name).CombinedOutput()
	require.NoError(w.t, err, "%s", out)
	w.source, err = os.ReadFile(name)
	require.NoError(w.t, err)
	w.ends.Scratch = filepath.Join(w.t.TempDir(), "scratch")
	require.NoError(w.t, os.MkdirAll(w.ends.Scratch, 0o700))
}

// toVirtio is the request for an image whose guest starts from virtio.
func toVirtio(as, layout string) plan.Request {
	r := request("kiosk."+as, as, layout, disk.Options{})
	r.NewPlace = &adapt.Wish{Bus: "virtio"}
	return r
}

// fitted checks that the copy is one from which the guest starts, that its receipt says all of it, and that it is proven by its tag.
func (w *world) fitted(r plan.Request, done receipt.Receipt) {
	w.t.Helper()
	assert.Equal(w.t, receipt.Proven, done.Outcome)
	require.NotNil(w.t, done.Adapted)
	assert.Equal(w.t, done.Source.Fingerprint, done.Adapted.Before, "it was proven first as it is")
	assert.Equal(w.t, done.Destination.Fingerprint, done.Adapted.After)
	assert.NotEqual(w.t, done.Adapted.Before, done.Adapted.After)
	assert.Len(w.t, done.Adapted.Files, 2)
	assert.Contains(w.t, done.Compared, "2 file(s) were changed")
	made, err := disk.Open(w.t.Context(), w.ends.Destination, r.Destination.Path, "")
	require.NoError(w.t, err)
	defer made.Close()
	starts, err := inspect.StartsFrom(w.t.Context(), made)
	require.NoError(w.t, err)
	has, unknown := starts.KnowsBus("virtio")
	assert.True(w.t, has, unknown)
	assert.Empty(w.t, starts.Findings)
	there := *w
	there.ends = step.Ends{Source: w.ends.Destination}
	again := plan.Request{Kind: plan.Prove, Source: plan.Place{Path: r.Destination.Path}, Tag: plan.TagBeside}
	proven, err := solo{ID: "again", Ends: there.ends, Plan: there.plan(again)}.Run(w.t.Context())
	require.NoError(w.t, err)
	assert.Equal(w.t, receipt.Proven, proven.Outcome)
	assert.Equal(w.t, done.Adapted.After, proven.Source.Fingerprint)
	left, err := os.ReadDir(w.ends.Scratch)
	require.NoError(w.t, err)
	assert.Empty(w.t, left, "what was made on the way is gone")
}

// TestAGuestIsFittedInEachLayout that stands on nothing: the copy is proven, then changed, and proven again; the source is as it was.
func TestAGuestIsFittedInEachLayout(t *testing.T) {
	for _, f := range disk.Formats() {
		for _, l := range f.Layouts {
			if l.Stands {
				continue
			}
			t.Run(f.Name+" "+l.Name, func(t *testing.T) {
				w := newWorld(t)
				w.guest()
				r := toVirtio(f.Name, l.Name)
				p := w.plan(r)
				require.False(t, p.Blocked(), "%+v", p.Checks)
				require.NotNil(t, p.Adapt)
				require.Len(t, p.Adapt[0].Files, 2, "the initial memory disk, and where it mounts what")
				done, err := w.run(t.Context(), p, nil)
				require.NoError(t, err)
				w.fitted(r, done)
				b, err := os.ReadFile(filepath.Join(w.from, "gate-kiosk.raw"))
				require.NoError(t, err)
				assert.Equal(t, len(w.source), len(b))
				assert.Equal(t, string(w.source), string(b))
			})
		}
	}
}

// TestFittingAGuestGoesOn, set aside wherever that is: before the second image, while it is written and read, and before it takes the place of the first. Cancelled, nothing is left.
func TestFittingAGuestGoesOn(t *testing.T) {
	for _, after := range []int64{13 << 20, 20 << 20, 26 << 20, 30 << 20} {
		w := newWorld(t)
		w.guest()
		w.records = &notebook{}
		r := toVirtio("qcow2", "")
		p := w.plan(r)
		_, err := w.asideAt(p, after)
		if err != nil {
			require.ErrorIs(t, err, step.ErrSetAside)
		}
		done, err := w.task(p).Run(t.Context())
		if err == nil && done.Adapted == nil { // all was done the first time
			continue
		}
		require.NoError(t, err)
		w.fitted(r, done)
		w.untouched("kiosk.qcow2")
	}
	w := newWorld(t)
	w.guest()
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	_, err := w.run(ctx, w.plan(toVirtio("raw", "")), func(p step.Progress) {
		if p.Step == plan.StepAdapt {
			stop()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	w.untouched()
}

// TestFittingThatIsNotAsPlanned: what would be changed besides stops it; what was changed in a file that is changed anyway is said.
func TestFittingThatIsNotAsPlanned(t *testing.T) {
	w := newWorld(t)
	w.guest()
	r := toVirtio("raw", "")
	p := w.plan(r)
	files := p.Bodies[0].Adapt.Files
	p.Bodies[0].Adapt = &adapt.Changes{Files: files[1:]}
	_, err := w.run(t.Context(), p, nil)
	require.ErrorContains(t, err, "plan it again")
	w.untouched()
	other := files[0]
	other.SHA256 = "another one"
	p.Bodies[0].Adapt = &adapt.Changes{Files: []adapt.Change{other, files[1]}}
	done, err := solo{ID: "test-2", Ends: w.ends, Plan: p, Hold: time.Hour}.Run(t.Context())
	require.NoError(t, err)
	assert.Contains(t, strings.Join(done.Remarks, "; "), "not word for word what was planned")
	w.fitted(r, done)

	for _, wrong := range []func(*plan.Request){
		func(r *plan.Request) { r.NewPlace = &adapt.Wish{Bus: "floppy"} }, func(r *plan.Request) { r.NewPlace = &adapt.Wish{Firmware: "none"} },
		func(r *plan.Request) { r.NewPlace.Cards = []adapt.Card{{Now: "eth0\n[Match]"}} }, func(r *plan.Request) { r.NoProof = true }, func(r *plan.Request) { r.IfSmaller = true },
	} {
		r := toVirtio("raw", "")
		wrong(&r)
		require.ErrorIs(t, r.Validate(), plan.ErrRequest)
	}
	nothing := toVirtio("raw", "")
	nothing.NewPlace.Bus = ""
	nothing.Destination.Path = "other.raw"
	assert.Nil(t, w.plan(nothing).Adapt, "nothing has to be changed where the bus stays")
}
