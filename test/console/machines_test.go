package console

import (
	"testing"

	"bagaglio/api"
	"bagaglio/internal/testkit"
	"bagaglio/internal/testkit/daemon"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMachines: those of a host are seen with their disks, started, shown and switched off; and a host that cannot be asked is told.
func TestMachines(t *testing.T) {
	t.Parallel()
	d := daemon.Start(t)
	d.Guest(t, "ticketing", false)
	s := world(t)
	_, err := s.AddPool(t.Context(), api.NewPool{Name: "guests", Folder: d.Dir})
	require.NoError(t, err)
	p := testkit.Browse(t, 1280, 800)
	p.Open(s.Link)
	p.Click("Machines")
	p.AwaitText("No machines are known")
	runs := "libvirt"
	_, err = s.ChangeHost(t.Context(), "local", api.HostChange{Runs: &runs, Socket: &d.Socket})
	require.NoError(t, err)
	p.AwaitText("guests:ticketing.raw")
	p.AwaitText("bios, 32 MiB, 1 processor")
	p.Click("Start ticketing")
	p.AwaitText("running")
	p.Await(`(async () => {
		const r = await fetch(document.querySelector("a[href$=screen]").href);
		return r.ok && (await r.blob()).type === "image/png";
	})()`)
	_, err = s.StopMachine(t.Context(), "local", "ticketing", 0, true)
	require.NoError(t, err)
	p.AwaitText("Start ticketing")
	d.Kill()
	p.AwaitText("local could not be asked")
	assert.NotContains(t, testkit.Eval[string](p, `document.body.innerText`), "ticketing.raw", "nothing is shown that is not known")
}
