// Package daemon runs private virtualisation daemons for tests, each with its own machines.
package daemon

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"
	"time"

	"bagaglio/core/host"
	_ "bagaglio/core/host/libvirt"
	"bagaglio/internal/bootcode"
	"bagaglio/internal/guestd"

	"github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"
	"github.com/stretchr/testify/require"
)

// runsAs is the user of the daemons: nothing of them is the system's own.
const runsAs = "bagaglio-guests"

// Daemon is one that runs until the test ends.
type Daemon struct {
	*guestd.Daemon
	Dir string // for disks
}

// Start starts a daemon as an ordinary user, with more words on its command line, and skips the test where that is not possible.
func Start(t testing.TB, words ...string) *Daemon {
	t.Helper()
	for tool, of := range guestd.Needs {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is missing: apt-get install %s", tool, of)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("a daemon of its own user takes root")
	}
	u, err := user.Lookup(runsAs)
	if err != nil {
		out, addErr := exec.Command("useradd", "--system", "--user-group", "--no-create-home", "--shell", "/usr/sbin/nologin", runsAs).
			CombinedOutput()
		if u, err = user.Lookup(runsAs); err != nil {
			t.Skipf("adding the user %s: %v: %s", runsAs, addErr, out)
		}
	}
	d, err := guestd.Start(u, words...)
	require.NoError(t, err)
	t.Cleanup(func() {
		require.NoError(t, d.Close())
		if t.Failed() {
			t.Logf("the daemon said: %s", d.Said())
		}
	})
	return &Daemon{Daemon: d, Dir: d.Disks}
}

// Disk makes a disk that the daemon's guests can use, with a content.
func (d *Daemon) Disk(t testing.TB, name string, content []byte) string {
	t.Helper()
	file := filepath.Join(d.Dir, name)
	require.NoError(t, os.WriteFile(file, content, 0o666))
	require.NoError(t, os.Chmod(file, 0o666))
	return file
}

// Definition is a small machine of that name, whose disk is a raw file. It runs without acceleration.
func Definition(name, disk string) string {
	return fmt.Sprintf(`<domain type='qemu'>
  <name>%s</name>
  <memory unit='MiB'>32</memory>
  <vcpu>1</vcpu>
  <os><type arch='x86_64' machine='pc'>hvm</type></os>
  <features><acpi/></features>
  <devices>
    <emulator>/usr/bin/qemu-system-x86_64</emulator>
    <disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='%s'/><target dev='hda' bus='ide'/></disk>
    <serial type='pty'/>
    <video><model type='vga'/></video>
    <graphics type='vnc' port='-1' autoport='no'><listen type='none'/></graphics>
  </devices>
</domain>`, name, disk)
}

// Boot is the first sector of a disk from which a guest starts, and which may listen to its power button.
func Boot(listens bool) []byte { return bootcode.Sector("The tides are up.", 0, listens) }

// Dial connects to a socket of this computer.
func Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// StoragePool makes the folder with the disks a storage pool of the daemon's own.
func (d *Daemon) StoragePool(t testing.TB, name string) {
	t.Helper()
	l := libvirt.NewWithDialer(dialers.NewLocal(dialers.WithSocket(d.Socket)))
	require.NoError(t, l.ConnectToURI(libvirt.QEMUSession))
	defer func() { _ = l.Disconnect() }() // it may be gone
	_, err := l.StoragePoolCreateXML(fmt.Sprintf(`<pool type="dir"><name>%s</name><target><path>%s</path></target></pool>`, name, d.Dir), 0)
	require.NoError(t, err)
}

// Guest makes a small machine known, which starts from a disk of its own, NAME.raw, and may listen to its power button.
func (d *Daemon) Guest(t testing.TB, name string, listens bool) {
	t.Helper()
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	h, err := kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: Dial})
	require.NoError(t, err)
	defer h.Close()
	disk := d.Disk(t, name+".raw", append(Boot(listens), make([]byte, 1<<20)...))
	_, err = h.(host.Definer).Define(t.Context(), []byte(Definition(name, disk)))
	require.NoError(t, err)
}

// Loaded waits until a machine has read something of its disks, which is behind all that its firmware shows by itself.
func (d *Daemon) Loaded(t testing.TB, name string) {
	t.Helper()
	d.reads(t, name, 100*time.Millisecond, func(_, now int64) bool { return now > 0 })
}

// Settled waits until one has read something, and nothing more for some seconds: then it shows what it shows. No pictures are taken for that: daemons have died of those
// that were taken while a guest sets up its screen.
func (d *Daemon) Settled(t testing.TB, name string) {
	t.Helper()
	since := 0
	d.reads(t, name, time.Second, func(before, now int64) bool {
		if since++; now == 0 || now != before {
			since = 0
		}
		return since >= 3
	})
}

// reads waits until what a machine has read, before and now, is enough.
func (d *Daemon) reads(t testing.TB, name string, every time.Duration, enough func(before, now int64) bool) {
	t.Helper()
	kind, err := host.Lookup("libvirt")
	require.NoError(t, err)
	h, err := kind.Open(t.Context(), host.Address{Socket: d.Socket, Dial: Dial})
	require.NoError(t, err)
	defer h.Close()
	m, err := h.Machine(t.Context(), name)
	require.NoError(t, err)
	before := int64(0)
	require.Eventually(t, func() bool {
		signs, err := h.(host.Observer).Signs(t.Context(), m)
		was := before
		before = signs.Read
		return err == nil && enough(was, signs.Read)
	}, 3*time.Minute, every)
}
