package adapt

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bagaglio/core/inspect"
	"bagaglio/internal/testkit/hives"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pier is a registry of Windows that starts by IDE, with other drivers that are there and put off.
func pier() []byte {
	service := func(name string, start uint32, put ...uint32) hives.Key {
		k := hives.Key{Name: name, Values: map[string]any{"Start": start, "Group": "SCSI Miniport"}}
		if len(put) > 0 {
			k.Keys = []hives.Key{{Name: "StartOverride", Values: map[string]any{"0": put[0]}}}
		}
		return k
	}
	return hives.Make(hives.Key{Name: "ROOT", Keys: []hives.Key{
		{Name: "ControlSet001", Keys: []hives.Key{{Name: "Services", Each: 2, Keys: []hives.Key{
			service("intelide", 0), service("storahci", 3, 3), service("stornvme", 0, 3), service("LSI_SAS", 3), service("Themes", 2),
		}}}},
		{Name: "Select", Values: map[string]any{"Current": uint32(1)}},
	}})
}

// pierDisk is a disk with a system of Windows, whose folders are written as old ones write them.
func pierDisk(t *testing.T, system tree) string {
	t.Helper()
	needs(t, "mkfs.ntfs", "ntfs-3g", "ntfsfix")
	dir := t.TempDir()
	name, at, from := filepath.Join(dir, "pier.raw"), filepath.Join(dir, "at"), filepath.Join(dir, "tree")
	require.NoError(t, os.Mkdir(at, 0o755))
	system.put(t, from)
	sh(t, "truncate -s 64M "+name+"; mkfs.ntfs -Q -q -F "+name+"; ntfs-3g "+name+" "+at+"; cp -r "+from+"/. "+at+"/; umount "+at)
	return name
}

func windowsTree() tree {
	return tree{
		"WINDOWS/system32/config/SYSTEM":        string(pier()),
		"WINDOWS/system32/drivers/storahci.sys": "driver",
		"WINDOWS/system32/drivers/stornvme.sys": "driver",
		"WINDOWS/system32/drivers/intelide.sys": "driver",
		"Users/crew/tides.txt":                  strings.Repeat("the tide comes in\n", 10000),
	}
}

// TestWindowsLoadsADriverThatItHas, by its registry, of which nothing else is another one.
func TestWindowsLoadsADriverThatItHas(t *testing.T) {
	for bus, lines := range map[string][]string{
		"sata": {
			`-ControlSet001\Services\storahci\Start 3`, `+ControlSet001\Services\storahci\Start 0`,
			`-ControlSet001\Services\storahci\StartOverride\0 3`, `+ControlSet001\Services\storahci\StartOverride\0 0`,
		},
		"nvme": {`-ControlSet001\Services\stornvme\StartOverride\0 3`, `+ControlSet001\Services\stornvme\StartOverride\0 0`},
	} {
		t.Run(bus, func(t *testing.T) {
			d := opened(t, pierDisk(t, windowsTree()))
			w := Wish{Bus: bus}
			c, err := Find(t.Context(), d, w)
			require.NoError(t, err)
			require.Len(t, c.Files, 1)
			assert.Empty(t, c.Left)
			assert.Equal(t, "WINDOWS/system32/config/SYSTEM", c.Files[0].Path)
			assert.Equal(t, lines, c.Files[0].Lines)
			o, err := NewOverlay(d, t.TempDir())
			require.NoError(t, err)
			defer o.Close()
			require.NoError(t, Apply(t.Context(), o, c, t.TempDir()))
			starts, err := inspect.StartsFrom(t.Context(), o)
			require.NoError(t, err)
			has, unknown := starts.KnowsBus(bus)
			assert.True(t, has, unknown)
			has, _ = starts.KnowsBus("ide")
			assert.True(t, has, "that it had before")
			again, err := Find(t.Context(), o, w)
			require.NoError(t, err)
			assert.Empty(t, again.Files)
			is, err := read(partition(t, o, 0), "WINDOWS/system32/config/SYSTEM", largestHive)
			require.NoError(t, err)
			changed := 0
			was, err := read(partition(t, d, 0), "WINDOWS/system32/config/SYSTEM", largestHive)
			require.NoError(t, err)
			require.Len(t, is, len(was))
			for i, b := range was {
				if is[i] != b {
					changed++
				}
			}
			assert.LessOrEqual(t, changed, 4*2+2+4, "numbers, those of the last write, and the checksum")
		})
	}
}

// TestWindowsThatIsLeft: what it lacks, or what it keeps in memory, is said, with what to do.
func TestWindowsThatIsLeft(t *testing.T) {
	for name, c := range map[string]struct {
		change    func(tree)
		bus, says string
	}{
		"no driver":         {func(tree) {}, "virtio", "it has none of viostor"},
		"a file is missing": {func(x tree) { delete(x, "WINDOWS/system32/drivers/storahci.sys") }, "sata", "it has none of storahci"},
		"hibernated":        {func(x tree) { x["hiberfil.sys"] = "HIBR and more" }, "sata", "is kept on its disk"},
		"not finished": {func(x tree) {
			b := pier()
			b[4]++
			hives.Sum(b)
			x["WINDOWS/system32/config/SYSTEM"] = string(b)
		}, "sata", "not written to the end"},
		"no registry": {func(x tree) { x["WINDOWS/system32/config/SYSTEM"] = string(bytes.Repeat([]byte("x"), 8192)) }, "sata", "no file of the registry"},
	} {
		t.Run(name, func(t *testing.T) {
			system := windowsTree()
			c.change(system)
			found, err := Find(t.Context(), opened(t, pierDisk(t, system)), Wish{Bus: c.bus})
			require.NoError(t, err)
			assert.Empty(t, found.Files)
			require.Len(t, found.Left, 1)
			assert.Contains(t, found.Left[0].What, c.says)
			assert.NotEmpty(t, found.Left[0].Do)
		})
	}
	x := windowsTree()
	x["hiberfil.sys"] = string(make([]byte, 4096))
	found, err := Find(t.Context(), opened(t, pierDisk(t, x)), Wish{Bus: "sata"})
	require.NoError(t, err)
	assert.Len(t, found.Files, 1, "a file that has nothing in it")
}
