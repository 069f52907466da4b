package all

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"bagaglio/core/host"
	"bagaglio/internal/testkit/daemon"

	"github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// socket dials a socket of this computer.
type socket string

func (s socket) Dial() (net.Conn, error) { return net.Dial("unix", string(s)) }

// emulator is that of a guest, past its daemon.
type emulator struct {
	t *testing.T
	l *libvirt.Libvirt
	d libvirt.Domain
}

func (e emulator) ask(command string, with map[string]any) string {
	e.t.Helper()
	text, err := json.Marshal(map[string]any{"execute": command, "arguments": with})
	require.NoError(e.t, err)
	answer, err := e.l.QEMUDomainMonitorCommand(e.d, string(text), 0)
	require.NoError(e.t, err)
	require.NotContains(e.t, answer, `"error":`)
	return answer
}

// cover puts an image on the guest's disk as its daemon does, up to a moment: with covered, its guest writes to it then.
func (e emulator) cover(file string, covered bool) {
	e.t.Helper()
	found := regexp.MustCompile(`"node-name":"libvirt-(\d+)-format"`).FindStringSubmatch(e.ask("query-block", map[string]any{}))
	require.NotNil(e.t, found)
	n, err := strconv.Atoi(found[1])
	require.NoError(e.t, err)
	storage, format := fmt.Sprintf("libvirt-%d-storage", n+1), fmt.Sprintf("libvirt-%d-format", n+1)
	e.ask("blockdev-add", map[string]any{"driver": "file", "filename": file, "node-name": storage, "discard": "unmap"})
	e.ask("blockdev-add", map[string]any{"driver": "qcow2", "file": storage, "node-name": format, "backing": nil})
	if covered {
		e.ask("blockdev-snapshot", map[string]any{"node": fmt.Sprintf("libvirt-%d-format", n), "overlay": format})
	}
}

// TestAnEmulatorThatIsAhead of its daemon, which was ended while it put an image on a disk: what the guest wrote to that is written down before anything else is done with
// the disk, and nothing is lost.
func TestAnEmulatorThatIsAhead(t *testing.T) {
	w := worlds["libvirt"](t)
	ctx := t.Context()
	at := func(name string) string { return filepath.Join(w.folder, name) }
	require.NoError(t, os.WriteFile(at("ticketing.raw"), daemon.Counts(2<<20), 0o666))
	require.NoError(t, os.Chmod(at("ticketing.raw"), 0o666))
	m, err := w.Host.(host.Definer).Define(ctx, w.define("ticketing", at("ticketing.raw"), "raw"))
	require.NoError(t, err)
	require.NoError(t, w.Host.(host.Power).Start(ctx, m))
	w.writes(t, m)
	l := libvirt.NewWithDialer(socket(w.address.Socket))
	require.NoError(t, l.ConnectToURI(libvirt.QEMUSession))
	t.Cleanup(func() { assert.NoError(t, l.Disconnect()) })
	d, err := l.DomainLookupByName("ticketing")
	require.NoError(t, err)
	e, h := emulator{t, l, d}, w.Host.(host.Layerer)
	const slot = "hda"
	lies := func(want ...string) {
		t.Helper()
		files, err := h.Layers(ctx, m, slot)
		require.NoError(t, err)
		assert.Equal(t, want, files)
	}
	cover := func(name string) error {
		_, err := h.Cover(ctx, m, map[string]string{slot: at(name)}, false)
		return err
	}
	overlay(t, w.folder, "one.qcow2", "ticketing.raw", "raw")
	require.NoError(t, cover("one.qcow2"))
	overlay(t, w.folder, "ready.qcow2", "one.qcow2", "qcow2")
	e.cover(at("ready.qcow2"), false)
	require.NoError(t, cover("ready.qcow2"), "it was only made ready")
	lies(at("ready.qcow2"), at("one.qcow2"), at("ticketing.raw"))

	overlay(t, w.folder, "ahead.qcow2", "ready.qcow2", "qcow2")
	e.cover(at("ahead.qcow2"), true)
	w.writes(t, m)
	lies(at("ready.qcow2"), at("one.qcow2"), at("ticketing.raw")) // as the daemon takes it to be
	require.ErrorContains(t, cover("ahead.qcow2"), "is of no use any more")
	w.writes(t, m)
	overlay(t, w.folder, "next.qcow2", "ready.qcow2", "qcow2")
	require.NoError(t, cover("next.qcow2"))
	lies(at("next.qcow2"), at("ready.qcow2"), at("one.qcow2"), at("ticketing.raw"))
	w.writes(t, m)

	overlay(t, w.folder, "again.qcow2", "next.qcow2", "qcow2")
	e.cover(at("again.qcow2"), true)
	w.writes(t, m)
	_, err = h.Merge(ctx, m, slot, at("ticketing.raw"))
	require.NoError(t, err)
	lies(at("ticketing.raw"))
	w.writes(t, m)
	signs, err := w.Host.(host.Observer).Signs(ctx, m)
	require.NoError(t, err)
	require.NoError(t, w.Host.(host.Power).CutOff(ctx, m))
	counted := int64(daemon.Counted(t, contentOf(t, at("ticketing.raw"), "raw")))
	assert.GreaterOrEqual(t, counted, signs.Written/512-64, "what it wrote is there, but for what it did since it was asked")
}
