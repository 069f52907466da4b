package all

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/core/disk"
	"bagaglio/core/host"
	"bagaglio/core/machine"
	"bagaglio/core/storage/local"
	"bagaglio/internal/standin"
	"bagaglio/internal/testkit/daemon"
	"bagaglio/internal/testkit/standins"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// contentOf is what a disk has.
func contentOf(t *testing.T, file, format string) []byte {
	t.Helper()
	folder, err := local.Open(filepath.Dir(file))
	require.NoError(t, err)
	defer folder.Close()
	r, err := disk.Open(t.Context(), folder, filepath.Base(file), format)
	require.NoError(t, err)
	defer r.Close()
	b := make([]byte, r.Size())
	_, err = r.ReadAt(b, 0)
	require.NoError(t, err)
	return b
}

// counting are hosts whose guest counts on a disk of 2 MiB, with what it has counted as the content of the disk tells, and whether a number is missing.
var counting = map[string]func(*testing.T) (w world, content []byte, counted func([]byte) int64){
	"standin": func(t *testing.T) (world, []byte, func([]byte) int64) {
		s := standins.Start(t, t.TempDir(), standin.Traits{Writes: true, Layers: true})
		return standinOf(t, s), standins.Boots(2 << 20), func(b []byte) int64 { return standins.Counted(t, b) }
	},
	"libvirt": func(t *testing.T) (world, []byte, func([]byte) int64) {
		return worlds["libvirt"](t), daemon.Counts(2 << 20), func(b []byte) int64 { return int64(daemon.Counted(t, b)) }
	},
}

// TestLayers: while a guest counts, its disk is covered, what lies below stands still and is copied, and its guest goes on from the copy with nothing
// lost; what was covered is merged again.
func TestLayers(t *testing.T) {
	for kind, start := range counting {
		t.Run(kind, func(t *testing.T) {
			w, content, counted := start(t)
			testLayers(t, kind, w, content, counted)
		})
	}
}

func testLayers(t *testing.T, kind string, w world, content []byte, counted func([]byte) int64) {
	ctx := t.Context()
	at := func(name string) string { return filepath.Join(w.folder, name) }
	require.NoError(t, os.WriteFile(at("ticketing.raw"), content, 0o666))
	require.NoError(t, os.Chmod(at("ticketing.raw"), 0o666))
	m, err := w.Host.(host.Definer).Define(ctx, w.define("ticketing", at("ticketing.raw"), "raw"))
	require.NoError(t, err)
	h := w.Host.(host.Layerer)
	const slot = "hda"
	_, err = h.Cover(ctx, m, map[string]string{slot: at("one.qcow2")}, false)
	require.ErrorIs(t, err, host.ErrRefused, "it is off")
	require.NoError(t, w.Host.(host.Power).Start(ctx, m))
	writes := func() { t.Helper(); w.writes(t, m) }
	lies := func(want ...string) {
		t.Helper()
		files, err := h.Layers(ctx, m, slot)
		require.NoError(t, err)
		assert.Equal(t, want, files)
	}
	writes()
	lies(at("ticketing.raw"))
	_, err = h.Cover(ctx, m, map[string]string{"sdx": at("one.qcow2")}, false)
	require.ErrorIs(t, err, host.ErrRefused, "it has no such disk")
	_, err = h.Cover(ctx, m, map[string]string{slot: at("one.qcow2")}, true)
	require.ErrorIs(t, err, host.ErrRefused, "nobody in it puts it at rest")
	overlay(t, w.folder, "one.qcow2", "ticketing.raw", "raw")
	for range 2 {
		_, err = h.Cover(ctx, m, map[string]string{slot: at("one.qcow2")}, false)
		require.NoError(t, err)
		lies(at("one.qcow2"), at("ticketing.raw"))
	}
	frozen := contentOf(t, at("ticketing.raw"), "raw")
	first := counted(frozen)
	writes()
	overlay(t, w.folder, "two.qcow2", "one.qcow2", "qcow2")
	_, err = h.Cover(ctx, m, map[string]string{slot: at("two.qcow2")}, false)
	require.NoError(t, err)
	writes()
	assert.Equal(t, frozen, contentOf(t, at("ticketing.raw"), "raw"), "it stands still")
	second := counted(contentOf(t, at("one.qcow2"), "qcow2"))
	assert.Greater(t, second, first)
	overlay(t, w.folder, "upper.qcow2", "two.qcow2", "qcow2")
	_, err = h.Cover(ctx, m, map[string]string{slot: at("upper.qcow2")}, false)
	require.NoError(t, err)
	writes()
	third := counted(contentOf(t, at("two.qcow2"), "qcow2"))
	require.ErrorIs(t, h.Fold(ctx, m, slot, at("upper.qcow2"), at("one.qcow2")), host.ErrRefused, "its guest writes to it")
	require.ErrorIs(t, h.Fold(ctx, m, slot, at("two.qcow2"), at("other.raw")), host.ErrRefused, "it does not stand on that")
	for range 2 {
		require.NoError(t, h.Fold(ctx, m, slot, at("two.qcow2"), at("one.qcow2")))
		lies(at("upper.qcow2"), at("one.qcow2"), at("ticketing.raw"))
	}
	assert.Equal(t, third, counted(contentOf(t, at("one.qcow2"), "qcow2")), "it has what lay above")
	assert.Equal(t, frozen, contentOf(t, at("ticketing.raw"), "raw"), "and what lies below still stands still")
	writes()
	_, err = h.Merge(ctx, m, slot, at("other.raw"))
	require.ErrorIs(t, err, host.ErrRefused, "it does not stand on that")
	for range 2 {
		_, err = h.Merge(ctx, m, slot, at("ticketing.raw"))
		require.NoError(t, err)
		lies(at("ticketing.raw"))
	}
	assert.NoFileExists(t, at("one.qcow2"), "what is merged is removed")
	assert.NoFileExists(t, at("two.qcow2"))

	overlay(t, w.folder, "three.qcow2", "ticketing.raw", "raw")
	_, err = h.Cover(ctx, m, map[string]string{slot: at("three.qcow2")}, false)
	require.NoError(t, err)
	image(t, w.folder, "new.qcow2", "qcow2", contentOf(t, at("ticketing.raw"), "raw"))
	overlay(t, w.folder, "new-top.qcow2", "new.qcow2", "qcow2")
	writes()
	to := machine.Disk{File: at("new-top.qcow2"), Format: "qcow2"}
	ended, end := context.WithCancel(ctx)
	end()
	_, err = h.Mirror(ended, m, slot, to)
	require.ErrorIs(t, err, context.Canceled)
	w.Host = open(t, kind, w.address) // the connection was given up
	h = w.Host.(host.Layerer)
	require.NoError(t, h.GiveUp(ctx, m, slot))
	lies(at("three.qcow2"), at("ticketing.raw"))
	for range 2 {
		_, err = h.Mirror(ctx, m, slot, to)
		require.NoError(t, err)
		lies(at("new-top.qcow2"), at("new.qcow2"))
	}
	writes()
	_, err = h.Merge(ctx, m, slot, at("new.qcow2"))
	require.NoError(t, err)
	lies(at("new.qcow2"))
	now, err := w.Machine(ctx, "ticketing")
	require.NoError(t, err)
	is, err := machine.Describe(now.Format, now.Definition)
	require.NoError(t, err)
	assert.Equal(t, at("new.qcow2"), is.Disks[0].File, "it is stored so too")
	assert.Equal(t, "qcow2", is.Disks[0].Format)
	require.NoError(t, w.Host.(host.Power).CutOff(ctx, m))
	assert.Greater(t, counted(contentOf(t, at("new.qcow2"), "qcow2")), second)
}

// overlay makes an image that stands on another one.
func overlay(t *testing.T, dir, name, base, format string) {
	t.Helper()
	folder, err := local.Open(dir)
	require.NoError(t, err)
	defer folder.Close()
	f, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	below, err := disk.Open(t.Context(), folder, base, format)
	require.NoError(t, err)
	defer below.Close()
	w, err := f.Create(disk.Target{Folder: folder, Name: name, Size: 2 << 20, Layout: "overlay", Base: below, BaseName: base})
	require.NoError(t, err)
	require.NoError(t, w.Commit(t.Context()))
	require.NoError(t, os.Chmod(filepath.Join(dir, name), 0o666))
}
