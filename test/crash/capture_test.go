package crash

import (
	"bytes"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/adapt"
	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/initramfs"
	"bagaglio/core/inspect"
	_ "bagaglio/core/inspect/all"
	"bagaglio/core/plan"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/fewer"
	"bagaglio/internal/testkit/loops"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// iron is a drive of this computer with a filesystem on it, a second one that is written over, and the folder that images go into.
type iron struct {
	t           *testing.T
	drive, over *loops.Loop
	to, state   string
}

func newIron(t *testing.T) *iron {
	i := &iron{t: t, to: t.TempDir(), state: filepath.Join(t.TempDir(), "state")}
	i.drive = loops.New(t, 64*mib, 512, "label: gpt\nstart=1MiB, size=60MiB, type=L\n")
	tree := t.TempDir()
	for n := range 12 {
		require.NoError(t, os.WriteFile(filepath.Join(tree, strconv.Itoa(n)), bytes.Repeat([]byte("ledger "), 20_000*n), 0o600))
	}
	const lib = "lib/modules/6.1.0-12-harbour/"
	for name, content := range map[string]string{ // a system that knows no bus
		"etc/os-release": "PRETTY_NAME=\"Harbour Linux 12\"\n", "etc/fstab": "/dev/sda1 / ext4 defaults 0 1\n",
		lib + "modules.dep": "kernel/virtio_blk.ko:\nkernel/virtio_pci.ko:\n", lib + "kernel/virtio_blk.ko": "block", lib + "kernel/virtio_pci.ko": "pci",
		"boot/initrd.img-6.1.0-12-harbour": string(initramfs.Archive([]initramfs.File{{Name: "conf", Dir: true}, {Name: "conf/modules", Mode: 0o644}})),
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(tree, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(tree, name), []byte(content), 0o600))
	}
	i.drive.Run("mkfs.ext4", "-q", "-d", tree, i.drive.Part(1))
	i.over = loops.New(t, 80*mib, 512, "label: gpt\nstart=1MiB, size=20MiB, type=L\n")
	s := testkit.Start(t, i.state)
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "quay-store", Folder: i.to})
	require.NoError(t, err)
	s.Stop()
	return i
}

// image is what was made, with the same files as the drive; or nothing of it has a name.
func (i *iron) image(what string, there bool) {
	i.t.Helper()
	name := filepath.Join(i.to, "ledger.qcow2")
	if _, err := os.Stat(name); os.IsNotExist(err) && !there {
		return
	}
	folder, err := local.Open(i.to)
	require.NoError(i.t, err, what)
	defer folder.Close()
	d, err := disk.Open(i.t.Context(), folder, "ledger.qcow2", "qcow2")
	require.NoError(i.t, err, what)
	defer d.Close()
	v, err := inspect.Part(d, 1)
	require.NoError(i.t, err, what)
	for n := range 12 {
		b, err := fs.ReadFile(v, strconv.Itoa(n))
		require.NoError(i.t, err, what)
		require.True(i.t, bytes.Equal(bytes.Repeat([]byte("ledger "), 20_000*n), b), what)
	}
}

// fitted checks that the guest of the image starts from virtio, by a system that is whole.
func (i *iron) fitted(what string) {
	i.t.Helper()
	folder, err := local.Open(i.to)
	require.NoError(i.t, err, what)
	defer folder.Close()
	d, err := disk.Open(i.t.Context(), folder, "ledger.qcow2", "qcow2")
	require.NoError(i.t, err, what)
	defer d.Close()
	starts, err := inspect.StartsFrom(i.t.Context(), d)
	require.NoError(i.t, err, what)
	has, unknown := starts.KnowsBus("virtio")
	assert.True(i.t, has, "%s: %s", what, unknown)
	assert.Empty(i.t, starts.Findings, what)
}

// TestCapturesKilledAtAnyMoment: a capture onto a smaller disk, one whose guest is fitted to another bus, one of a disk that is said to be dying, and writing the image back: killed at any point, each
// goes on after the restart and ends as proven, and nothing is left over.
func TestCapturesKilledAtAnyMoment(t *testing.T) {
	fewer.Sometimes(t)
	kills := 2
	if n, err := strconv.Atoi(os.Getenv("BAGAGLIO_KILLS")); err == nil {
		kills = n / 10
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	for _, c := range []struct {
		name string
		make func(*iron) plan.Request
	}{
		{"smaller", func(i *iron) plan.Request {
			r := i.captured()
			r.Size = 40 * mib
			return r
		}},
		{"fitted", func(i *iron) plan.Request {
			r := i.captured()
			r.NewPlace = &adapt.Wish{Bus: "virtio"}
			return r
		}},
		{"dying", func(i *iron) plan.Request {
			r := i.captured()
			r.Dying = true
			return r
		}},
		{"written back", func(i *iron) plan.Request {
			require.Equal(i.t, "proven", string(i.ended(i.captured(), "", "")))
			return plan.Request{
				Kind: plan.WriteBack, Source: plan.Place{Pool: "quay-store", Path: "ledger.qcow2"}, ConfirmSerial: strconv.Itoa(80 * mib),
				Destination: &plan.Place{Pool: plan.DevicesOf("local"), Path: i.over.Name()},
			}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			i := newIron(t)
			r := c.make(i)
			points := filepath.Join(t.TempDir(), "points")
			require.Equal(t, "proven", string(i.ended(r, "", points)))
			b, err := os.ReadFile(points)
			require.NoError(t, err)
			var passed []string
			for _, name := range strings.Split(strings.TrimSpace(string(b)), "\n") {
				if !strings.HasPrefix(name, "remove") { // of trials when pools are added, mostly
					passed = append(passed, name)
				}
			}
			require.NotEmpty(t, passed)
			for range kills {
				i := newIron(t)
				r := c.make(i)
				at := passed[random.IntN(len(passed))] + ":" + strconv.Itoa(1+random.IntN(3))
				if i.ended(r, at, "") == "" {
					i.image(at, false)
					require.Equal(t, "proven", string(i.ended(r, "", "")), at)
				}
				i.image(at, true)
				if r.NewPlace != nil {
					i.fitted(at)
				}
				left, _ := os.ReadDir(filepath.Join(i.state, "scratch"))
				assert.Empty(t, left, at)
				if r.Kind != plan.WriteBack {
					continue
				}
				out, err := exec.Command("sfdisk", "--verify", i.over.Path).CombinedOutput()
				require.NoError(t, err, "%s: %s", at, out)
				i.over.Rescan()
				i.over.Run("e2fsck", "-f", "-n", i.over.Part(1))
				names, err := filepath.Glob(filepath.Join(i.state, "saved", "*.first"))
				require.NoError(t, err)
				require.Len(t, names, 1, at)
			}
		})
	}
}

func (i *iron) captured() plan.Request {
	return plan.Request{
		Kind: plan.Convert, As: "qcow2", UsedOnly: true, Source: plan.Place{Pool: plan.DevicesOf("local"), Path: i.drive.Name(), Format: "raw"},
		Destination: &plan.Place{Pool: "quay-store", Path: "ledger.qcow2"},
	}
}

// ended runs a job after those that there are already.
func (i *iron) ended(r plan.Request, killAt, points string) api.JobOutcome {
	s := testkit.StartBinary(
		i.t,
		testkit.Torture(i.t),
		[]string{"BAGAGLIO_KILL_AT=" + killAt, "BAGAGLIO_POINTS=" + points},
		i.state,
		"--checkpoint",
		"15ms",
	)
	defer s.Kill()
	jobs, err := s.Jobs(i.t.Context(), 1)
	if err != nil {
		return ""
	}
	if len(jobs) == 0 || jobs[0].Ended && jobs[0].Request.Kind != r.Kind {
		kept, err := s.Plan(i.t.Context(), r)
		require.NoError(i.t, err)
		_, _ = s.Start(i.t.Context(), api.NewJob{Plan: kept.Id}) // it may be killed during that
	}
	out := last(i.t, s)
	if all, err := s.Jobs(i.t.Context(), 1); err == nil && len(all) > 0 && all[0].Reason != nil {
		i.t.Log(*all[0].Reason)
	}
	return out
}
