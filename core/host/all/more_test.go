package all

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"bagaglio/core/disk"
	_ "bagaglio/core/disk/all"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit/daemon"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// image makes a disk of 2 MiB in a folder, that begins with something.
func image(t *testing.T, dir, name, format string, begins []byte) string {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	f, err := disk.Lookup(format)
	require.NoError(t, err)
	w, err := f.Create(disk.Target{Folder: folder, Name: name, Size: 2 << 20, Layout: f.Layouts[0].Name})
	require.NoError(t, err)
	_, err = w.WriteAt(begins, 0)
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	file := filepath.Join(dir, name)
	require.NoError(t, os.Chmod(file, 0o666))
	return file
}

// begins is what an image begins with.
func begins(t *testing.T, file string, n int) string {
	t.Helper()
	folder, err := local.Open(filepath.Dir(file))
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, filepath.Base(file), "")
	require.NoError(t, err)
	defer r.Close()
	b := make([]byte, n)
	_, err = r.ReadAt(b, 0)
	require.NoError(t, err)
	return string(b)
}

// heard is what a machine wrote.
type heard struct {
	mu   sync.Mutex
	text strings.Builder
}

func (h *heard) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.Write(b)
}

func (h *heard) has(text string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return strings.Contains(h.text.String(), text)
}

// hears listens to a machine that was just started until it has said something, for a while.
func hears(t *testing.T, l host.Listener, m host.Machine, words string) bool {
	t.Helper()
	var said heard
	listening, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- l.Listen(listening, m, &said) }()
	heardIt := assert.Eventually(quiet{}, func() bool { return said.has(words) }, 15*time.Second, 10*time.Millisecond)
	stop()
	require.NoError(t, <-ended)
	return heardIt
}

// quiet takes what is no failure yet.
type quiet struct{}

func (quiet) Errorf(string, ...any) {}

// TestWhatHostsDoBesides: machines are suspended and go on, what they write is heard, they get disks and give them back, and states of them are
// kept, gone back to and dropped.
func TestWhatHostsDoBesides(t *testing.T) {
	for kind, start := range worlds {
		t.Run(kind, func(t *testing.T) {
			w := start(t)
			ctx := t.Context()
			system := image(t, w.folder, "crew-roster.qcow2", "qcow2", daemon.Boot(false))
			m, err := w.Host.(host.Definer).Define(ctx, w.define("crew-roster", system, "qcow2"))
			require.NoError(t, err)
			state := func() host.State {
				now, err := w.Machine(ctx, m.Name)
				require.NoError(t, err)
				return now.State
			}
			power, halts := w.Host.(host.Power), w.Host.(host.Suspender)

			require.ErrorIs(t, halts.Suspend(ctx, m), host.ErrRefused, "it is off")
			require.ErrorIs(t, halts.Resume(ctx, m), host.ErrRefused)
			require.NoError(t, power.Start(ctx, m))
			for tries := 0; !hears(t, w.Host.(host.Listener), m, w.says); tries++ { // it says it once, and may have before somebody listened
				require.Less(t, tries, 5, "what it writes is heard")
				require.NoError(t, power.CutOff(ctx, m))
				require.NoError(t, power.Start(ctx, m))
			}
			for range 2 {
				require.NoError(t, halts.Suspend(ctx, m))
				assert.Equal(t, host.Suspended, state())
			}
			for range 2 {
				require.NoError(t, halts.Resume(ctx, m))
				assert.Equal(t, host.Running, state())
			}
			require.NoError(t, halts.Suspend(ctx, m))
			require.NoError(t, power.Start(ctx, m), "one that is suspended goes on")
			assert.Equal(t, host.Running, state())
			require.NoError(t, halts.Suspend(ctx, m))
			require.NoError(t, power.CutOff(ctx, m))
			assert.Equal(t, host.Off, state())

			keeps := w.Host.(host.Snapshotter)
			kept, err := keeps.Snapshots(ctx, m)
			require.NoError(t, err)
			assert.Empty(t, kept)
			require.NoError(t, power.Start(ctx, m))
			require.NoError(t, keeps.Take(ctx, m, host.Taking{Name: "before", Notes: "the season begins"}))
			require.ErrorIs(t, keeps.Take(ctx, m, host.Taking{Name: "before"}), host.ErrRefused, "there is one of that name")
			require.NoError(t, keeps.Take(ctx, m, host.Taking{Name: "sailing"}))
			kept, err = keeps.Snapshots(ctx, m)
			require.NoError(t, err)
			require.Len(t, kept, 2)
			assert.WithinDuration(t, time.Now(), kept[0].Taken, time.Minute)
			for i := range kept {
				then, err := machine.Describe(m.Format, kept[i].Definition)
				require.NoError(t, err, "the machine as it was then")
				require.Len(t, then.Disks, 1)
				assert.Equal(t, system, then.Disks[0].File)
				if at := kept[i].Files[system]; at != "" { // otherwise inside of the image
					assert.Equal(t, string(daemon.Boot(false)), begins(t, at, 512))
				}
				kept[i].Taken, kept[i].Definition, kept[i].Files = time.Time{}, nil, nil
			}
			assert.Equal(t, host.Snapshot{Name: "before", Notes: "the season begins", Memory: true}, kept[0])
			assert.Equal(t, host.Snapshot{Name: "sailing", Parent: "before", Memory: true, Present: true}, kept[1])
			require.NoError(t, power.CutOff(ctx, m))
			require.NoError(t, keeps.GoBack(ctx, m, "before"))
			assert.Equal(t, host.Running, state(), "it goes on with its memory")
			require.ErrorIs(t, keeps.GoBack(ctx, m, "no-such"), host.ErrRefused)
			require.ErrorIs(t, keeps.Drop(ctx, m, "no-such"), host.ErrRefused)
			require.NoError(t, keeps.Drop(ctx, m, "before"))
			kept, err = keeps.Snapshots(ctx, m)
			require.NoError(t, err)
			require.Len(t, kept, 1)
			assert.Empty(t, kept[0].Parent, "what was behind it is behind what was before it")
			assert.False(t, kept[0].Present)
			require.NoError(t, keeps.Drop(ctx, m, "sailing"))
			require.NoError(t, power.CutOff(ctx, m))
		})
	}
}

// TestStatesWithoutMemory are kept by the stand-in. The daemon needs another tool for that.
func TestStatesWithoutMemory(t *testing.T) {
	w := worlds["standin"](t)
	ctx := t.Context()
	system := image(t, w.folder, "crew-roster.qcow2", "qcow2", daemon.Boot(false))
	m, err := w.Host.(host.Definer).Define(ctx, w.define("crew-roster", system, "qcow2"))
	require.NoError(t, err)
	keeps := w.Host.(host.Snapshotter)
	require.NoError(t, keeps.Take(ctx, m, host.Taking{Name: "off"}))
	data := machine.Disk{File: image(t, w.folder, "data.raw", "raw", []byte("crew")), Format: "raw", Bus: "sata"}
	require.NoError(t, w.Host.(host.Attacher).Attach(ctx, m, data))
	require.NoError(t, os.WriteFile(system, []byte("another content"), 0o600))
	require.NoError(t, keeps.GoBack(ctx, m, "off"))
	assert.Equal(t, string(daemon.Boot(false)), begins(t, system, 512))
	now, err := w.Machine(ctx, m.Name)
	require.NoError(t, err)
	assert.Equal(t, host.Off, now.State)
	assert.Equal(t, string(m.Definition), string(now.Definition), "it has the disks of then")
}

// TestDisksComeAndGo: machines get disks and give them back, off and as they run. The files stay.
func TestDisksComeAndGo(t *testing.T) {
	for kind, start := range worlds {
		t.Run(kind, func(t *testing.T) {
			w := start(t)
			ctx := t.Context()
			system := image(t, w.folder, "cargo-ledger.raw", "raw", daemon.Boot(false))
			m, err := w.Host.(host.Definer).Define(ctx, w.define("cargo-ledger", system, "raw"))
			require.NoError(t, err)
			disks := func() (slots []string) {
				now, err := w.Machine(ctx, m.Name)
				require.NoError(t, err)
				is, err := machine.Describe(now.Format, now.Definition)
				require.NoError(t, err)
				for _, d := range is.Disks {
					slots = append(slots, d.Slot)
				}
				return slots
			}
			gives := w.Host.(host.Attacher)
			first := disks()
			require.Len(t, first, 1)
			data := machine.Disk{File: image(t, w.folder, "data.qcow2", "qcow2", []byte("cargo")), Format: "qcow2", Bus: "virtio"}
			require.NoError(t, gives.Attach(ctx, m, data))
			second := disks()
			require.Len(t, second, 2)
			require.ErrorIs(t, gives.Attach(ctx, m, machine.Disk{Format: "qcow2", Bus: "virtio"}), host.ErrRefused, "it lies nowhere")
			require.ErrorIs(t, gives.Detach(ctx, m, "nothing"), host.ErrRefused)
			require.NoError(t, gives.Detach(ctx, m, second[1]))
			assert.Equal(t, first, disks())
			assert.Equal(t, "cargo", begins(t, data.File, 5), "its file stays as it is")

			require.NoError(t, w.Host.(host.Power).Start(ctx, m))
			require.NoError(t, gives.Attach(ctx, m, data), "a machine that runs gets one too")
			require.Len(t, disks(), 2)
			require.NoError(t, w.Host.(host.Power).CutOff(ctx, m))
			require.Len(t, disks(), 2, "it has it also when it starts anew")

			pools, err := w.Host.(host.Pooler).Pools(ctx)
			require.NoError(t, err)
			assert.Equal(t, w.pools, pools)
		})
	}
}
