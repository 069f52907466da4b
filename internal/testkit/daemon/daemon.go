// Package daemon runs private virtualisation daemons for tests, each with its own machines.
package daemon

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"bagaglio/core/host"
	_ "bagaglio/core/host/libvirt"

	"github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"
	"github.com/stretchr/testify/require"
)

// runsAs is the user of the daemons: nothing of them is the system's own.
const runsAs = "bagaglio-guests"

// Daemon is one that runs until the test ends.
type Daemon struct {
	Socket string
	Dir    string // of the user that it runs as, for disks
	Owner  string // that user, as UID:GID
	cmd    *exec.Cmd
	notes  bytes.Buffer
}

// Start starts a daemon as an ordinary user, and skips the test where that is not possible.
func Start(t testing.TB) *Daemon {
	t.Helper()
	for tool, of := range map[string]string{"libvirtd": "libvirt-daemon", "qemu-system-x86_64": "qemu-system-x86", "setpriv": "util-linux"} {
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
	// Sockets have short names.
	dir, err := os.MkdirTemp("/tmp", "guests-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	uid, err := strconv.Atoi(u.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(u.Gid)
	require.NoError(t, err)
	env := []string{"PATH=" + os.Getenv("PATH"), "HOME=" + filepath.Join(dir, "home")}
	for name, sub := range map[string]string{"XDG_RUNTIME_DIR": "run", "XDG_CONFIG_HOME": "config", "XDG_CACHE_HOME": "cache", "XDG_DATA_HOME": "data"} {
		env = append(env, name+"="+filepath.Join(dir, sub))
	}
	for _, sub := range []string{"", "home", "run", "config", "cache", "data", "disks"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, sub), 0o755))
		require.NoError(t, os.Chown(filepath.Join(dir, sub), uid, gid))
	}
	d := &Daemon{Socket: filepath.Join(dir, "run/libvirt/libvirt-sock"), Dir: filepath.Join(dir, "disks"), Owner: u.Uid + ":" + u.Gid}
	d.cmd = exec.Command("setpriv", "--reuid="+u.Uid, "--regid="+u.Gid, "--clear-groups", "libvirtd")
	d.cmd.Env, d.cmd.Dir, d.cmd.Stdout, d.cmd.Stderr = env, dir, &d.notes, &d.notes
	require.NoError(t, d.cmd.Start())
	t.Cleanup(func() {
		d.Kill()
		if t.Failed() {
			t.Logf("the daemon said: %s\n%v", d.notes.String(), d.cmd.ProcessState)
		}
		_ = exec.Command("pkill", "-KILL", "-u", u.Uid, "-f", dir).Run() // guests that are left
	})
	require.Eventually(t, func() bool {
		_, err := os.Stat(d.Socket)
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, "the daemon did not start")
	return d
}

// Kill ends the daemon as a crash would. Its guests go on.
func (d *Daemon) Kill() {
	if d.cmd.ProcessState == nil {
		_ = d.cmd.Process.Kill()
		_ = d.cmd.Wait()
	}
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
    <video><model type='vga'/></video>
    <graphics type='vnc' port='-1' autoport='no'><listen type='none'/></graphics>
  </devices>
</domain>`, name, disk)
}

// Boot is the first sector of a disk from which a guest starts: it writes a line on its screen and waits until its power button is pressed, when
// it switches itself off; or for ever, when it does not listen.
func Boot(listens bool) []byte {
	code := []byte{
		0xb8, 0x03, 0x00, 0xcd, 0x10, // text mode, a clear screen (INT 10h, 00h)
		0xb4, 0x01, 0xb9, 0x07, 0x26, 0xcd, 0x10, // no cursor, which would blink (INT 10h, 01h)
		0xbe, 0x3b, 0x7c, // the text
		0xac, 0x84, 0xc0, 0x74, 0x06, // its next letter, until the end
		0xb4, 0x0e, 0xcd, 0x10, 0xeb, 0xf5, // to the screen (INT 10h, 0Eh)
		0xe4, 0xa1, 0x0c, 0x02, 0xe6, 0xa1, // its interrupt, 9, does not
		0xba, 0x02, 0x06, 0xb8, 0x00, 0x01, 0xef, // the power button counts (ACPI, 4.8.3.1.2)
		0xfb, 0xf4, // wait
		0xba, 0x00, 0x06, 0xed, 0xf6, 0xc4, 0x01, 0x74, 0xf5, // until it is pressed (4.8.3.1.1)
		0xba, 0x04, 0x06, 0xb8, 0x00, 0x20, 0xef, 0xeb, 0xec, // off (4.8.3.2.1)
	}
	if !listens {
		copy(code[26:], []byte{0xf4, 0xeb, 0xfd}) // halt, for ever
	}
	code = append(code, []byte("The tides are up.\x00")...)
	sector := make([]byte, 512)
	copy(sector, code)
	sector[510], sector[511] = 0x55, 0xaa
	return sector
}

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
