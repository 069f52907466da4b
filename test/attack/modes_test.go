package attack

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestNothingBecomesMoreOpen: whatever is made of a disk belongs to whom the disk belonged to, and is as closed: converted, copied, made
// anew in its place, moved to another filesystem; and what is being made, or held, is in nobody's reach.
func TestNothingBecomesMoreOpen(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root may give files away")
	}
	s := start(t)
	quay, sea := s.Pool("quay-store"), s.Pool("sea-store")
	other := t.TempDir()
	if err := unix.Mount("tmpfs", other, "tmpfs", 0, "size=64m"); err != nil {
		t.Skipf("this computer lets us mount nothing: %v", err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(other, unix.MNT_DETACH)) })
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "other-store", Folder: other})
	require.NoError(t, err)
	require.NoError(t, os.Chmod(quay, 0o755))
	closed := func(name string) {
		file := filepath.Join(quay, name)
		testkit.Noise(t, file, 2*mib)
		require.NoError(t, os.Chown(file, 1234, 2345))
		require.NoError(t, os.Chmod(file, 0o600))
		require.NoError(t, unix.Setxattr(file, "user.berth", []byte("7"), 0))
	}
	is := func(file string, labels bool) {
		t.Helper()
		info, err := os.Stat(file)
		require.NoError(t, err)
		st := info.Sys().(*syscall.Stat_t)
		assert.Equal(t, "-rw------- 1234 2345", fmt.Sprint(info.Mode(), " ", st.Uid, " ", st.Gid), file)
		if labels {
			value := make([]byte, 10)
			n, err := unix.Getxattr(file, "user.berth", value)
			require.NoError(t, err, file)
			assert.Equal(t, "7", string(value[:n]))
		}
	}
	closed("tide.raw")
	convert := func(from, to string, change func(*plan.Request)) {
		r := move(from, to)
		r.Kind, r.As, r.Release = plan.Convert, "qcow2", false
		if change != nil {
			change(&r)
		}
		testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	}
	convert("quay-store:tide.raw", "sea-store:tide.qcow2", nil)
	is(filepath.Join(sea, "tide.qcow2"), true)
	is(filepath.Join(sea, "tide.qcow2.bagtag"), false)
	convert(
		"quay-store:tide.raw",
		"quay-store:pieces.raw",
		func(r *plan.Request) { r.As, r.Layout, r.Options.PieceSize = "raw", "pieces", mib },
	)
	is(filepath.Join(quay, "pieces.raw.001"), true)
	convert("quay-store:tide.raw", "quay-store:tide.raw", func(r *plan.Request) { r.As, r.Replace = "raw", true })
	is(filepath.Join(quay, "tide.raw"), true)
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, move("quay-store:tide.raw", "other-store:deep/tide.raw")).Id)
	is(filepath.Join(other, "deep/tide.raw"), false)

	for _, dir := range []string{quay, sea, other} { // those that have one
		if info, err := os.Stat(filepath.Join(dir, ".bagaglio")); err == nil {
			assert.Equal(t, os.FileMode(0o700), info.Mode().Perm(), dir)
		}
	}
	info, err := os.Stat(filepath.Join(quay, ".bagaglio/held"))
	require.NoError(t, err, "something is held")
	assert.True(t, info.IsDir())

	// What the rules of a pool say holds.
	_, err = s.ChangePool(t.Context(), "sea-store", api.PoolChange{Rules: plan.Rules{Mode: "0640", Owner: "1:1"}})
	require.NoError(t, err)
	closed("crew.raw")
	convert("quay-store:crew.raw", "sea-store:crew.qcow2", nil)
	info, err = os.Stat(filepath.Join(sea, "crew.qcow2"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	assert.Equal(t, uint32(1), info.Sys().(*syscall.Stat_t).Uid)
}
