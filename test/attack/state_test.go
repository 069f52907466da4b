package attack

import (
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// bind mounts a folder or file at another name, until the test ends.
func bind(t *testing.T, from, at string) {
	t.Helper()
	if err := unix.Mount(from, at, "", unix.MS_BIND, ""); err != nil {
		t.Skipf("this computer lets us mount nothing: %v", err)
	}
	t.Cleanup(func() { require.NoError(t, unix.Unmount(at, unix.MNT_DETACH)) })
}

// TestNoPoolOnTheState: whatever it is called, the state of the service is no pool, and neither is what has it inside, nor what a pool
// holds for itself.
func TestNoPoolOnTheState(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := t.TempDir()
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(s.State, link))
	quay := s.Pool("quay-store")
	held := filepath.Join(quay, ".bagaglio/held")
	require.NoError(t, os.MkdirAll(held, 0o700))
	mounted, mountedAbove := filepath.Join(dir, "mounted"), filepath.Join(dir, "above")
	for _, d := range []string{mounted, mountedAbove} {
		require.NoError(t, os.Mkdir(d, 0o700))
	}
	refused := func(folder, says string, nested bool) {
		t.Helper()
		_, err := s.AddPool(t.Context(), api.NewPool{Name: "sea-store", Folder: folder, Nested: &nested})
		require.ErrorContains(t, err, says, folder)
	}
	const kept = "it belongs to the service itself"
	for _, folder := range []string{s.State, filepath.Dir(s.State), "/", link} {
		refused(folder, kept, true)
	}
	refused(held, "what a pool holds for itself", true)
	require.NoError(t, os.Mkdir(filepath.Join(quay, "inner"), 0o700))
	refused(filepath.Join(quay, "inner"), "lies in the pool quay-store", false)
	outer := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(outer, "pier"), 0o700))
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "pier-store", Folder: filepath.Join(outer, "pier")})
	require.NoError(t, err)
	refused(outer, "the pool pier-store", false)
	require.NoError(t, os.Symlink(quay, filepath.Join(dir, "quay")))
	refused(filepath.Join(dir, "quay"), "taken already", true)

	bind(t, s.State, mounted)
	refused(mounted, kept, true)
	bind(t, filepath.Dir(s.State), mountedAbove)
	refused(mountedAbove, kept, true)
	inner := filepath.Join(dir, "inner")
	require.NoError(t, os.Mkdir(inner, 0o700))
	bind(t, filepath.Join(quay, "inner"), inner)
	refused(inner, "lies in the pool quay-store", false)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "inner-store", Folder: inner, Nested: ptr(true)})
	require.NoError(t, err, "that is meant")
}

// TestNothingInAPoolLeadsToTheState: not what is mounted into or over a pool later, not another name of one of its files, not the base of
// an image.
func TestNothingInAPoolLeadsToTheState(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, sea := s.Pool("quay-store"), s.Pool("sea-store")
	testkit.Noise(t, filepath.Join(quay, "base.raw"), 8192)
	overlay(t, quay, "top.qcow2", "base.raw")
	require.NoError(t, os.Remove(filepath.Join(quay, "base.raw")))
	token := filepath.Join(s.State, "token")
	require.NoError(t, os.Link(token, filepath.Join(quay, "base.raw")))
	inside := filepath.Join(quay, "inside")
	require.NoError(t, os.Mkdir(inside, 0o700))
	one := filepath.Join(quay, "one.raw")
	require.NoError(t, os.WriteFile(one, nil, 0o600))

	for _, path := range []string{"base.raw", "top.qcow2"} {
		_, err := s.Look(t.Context(), plan.Place{Pool: "quay-store", Path: path})
		require.ErrorContains(t, err, "it belongs to the service itself", path)
		kept, err := s.Plan(
			t.Context(),
			plan.Request{
				Kind:        plan.Convert,
				As:          "qcow2",
				Source:      plan.Place{Pool: "quay-store", Path: path},
				Destination: &plan.Place{Pool: "sea-store", Path: "out.qcow2"},
			},
		)
		if err == nil {
			assert.True(t, kept.Blocked, path)
		}
	}
	kept, err := s.Plan(t.Context(), move("quay-store:base.raw", "sea-store:out.raw"))
	assert.True(t, err != nil || kept.Blocked)

	bind(t, s.State, inside)
	bind(t, filepath.Join(s.State, "secrets.key"), one)
	for _, path := range []string{"inside/secrets.key", "one.raw", "inside/records.sqlite"} {
		_, err := s.Look(t.Context(), plan.Place{Pool: "quay-store", Path: path, Format: "raw"})
		require.ErrorContains(t, err, "it belongs to the service itself", path)
		kept, err := s.Plan(t.Context(), move("quay-store:"+path, "sea-store:out.raw"))
		assert.True(t, err != nil || kept.Blocked, path)
	}
	bind(t, s.State, sea)
	_, err = s.Look(t.Context(), plan.Place{Pool: "sea-store", Path: "secrets.key", Format: "raw"})
	require.ErrorContains(t, err, "it belongs to the service itself")
	testkit.Noise(t, filepath.Join(quay, "crew.raw"), mib)
	kept, err = s.Plan(t.Context(), move("quay-store:crew.raw", "sea-store:receipts.jwk"))
	assert.True(t, err != nil || kept.Blocked)
	assert.FileExists(t, filepath.Join(s.State, "receipts.jwk"))
}

// TestNoStateThroughAnotherDoor: nor is it a pool of a host which is this computer under another name.
func TestNoStateThroughAnotherDoor(t *testing.T) {
	t.Parallel()
	server := sshd.Start(t)
	s := start(t)
	_, err := s.AddHost(t.Context(), api.NewHost{
		Name:       "quay",
		Kind:       api.NewHostKindSftp,
		Address:    server.Address,
		User:       &server.User,
		TrustedKey: &server.HostKey,
		Login:      &api.Secrets{Key: ptr(string(server.Key))},
	})
	require.NoError(t, err)
	_, err = s.AddPool(t.Context(), api.NewPool{Name: "far-store", Host: ptr("quay"), Folder: s.State})
	require.ErrorContains(t, err, "the state of a service")
}
