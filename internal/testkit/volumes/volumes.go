// Package volumes stands in for the tools of LVM and ZFS in tests, with loop devices: this computer's kernel may have neither.
package volumes

import (
	_ "embed"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

//go:embed tools.sh
var tools string

// Group is a group of volumes of this computer.
type Group struct {
	Name string
	// Bin is the folder with the tools. It comes first in PATH as long as the test runs.
	Bin string
	dir string
}

// New makes a group with so much room, in bytes, and skips the test where there are no loop devices.
func New(t testing.TB, name string, room int64) *Group {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("making volumes takes root")
	}
	if out, err := exec.Command("losetup", "--find").CombinedOutput(); err != nil {
		t.Skipf("this system makes no loop devices: %s", out)
	}
	g := &Group{Name: name, Bin: t.TempDir(), dir: t.TempDir()}
	require.NoError(t, os.Mkdir(filepath.Join(g.dir, "dev"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(g.dir, "total"), []byte(strconv.FormatInt(room, 10)), 0o644))
	script := strings.NewReplacer("@DIR@", g.dir, "@GROUP@", name).Replace(tools)
	for _, tool := range []string{"lvs", "vgs", "lvcreate", "lvextend", "lvrename", "lvremove", "zfs"} {
		require.NoError(t, os.WriteFile(filepath.Join(g.Bin, tool), []byte(script), 0o755))
	}
	t.Cleanup(func() {
		devices, err := filepath.Glob(filepath.Join(g.dir, "*.device"))
		require.NoError(t, err)
		for _, d := range devices {
			b, err := os.ReadFile(d)
			require.NoError(t, err)
			out, err := exec.Command("losetup", "--detach", strings.TrimSpace(string(b))).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	})
	return g
}

// Path is what PATH is with the tools in it.
func (g *Group) Path() string { return g.Bin + ":" + os.Getenv("PATH") }

// Device is the device of a volume.
func (g *Group) Device(name string) string { return filepath.Join(g.dir, "dev", name) }

// AsZFS puts the devices where ZFS has them, as those of a dataset with the name of the group.
func (g *Group) AsZFS(t testing.TB) {
	t.Helper()
	const dir = "/dev/zvol"
	require.NoError(t, os.MkdirAll(dir, 0o755))
	at := filepath.Join(dir, g.Name)
	_ = os.Remove(at) // of a test that was killed
	require.NoError(t, os.Symlink(filepath.Join(g.dir, "dev"), at))
	t.Cleanup(func() { require.NoError(t, os.Remove(at)) })
}

// Open has a volume told as open, or not.
func (g *Group) Open(t testing.TB, name string, open bool) {
	t.Helper()
	mark := filepath.Join(g.dir, name+".open")
	if open {
		require.NoError(t, os.WriteFile(mark, nil, 0o644))
		return
	}
	require.NoError(t, os.Remove(mark))
}

// Volumes are the names of those that there are.
func (g *Group) Volumes(t testing.TB) (names []string) {
	t.Helper()
	all, err := filepath.Glob(filepath.Join(g.dir, "*.volume"))
	require.NoError(t, err)
	for _, v := range all {
		names = append(names, strings.TrimSuffix(filepath.Base(v), ".volume"))
	}
	return names
}
