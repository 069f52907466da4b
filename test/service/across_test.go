package service

import (
	"bytes"
	"errors"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/storage/local"
	"bagaglio/internal/testkit"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// overlay makes an image that stands on one of another folder, which it names as it is told to.
func overlay(t *testing.T, dir, name, baseDir, base, as string) {
	t.Helper()
	from, err := local.Open(baseDir)
	require.NoError(t, err)
	defer from.Close()
	b, err := disk.Open(t.Context(), from, base, "")
	require.NoError(t, err)
	defer b.Close()
	to, err := local.Open(dir)
	require.NoError(t, err)
	defer to.Close()
	f, err := disk.Lookup("qcow2")
	require.NoError(t, err)
	w, err := f.Create(disk.Target{Folder: to, Name: name, Size: b.Size(), Layout: "overlay", Base: b, BaseName: as})
	require.NoError(t, err)
	_, err = w.WriteAt(bytes.Repeat([]byte("later"), 1000), 0)
	require.NoError(t, err)
	require.NoError(t, errors.Join(w.Commit(t.Context()), w.Close()))
}

// TestWhatStandsOnADiskOfAnotherPool is known: whatever would take the base away, or change it, is blocked, by its whole path or as seen from the image; so is what is
// in between, though nobody opens it there. A tree has all of them. What was moved away is no matter any more.
func TestWhatStandsOnADiskOfAnotherPool(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, gallery := s.Pool("quay-store"), s.Pool("gallery")
	noise(t, quay, "first.raw", mib)
	c := convert("first.raw", "base.qcow2", "qcow2")
	c.Destination.Pool = "quay-store"
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, c).Id)
	overlay(t, gallery, "top.qcow2", quay, "base.qcow2", filepath.Join(quay, "base.qcow2"))
	relative, err := filepath.Rel(gallery, filepath.Join(quay, "base.qcow2"))
	require.NoError(t, err)
	overlay(t, gallery, "beside.qcow2", quay, "base.qcow2", relative)
	overlay(t, gallery, "upper.qcow2", quay, "base.qcow2", "top.qcow2") // which is as long

	for name, r := range map[string]plan.Request{
		"removed": removal("base.qcow2"),
		"moved": {
			Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "base.qcow2"}, Release: true,
			Destination: &plan.Place{Pool: "gallery", Path: "base.qcow2"},
		},
		"renamed": {
			Kind: plan.Copy, Source: plan.Place{Pool: "quay-store", Path: "base.qcow2"}, Release: true,
			Destination: &plan.Place{Pool: "quay-store", Path: "old/base.qcow2"},
		},
		"made anew": {
			Kind: plan.Convert, Source: plan.Place{Pool: "quay-store", Path: "base.qcow2"}, As: "qcow2", Replace: true,
			Destination: &plan.Place{Pool: "quay-store", Path: "base.qcow2"},
		},
	} {
		p, err := s.Plan(t.Context(), r)
		require.NoError(t, err, name)
		assert.True(t, p.Blocked, name)
		for _, on := range []string{"gallery:top.qcow2", "gallery:beside.qcow2", "gallery:upper.qcow2"} {
			assert.Contains(t, messages(p.Plan), on, name)
		}
	}
	p, err := s.Plan(t.Context(), plan.Request{Kind: plan.Remove, Source: plan.Place{Pool: "gallery", Path: "top.qcow2"}})
	require.NoError(t, err)
	assert.True(t, p.Blocked)
	assert.Contains(t, messages(p.Plan), "upper.qcow2 stand(s) on this disk")

	family := testkit.Run(t, quay, s.State, "family", "quay-store:base.qcow2")
	require.Zero(t, family.Code, family.Notes)
	for _, on := range []string{"gallery:top.qcow2", "gallery:beside.qcow2", "gallery:upper.qcow2"} {
		assert.Contains(t, family.Out, on)
	}
	list, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	for _, d := range list.Items {
		if d.Path == "base.qcow2" {
			assert.Contains(t, strings.Join(d.Standing, " "), "gallery:top.qcow2")
		}
	}

	for _, name := range []string{"upper.qcow2", "top.qcow2", "beside.qcow2"} {
		testkit.Proven(
			t,
			s.Service,
			testkit.Begin(t, s.Service, plan.Request{Kind: plan.Remove, Source: plan.Place{Pool: "gallery", Path: name}}).Id,
		)
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, removal("base.qcow2")).Id)
}
