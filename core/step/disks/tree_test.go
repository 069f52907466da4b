package disks

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bagaglio/core/machine"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
	"bagaglio/core/storage"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// meddling is a pool with somebody who does something when a folder was packed there, or unpacked.
type meddling struct {
	storage.Folder
	packed, unpacked func()
}

func (m meddling) Unwrap() storage.Folder { return m.Folder }

func (m meddling) trees() storage.Trees {
	t, _ := storage.As[storage.Trees](m.Folder)
	return t
}

func (m meddling) Tree(ctx context.Context, name string) (storage.Tree, error) {
	return m.trees().Tree(ctx, name)
}

func (m meddling) Pack(ctx context.Context, name string, to io.Writer, fresh bool) error {
	err := m.trees().Pack(ctx, name, to, fresh)
	if m.packed != nil && !fresh {
		m.packed()
	}
	return err
}

func (m meddling) Unpack(ctx context.Context, name string, from io.Reader) error {
	err := m.trees().Unpack(ctx, name, from)
	if m.unpacked != nil {
		m.unpacked()
	}
	return err
}

// mess is a world with the root folder of a container.
type mess struct {
	*world
	notes *notebook
}

func newMess(t *testing.T) *mess {
	t.Helper()
	w := newWorld(t)
	root := filepath.Join(w.from, "crew-mess/root")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/hostname"), []byte("crew-mess\n"), 0o600))
	require.NoError(t, os.Link(filepath.Join(root, "etc/hostname"), filepath.Join(root, "etc/mailname")))
	require.NoError(t, os.Symlink("etc/hostname", filepath.Join(root, "name")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "ladle"), nil, 0o600))
	require.NoError(t, os.Chmod(filepath.Join(root, "ladle"), 0o710|os.ModeSetuid))
	if os.Getuid() == 0 {
		require.NoError(t, os.Chown(filepath.Join(root, "etc"), 1000, 33))
	}
	m := &mess{w, &notebook{marks: map[string][][]byte{}}}
	m.records = m.notes
	return m
}

func (m *mess) move() plan.Request {
	return plan.Request{
		Kind: plan.Copy, Source: plan.Place{Path: "crew-mess/root", Format: machine.Folder}, Release: true,
		Destination: &plan.Place{Path: "harbour/crew-mess/root"},
	}
}

// arrived: what is there is what was made, with its links, rights and owners.
func (m *mess) arrived(root string) {
	m.t.Helper()
	b, err := os.ReadFile(filepath.Join(root, "name"))
	require.NoError(m.t, err)
	assert.Equal(m.t, "crew-mess\n", string(b))
	var one, other, etc unix.Stat_t
	require.NoError(m.t, unix.Stat(filepath.Join(root, "etc/hostname"), &one))
	require.NoError(m.t, unix.Stat(filepath.Join(root, "etc/mailname"), &other))
	assert.Equal(m.t, one.Ino, other.Ino)
	info, err := os.Stat(filepath.Join(root, "ladle"))
	require.NoError(m.t, err)
	assert.Equal(m.t, 0o710|os.ModeSetuid, info.Mode())
	require.NoError(m.t, unix.Stat(filepath.Join(root, "etc"), &etc))
	if os.Getuid() == 0 {
		assert.Equal(m.t, [2]uint32{1000, 33}, [2]uint32{etc.Uid, etc.Gid})
	}
}

// TestAFolderMoves: with everything that it has, and back.
func TestAFolderMoves(t *testing.T) {
	m := newMess(t)
	p := m.plan(m.move())
	require.False(t, p.Blocked(), "%+v", p.Checks)
	r, err := m.run(t.Context(), p, nil)
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	assert.Equal(t, r.Source.Fingerprint, r.Destination.Fingerprint)
	assert.True(t, strings.HasPrefix(r.Source.Fingerprint, "bt1-"))
	m.arrived(filepath.Join(m.to, "harbour/crew-mess/root"))
	assert.NoDirExists(t, filepath.Join(m.from, "crew-mess/root"))
	held, err := ListHeld(m.ends.Source)
	require.NoError(t, err)
	require.Len(t, held, 1)
	assert.EqualValues(t, 2*len("crew-mess\n"), held[0].Size, "that of its files")

	e := Ended{Job: "1", Task: "test-1", Plan: p, Journal: m.notes.state, Finished: time.Now()}
	back, err := PrepareUndo(t.Context(), m.ends, e, plan.FirstDisk, step.Known{})
	require.NoError(t, err)
	require.False(t, back.Blocked() || back.Warned(), "%+v", back.Checks)
	require.NoError(t, os.WriteFile(filepath.Join(m.to, "harbour/crew-mess/root/etc/hostname"), []byte("crew-mess\n"), 0o600))
	back, err = PrepareUndo(t.Context(), m.ends, e, plan.FirstDisk, step.Known{})
	require.NoError(t, err)
	require.True(t, back.Warned(), "somebody wrote to a file in it: %+v", back.Checks)
	r, err = solo{ID: "test-2", Ends: m.ends, Plan: back, Hold: time.Hour}.Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, r.Outcome)
	m.arrived(filepath.Join(m.from, "crew-mess/root"))
	assert.NoDirExists(t, filepath.Join(m.to, "harbour/crew-mess/root"))
	back, err = PrepareUndo(t.Context(), m.ends, e, plan.FirstDisk, step.Known{})
	require.NoError(t, err)
	assert.True(t, back.Blocked(), "twice")
	m.arrived(filepath.Join(m.from, "crew-mess/root"))
}

// TestAFolderGoesOn: a job that was set aside while the folder was made begins that anew, and one that was set aside behind it does not.
func TestAFolderGoesOn(t *testing.T) {
	for _, at := range []string{plan.StepFill, plan.StepProve, plan.StepPublish} {
		t.Run(at, func(t *testing.T) {
			m := newMess(t)
			p := m.plan(m.move())
			ctx, stop := context.WithCancelCause(t.Context())
			_, err := m.run(ctx, p, func(s step.Progress) {
				if s.Step == at {
					stop(step.ErrSetAside)
				}
			})
			require.ErrorIs(t, err, step.ErrSetAside)
			assert.DirExists(t, filepath.Join(m.from, "crew-mess/root"))
			assert.NoDirExists(t, filepath.Join(m.to, "harbour"))
			r, err := m.run(t.Context(), p, nil)
			require.NoError(t, err)
			assert.Equal(t, receipt.Proven, r.Outcome)
			m.arrived(filepath.Join(m.to, "harbour/crew-mess/root"))
			assert.NoDirExists(t, filepath.Join(m.to, StagingFolder))
		})
	}
}

// TestAFolderThatLies: what is written to the source while it is read or when all is proven, and what is damaged on its way, is never proven, and the
// source stays.
func TestAFolderThatLies(t *testing.T) {
	write := func(at string) func() {
		return func() { _ = os.WriteFile(at, []byte("crew-hall\n"), 0o600) } // what comes of it is looked at
	}
	for name, c := range map[string]struct {
		meddle func(m *mess)
		at     string // the step at which the source is written to
		want   error
		says   string
	}{
		"written when it was packed": {func(m *mess) {
			m.ends.Source = meddling{Folder: m.ends.Source, packed: write(filepath.Join(m.from, "crew-mess/root/etc/hostname"))}
		}, "", errWritten, "something in crew-mess/root was changed since it was read"},
		"damaged when it was made": {func(m *mess) {
			at := filepath.Join(m.to, StagingFolder, "test-1/root/etc/hostname")
			m.ends.Destination = meddling{Folder: m.ends.Destination, unpacked: write(at)}
		}, "", step.ErrNotProven, "different are etc/hostname"},
		"a right was lost": {func(m *mess) {
			at := filepath.Join(m.to, StagingFolder, "test-1/root/ladle")
			m.ends.Destination = meddling{Folder: m.ends.Destination, unpacked: func() { _ = os.Chmod(at, 0o710) }}
		}, "", step.ErrNotProven, "different are ladle"},
		"something was added": {func(m *mess) {
			m.ends.Destination = meddling{Folder: m.ends.Destination, unpacked: write(filepath.Join(m.to, StagingFolder, "test-1/root/more"))}
		}, "", step.ErrNotProven, "more"},
		"written when all is proven": {func(*mess) {}, plan.StepPublish, errWritten, "something in crew-mess/root was changed"},
	} {
		t.Run(name, func(t *testing.T) {
			m := newMess(t)
			c.meddle(m)
			r, err := m.run(t.Context(), m.plan(m.move()), func(s step.Progress) {
				if s.Step == c.at {
					write(filepath.Join(m.from, "crew-mess/root/etc/hostname"))()
				}
			})
			require.ErrorIs(t, err, c.want)
			require.ErrorContains(t, err, c.says)
			assert.Equal(t, receipt.Failed, r.Outcome)
			assert.DirExists(t, filepath.Join(m.from, "crew-mess/root"))
		})
	}
}

// TestAFolderThatIsNotCarried: what stands in the way is said before.
func TestAFolderThatIsNotCarried(t *testing.T) {
	m := newMess(t)
	require.NoError(t, os.MkdirAll(filepath.Join(m.to, "harbour/crew-mess/root"), 0o755))
	p := m.plan(m.move())
	require.True(t, p.Blocked())
	assert.Contains(t, p.With(plan.Blocks)[0].Message, "exists already")
	r := m.move()
	r.Source.Path = "gate-kiosk.raw"
	p = m.plan(r)
	require.True(t, p.Blocked())
	assert.Contains(t, p.With(plan.Blocks)[0].Message, "is no folder")
	r.Source.Path = "nowhere"
	assert.True(t, m.plan(r).Blocked())
	r = m.move()
	r.Kind, r.As = plan.Convert, "qcow2"
	_, err := Prepare(t.Context(), m.ends, r, step.Known{})
	require.ErrorIs(t, err, plan.ErrRequest)
}
