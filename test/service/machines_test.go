package service

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"bagaglio/api"
	"bagaglio/core/plan"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMachinesOwnDisks: whose a disk is, is told in the list of its pool and in plans, and which disks no machine uses.
func TestMachinesOwnDisks(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, sea := s.Pool("quay-store"), s.Pool("sea-store")
	for _, name := range []string{"crew-roster/crew-roster.raw", "crew-roster/old.raw", "tide-board/base.raw", "gate.raw"} {
		noise(t, quay, name, mib)
	}
	noise(t, sea, "roster-log.raw", mib)
	define := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(quay, name), []byte(text), 0o600))
	}
	entry := func(pool, path string) api.DiskEntry {
		list, err := s.ListDisks(t.Context(), pool, api.ListDisksParams{Refresh: ptr(true), Search: &path})
		require.NoError(t, err)
		require.Len(t, list.Items, 1)
		return list.Items[0]
	}
	assert.Nil(t, entry("quay-store", "gate.raw").Orphan, "no machine is known at all")

	testkit.Proven(
		t,
		s.Service,
		testkit.Begin(t, s.Service, plan.Request{
			Kind:   plan.Convert,
			As:     "qcow2",
			Layout: "overlay",
			Base:   "tide-board/base.raw",
			Source: plan.Place{
				Pool: "quay-store",
				Path: "gate.raw",
			},
			Destination: &plan.Place{Pool: "quay-store", Path: "tide-board/top.qcow2"},
		}).Id,
	)
	define(
		"crew-roster/crew-roster.vmx",
		fmt.Sprintf("displayName = \"crew-roster\"\nscsi0:0.fileName = \"crew-roster.raw\"\nscsi0:1.fileName = \"%s/roster-log.raw\"\n", sea),
	)
	define("tide-board/tide-board.xml", "<domain><name>tide-board</name><devices><disk><source file='top.qcow2'/></disk></devices></domain>")

	for path, want := range map[string]struct{ machine, orphan string }{
		"crew-roster/crew-roster.raw": {"crew-roster", ""},
		"crew-roster/old.raw":         {"", "it lies in the folder of crew-roster, which does not use it"},
		"tide-board/top.qcow2":        {"tide-board", ""},
		"tide-board/base.raw":         {"tide-board", ""}, // by what stands on it
		"gate.raw":                    {"", ""},           // which is no reason to warn: it may be a copy
	} {
		e := entry("quay-store", path)
		if want.machine != "" {
			assert.Equal(t, []string{want.machine}, e.Machines, path)
			assert.Nil(t, e.Orphan, path)
			continue
		}
		assert.Empty(t, e.Machines, path)
		if want.orphan != "" {
			require.NotNil(t, e.Orphan, path)
			assert.Equal(t, want.orphan, *e.Orphan, path)
		}
	}
	assert.Equal(t, []string{"crew-roster"}, entry("sea-store", "roster-log").Machines, "its definition lies in another pool")
	orphans, err := s.ListDisks(t.Context(), "quay-store", api.ListDisksParams{Refresh: ptr(true), Only: ptr(api.Orphans)})
	require.NoError(t, err)
	assert.Equal(t, 2, orphans.Total)
	assert.Zero(t, orphans.StrayCount, "definitions belong to something")

	// What plans make of that.
	lighthouse := s.Pool("lighthouse-store")
	_, err = s.ChangePool(
		t.Context(),
		"lighthouse-store",
		api.PoolChange{Rules: plan.Rules{MachineFolders: true, Name: "MACHINE-UUIDEXT", NoRunning: true}},
	)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(lighthouse, "tide-board"), 0o700))
	require.NoError(t, os.Rename(filepath.Join(quay, "tide-board/tide-board.xml"), filepath.Join(lighthouse, "tide-board/tide-board.xml")))
	_, err = s.ListDisks(t.Context(), "lighthouse-store", api.ListDisksParams{Refresh: ptr(true)})
	require.NoError(t, err)
	r := plan.Request{
		Kind:        plan.Copy,
		Release:     true,
		Source:      plan.Place{Pool: "sea-store", Path: "roster-log.raw"},
		Destination: &plan.Place{Pool: "lighthouse-store", Path: "roster-log.raw"},
	}
	checks := func() map[string]plan.Check {
		kept, err := s.Plan(t.Context(), r)
		require.NoError(t, err)
		by := map[string]plan.Check{}
		for _, c := range kept.Plan.Checks {
			by[c.Name] = c
		}
		return by
	}
	by := checks()
	assert.Contains(t, by["machine"].Message, "crew-roster (quay-store:crew-roster/crew-roster.vmx) will name the disk in its new place")
	r.LeaveDefinitions = true
	assert.Contains(
		t,
		checks()["machine"].Message,
		"crew-roster (quay-store:crew-roster/crew-roster.vmx) names this disk where it is now: write "+lighthouse+"/roster-log.raw there",
	)
	r.LeaveDefinitions = false
	assert.Contains(t, by["rule-running"].Message, "not for machines that run")
	require.NotEmpty(t, by["rule-folder"].Remedies)
	assert.Contains(t, by["rule-folder"].Remedies[0].Label, "folder crew-roster")
	require.NotEmpty(t, by["rule-name"].Remedies)
	assert.Contains(t, by["rule-name"].Remedies[0].Label, "Name it crew-roster-")
	r.Destination.Path = "tide-board/roster-log.raw"
	assert.Contains(t, checks()["folder"].Message, "is that of tide-board, which does not use this disk")

	// And of emptying a pool.
	b, _ := testkit.Balance(
		t,
		s.Service,
		plan.BalanceRequest{Kind: plan.KindDrain, Pools: []string{"sea-store"}, To: []string{"lighthouse-store"}},
	)
	require.Len(t, b.Left, 1)
	b, _ = testkit.Balance(t, s.Service, plan.BalanceRequest{Kind: plan.KindDrain, Pools: []string{"sea-store"}, To: []string{"quay-store"}})
	require.Len(t, b.Carries, 1)
	assert.Equal(t, "crew-roster", b.Carries[0].Machine)
}

// TestDefinitionsFollowTheirDisks: moved, renamed, converted, one after the other and side by side; and what was changed comes back.
func TestDefinitionsFollowTheirDisks(t *testing.T) {
	t.Parallel()
	s := start(t)
	quay, sea := s.Pool("quay-store"), s.Pool("sea-store")
	for _, name := range []string{"roster/a.raw", "roster/b.raw", "cargo/c.raw"} {
		noise(t, quay, name, mib)
	}
	define := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(quay, name), []byte(text), 0o640))
	}
	is := func(name, text string) {
		t.Helper()
		b, err := os.ReadFile(filepath.Join(quay, name))
		require.NoError(t, err)
		assert.Equal(t, text, string(b))
	}
	const domain = "<domain type='x'>\n  <name>crew-roster</name> <!-- since the quay -->\n  <devices>\n    <disk><driver type='raw'/><source file=\"%s\"/></disk><disk><driver type='%s'/><source file='%s'/></disk>\n  </devices>\n</domain>\n"
	define("roster/crew-roster.xml", fmt.Sprintf(domain, quay+"/roster/a.raw", "raw", "b.raw"))
	define(
		"cargo/cargo-ledger.ovf",
		`<Envelope><References><File id="f" href="c.raw"/></References><DiskSection><Disk fileRef="f"/></DiskSection><VirtualSystem id="cargo-ledger"/></Envelope>`,
	)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "cargo/cargo-ledger.mf"), []byte("SHA256(cargo-ledger.ovf)= 00"), 0o600))
	move := func(from, pool, to string, change func(*plan.Request)) api.Job {
		r := plan.Request{
			Kind:        plan.Copy,
			Release:     true,
			Source:      plan.Place{Pool: "quay-store", Path: from},
			Destination: &plan.Place{Pool: pool, Path: to},
		}
		if change != nil {
			change(&r)
		}
		return testkit.Begin(t, s.Service, r)
	}
	// Both disks of a machine at once: neither change is lost.
	one := move("roster/a.raw", "sea-store", "a.raw", nil)
	two := move("roster/b.raw", "quay-store", "roster/log/b.qcow2", func(r *plan.Request) { r.Kind, r.As = plan.Convert, "qcow2" })
	receipt := testkit.Proven(t, s.Service, one.Id)
	assert.Contains(t, fmt.Sprint(receipt.Remarks), "crew-roster (quay-store:roster/crew-roster.xml) names the disk in its new place")
	testkit.Proven(t, s.Service, two.Id)
	is("roster/crew-roster.xml", fmt.Sprintf(domain, sea+"/a.raw", "qcow2", "log/b.qcow2"))
	require.Eventually(t, func() bool { // its definition lies in another pool
		list, err := s.ListDisks(t.Context(), "sea-store", api.ListDisksParams{Refresh: ptr(true)})
		return err == nil && slices.Equal([]string{"crew-roster"}, list.Items[0].Machines)
	}, 10*time.Second, 20*time.Millisecond)
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	var definitions []string
	for _, h := range held {
		if h.Path == "roster/crew-roster.xml" {
			definitions = append(definitions, h.Id)
		}
	}
	require.Len(t, definitions, 2, "the definition as it was before each")
	_, err = s.Restore(t.Context(), "quay-store", definitions[0], true)
	require.NoError(t, err)

	// A definition that a manifest speaks of stays, and so it does on request.
	kept, err := s.Plan(
		t.Context(),
		plan.Request{
			Kind:        plan.Copy,
			Release:     true,
			Source:      plan.Place{Pool: "quay-store", Path: "cargo/c.raw"},
			Destination: &plan.Place{Pool: "quay-store", Path: "cargo/d.raw"},
		},
	)
	require.NoError(t, err)
	assert.NotContains(t, testkit.Kinds(kept.Plan), plan.StepHandOver)
	assert.Contains(t, fmt.Sprint(kept.Plan.Checks), "a file beside it holds its checksum")
	require.NoError(t, os.Remove(filepath.Join(quay, "cargo/cargo-ledger.mf")))
	testkit.Proven(t, s.Service, move("cargo/c.raw", "quay-store", "cargo/d.raw", func(r *plan.Request) { r.LeaveDefinitions = true }).Id)
	is(
		"cargo/cargo-ledger.ovf",
		`<Envelope><References><File id="f" href="c.raw"/></References><DiskSection><Disk fileRef="f"/></DiskSection><VirtualSystem id="cargo-ledger"/></Envelope>`,
	)
}

// TestDisksThatLeaveTheirMachine for another host, where no definition can name them.
func TestDisksThatLeaveTheirMachine(t *testing.T) {
	t.Parallel()
	s := start(t)
	dir := lighthouse(t, s, sshd.Start(t))
	quay := s.Pool("quay-store")
	noise(t, quay, "gate.raw", mib)
	require.NoError(t, os.WriteFile(filepath.Join(quay, "gate.vmx"), []byte(`scsi0:0.fileName = "gate.raw"`), 0o600))
	r := plan.Request{
		Kind:        plan.Copy,
		Release:     true,
		Source:      plan.Place{Pool: "quay-store", Path: "gate.raw"},
		Destination: &plan.Place{Pool: "far-store", Path: "gate.raw"},
	}
	kept, err := s.Plan(t.Context(), r)
	require.NoError(t, err)
	assert.Contains(t, kept.Plan.Checks[len(kept.Plan.Checks)-1].Message, "the disk will be on another host")
	assert.NotContains(t, testkit.Kinds(kept.Plan), plan.StepHandOver)

	// On that host, where files cannot be swapped, a definition follows like on this one.
	noise(t, dir, "tide/tide-board.raw", mib)
	definition := filepath.Join(dir, "tide/tide-board.xml")
	require.NoError(
		t,
		os.WriteFile(
			definition,
			[]byte("<domain><name>tide-board</name><devices><disk><source file='tide-board.raw'/></disk></devices></domain>"),
			0o640,
		),
	)
	r = plan.Request{
		Kind:        plan.Copy,
		Release:     true,
		Source:      plan.Place{Pool: "far-store", Path: "tide/tide-board.raw"},
		Destination: &plan.Place{Pool: "far-store", Path: "lamp-room/tide-board.raw"},
	}
	testkit.Proven(t, s.Service, testkit.Begin(t, s.Service, r).Id)
	b, err := os.ReadFile(definition)
	require.NoError(t, err)
	assert.Contains(t, string(b), "file='"+dir+"/lamp-room/tide-board.raw'")
	info, err := os.Stat(definition)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	held, err := s.Held(t.Context())
	require.NoError(t, err)
	require.Len(t, held, 1)
	_, err = s.Restore(t.Context(), "far-store", held[0].Id, true)
	require.NoError(t, err)
	b, err = os.ReadFile(definition)
	require.NoError(t, err)
	assert.Contains(t, string(b), "file='tide-board.raw'")
}
