package console

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"bagaglio/api"
	"bagaglio/core/nbd"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/sshd"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMovingByDragging: a disk that is dropped on another pool opens the composing page with the move filled in, and its plan.
func TestMovingByDragging(t *testing.T) {
	t.Parallel()
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	testkit.Eval[bool](p, `(() => {
		const data = new DataTransfer();
		const row = [...document.querySelectorAll("li[draggable]")].find(r => r.textContent.includes("tide-board.raw"));
		const target = document.querySelector('section[aria-label="lighthouse-store"]');
		row.dispatchEvent(new DragEvent("dragstart", {bubbles: true, dataTransfer: data}));
		target.dispatchEvent(new DragEvent("dragover", {bubbles: true, cancelable: true, dataTransfer: data}));
		target.dispatchEvent(new DragEvent("drop", {bubbles: true, dataTransfer: data}));
		return true;
	})()`)
	p.AwaitText("lighthouse-store:tide-board.raw")
	p.AwaitText("nothing is copied")
	p.Click("Start")
	p.AwaitText("Proven")
	assert.NotContains(t, testkit.Eval[string](p, `document.body.innerText`), "undefined")
	done, err := s.Receipt(t.Context(), "1")
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, done.Outcome)
	disks, err := s.Disks(t.Context(), "quay-store")
	require.NoError(t, err)
	assert.Len(t, disks, 1, "only the wreck stays")

	// And back without a mouse: the row's choice does the same.
	p.Click("Places")
	p.AwaitText("tide-board.raw")
	p.Fill("Move tide-board.raw to", "quay-store")
	p.AwaitText("quay-store:tide-board.raw")
	p.Fill("Work", "copy")
	p.AwaitText("Prove it: read the new image back and compare")
	p.Click("Start")
	p.AwaitText("every byte of the files")
}

// TestAPool is searched, tried out, and given rules that its plans keep to.
func TestAPool(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay := s.Pool("pier")
	for _, name := range []string{"crew-roster.raw", "cargo-ledger.raw"} {
		require.NoError(t, os.WriteFile(filepath.Join(quay, name), make([]byte, 1<<20), 0o600))
	}
	require.NoError(t, os.WriteFile(filepath.Join(quay, "notes.txt"), nil, 0o600))
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.Click("pier")
	p.AwaitText("2 disks, page 1 of 1")
	p.AwaitText("1 files belong to no disk")
	p.Fill("Search", "cargo")
	p.AwaitText("1 disks, page 1 of 1")
	p.Fill("Search", "")
	p.Fill("Show", "broken")
	p.AwaitText("0 disks, page 1 of 1")
	p.Click("dynamic-only")
	p.AwaitText("vhd: dynamic, differencing")
	p.Click("thin-only")
	p.AwaitText("only thin")
	p.Click("Try it out")
	p.AwaitText("nothing of the trial is left")
	p.Open(s.Address + "/compose?pool=quay-store&path=tide-board.raw&work=move&to=pier")
	p.AwaitText("does not accept raw")
	p.AwaitText("Convert to qcow2, thin")
	p.Click("Do all that the rules ask for")
	p.AwaitText("tide-board.qcow2")
	p.Click("Start")
	p.AwaitText("Proven: what arrived is what left")
	assert.FileExists(t, filepath.Join(quay, "tide-board.qcow2"))

	// Whose a disk is, and rules one by one.
	require.NoError(
		t,
		os.WriteFile(filepath.Join(quay, "crew.vmx"), []byte("displayName = \"the crew\"\nscsi0:0.fileName = \"crew-roster.raw\"\n"), 0o600),
	)
	p.Open(s.Address + "/pool?name=pier")
	p.AwaitText("the crew")
	p.AwaitText("it lies in the folder of the crew, which does not use it")
	p.Click("Change it one by one")
	p.Fill("File names", "MACHINE-NAMEEXT")
	p.Fill("Largest disk, in GiB", "2048")
	p.Click("Not for machines that run")
	p.Click("Change what it accepts")
	p.AwaitText("files are named MACHINE-NAMEEXT")
	p.AwaitText("not for machines that run")
	pool, err := s.Service.Pool(t.Context(), "pier")
	require.NoError(t, err)
	assert.Equal(t, int64(2)<<40, pool.Rules.LargestDisk)
	require.Len(t, pool.Rules.Accepts, 6, "what was not touched stays")
	assert.Equal(t, []string{"thin", "overlay"}, pool.Rules.Accepts[0].Layouts)
}

// TestEmptyingAPool as one group, which the jobs page shows.
func TestEmptyingAPool(t *testing.T) {
	t.Parallel()
	s := world(t)
	quay, err := s.Service.Pool(t.Context(), "quay-store")
	require.NoError(t, err)
	for name, text := range map[string]string{
		"tide-board.ovf": `<Envelope><References><File id="f" href="tide-board.raw"/></References><DiskSection><Disk fileRef="f"/></DiskSection><VirtualSystem id="tide-board"/></Envelope>`,
		"tide-board.mf":  "SHA256(tide-board.ovf)= 00", // so that it cannot follow
	} {
		require.NoError(t, os.WriteFile(filepath.Join(quay.Folder, name), []byte(text), 0o600))
	}
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.Click("quay-store")
	p.Click("Empty it into others")
	p.AwaitText("wreck.vhd stays in quay-store")
	p.AwaitText("The definitions of tide-board follow their disks where they can")
	p.Click("Move 1 disk")
	p.AwaitText("drain quay-store")
	p.AwaitText("1 of 1 have ended")
	p.AwaitText("a file beside it holds its checksum")
	p.AwaitText("move quay-store:tide-board.raw")
	done, err := s.Receipt(t.Context(), "1")
	require.NoError(t, err)
	assert.Equal(t, receipt.Proven, done.Outcome)
	disks, err := s.Disks(t.Context(), "quay-store")
	require.NoError(t, err)
	assert.Len(t, disks, 1)
}

// TestANewHost is added, looked at, trusted, and given a pool.
func TestANewHost(t *testing.T) {
	t.Parallel()
	server := sshd.Start(t)
	s := world(t)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.Click("Hosts and new pools")
	p.AwaitText("the service's own computer")
	p.Click("New host")
	p.Fill("Name of the host", "lighthouse")
	p.Fill("Address (HOST or HOST:PORT)", server.Address)
	p.Fill("User", server.User)
	p.Fill("Private key (PEM)", string(server.Key))
	p.Click("Add the host")
	p.AwaitText(server.HostKey)
	p.Click("It is the same: trust it")
	p.AwaitText("trusted by its key")
	p.Click("New pool")
	p.Fill("Host", "lighthouse")
	p.Fill("Name of the pool", "lamp-room")
	p.Fill("Folder on the host", t.TempDir())
	p.Click("Add the pool")
	p.AwaitText("lamp-room is added")
	hosts, err := s.Hosts(t.Context())
	require.NoError(t, err)
	require.Len(t, hosts, 2)
	assert.Equal(t, server.HostKey, hosts[1].TrustedKey)
	p.Click("Change how it is reached")
	p.Fill("User", "keeper")
	p.Click("Change lighthouse")
	p.AwaitText(", as keeper with key")
	hosts, err = s.Hosts(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "keeper", hosts[1].User)
	assert.NotContains(
		t,
		testkit.Eval[string](p, `document.documentElement.outerHTML`),
		"PRIVATE KEY",
		"what was sent is not kept on the page",
	)
}

// TestServedDisksAreListed with who reads them, until somebody ends that.
func TestServedDisksAreListed(t *testing.T) {
	t.Parallel()
	s := world(t)
	listen := "127.0.0.1:0"
	x, err := s.OpenExport(t.Context(), api.NewExport{Disk: plan.Place{Pool: "quay-store", Path: "tide-board.raw"}, Listen: &listen})
	require.NoError(t, err)
	conn, err := (&net.Dialer{}).DialContext(t.Context(), "tcp", x.At)
	require.NoError(t, err)
	d, err := nbd.Connect(t.Context(), conn, "disk", nil)
	require.NoError(t, err)
	defer d.Close()
	_, err = d.ReadAt(make([]byte, 1<<20), 0)
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Places")
	p.AwaitText("Served for others to read")
	p.AwaitText(conn.LocalAddr().String() + " has read 1 MiB, 0 bytes/s")
	p.Click("End it")
	p.Await(`!document.body.innerText.includes("Served for others to read")`)
	all, err := s.Exports(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
}
