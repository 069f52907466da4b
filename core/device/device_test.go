package device

import (
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// computer is a computer with these files; those that begin with "-> " are links.
type computer struct {
	files map[string]string
	on    map[string]string // numbers of devices that folders lie on
}

func (c computer) Real(name string) (string, error) {
	for range 40 {
		led := false
		for at := name; at != "/"; at = path.Dir(at) {
			if to, ok := strings.CutPrefix(c.files[at], "-> "); ok {
				name, led = path.Join(to, strings.TrimPrefix(name, at)), true
				break
			}
		}
		if !led {
			return name, nil
		}
	}
	return "", fs.ErrInvalid
}

func (c computer) ReadFile(name string) ([]byte, error) {
	name, err := c.Real(name)
	text, ok := c.files[name]
	if err != nil || !ok {
		return nil, fs.ErrNotExist
	}
	return []byte(text), nil
}

func (c computer) ReadDir(name string) ([]string, error) {
	name, err := c.Real(name)
	found := map[string]bool{}
	for file := range c.files {
		if rest, ok := strings.CutPrefix(file, name+"/"); ok {
			first, _, _ := strings.Cut(rest, "/")
			found[first] = true
		}
	}
	if err != nil || len(found) == 0 {
		return nil, fs.ErrNotExist
	}
	return slices.Sorted(maps.Keys(found)), nil
}

func (c computer) On(name string) (string, error) {
	for at := name; ; at = path.Dir(at) {
		if n, ok := c.on[at]; ok {
			return n, nil
		}
		if at == "/" {
			return "", fs.ErrNotExist
		}
	}
}

// office has a disk with a system, one with an LVM volume, a RAID of two, one for swapping, a stick, and a file that is a device.
func office() computer {
	c := computer{files: map[string]string{}, on: map[string]string{}}
	disk := func(name, number, size string, more map[string]string) {
		real := "/sys/devices/pci/" + name
		c.files["/sys/block/"+name] = "-> " + real
		c.files["/sys/dev/block/"+number] = "-> " + real
		c.files[real+"/dev"], c.files[real+"/size"], c.files[real+"/queue/logical_block_size"] = number+"\n", size+"\n", "512\n"
		for file, text := range more {
			c.files[real+"/"+file] = text
		}
	}
	part := func(disk, name, number string) {
		real := "/sys/devices/pci/" + disk + "/" + name
		c.files[real+"/partition"], c.files[real+"/dev"] = strings.TrimPrefix(name[len(disk):], "p"), number
		c.files["/sys/dev/block/"+number], c.files["/sys/class/block/"+name] = "-> "+real, "-> "+real
	}
	disk("sda", "8:0", "2048000", map[string]string{
		"device/vendor":    "ISOLA   ",
		"device/model":     "Ferry 1",
		"device/vpd_pg80":  "\x00\x80\x00\x08  GK-0042",
		"queue/rotational": "1",
		"removable":        "0",
		"device/ioerr_cnt": "0x3",
	})
	part("sda", "sda1", "8:1")
	part("sda", "sda2", "8:2")
	disk("sdb", "8:16", "4096", map[string]string{"holders/dm-0": "", "ro": "1", "removable": "1"})
	disk("nvme0n1", "259:0", "4096", map[string]string{"device/serial": "N-1\n"})
	part("nvme0n1", "nvme0n1p1", "259:1")
	disk("sdc", "8:32", "4096", map[string]string{"holders/md0": ""})
	disk("sdd", "8:48", "4096", map[string]string{"holders/md0": ""})
	disk("loop0", "7:0", "4096", map[string]string{"loop/backing_file": "/srv/drive.img\n"})
	disk("loop1", "7:1", "0", nil)
	disk("sr0", "11:0", "4096", nil)
	disk("dm-0", "253:0", "4096", map[string]string{"dm/name": "deck-data\n", "slaves/sdb": "-> /sys/devices/pci/sdb"})
	disk("md0", "9:0", "4096", map[string]string{"slaves/sdc": "-> /sys/devices/pci/sdc", "slaves/sdd": "-> /sys/devices/pci/sdd"})
	c.files["/dev/nvme0n1p1"], c.files["/dev/sda2"] = "", ""
	c.files["/proc/self/mountinfo"] = `22 1 8:1 / / rw,relatime - ext4 /dev/sda1 rw
23 22 8:2 / /home/crew\040cabin ro - ext4 /dev/sda2 ro
24 22 0:40 / /data rw - btrfs /dev/nvme0n1p1 rw,ssd
25 22 0:41 / /merged rw - overlay overlay rw,lowerdir=/a,upperdir=/srv/up,workdir=/w
26 22 0:42 / /net rw - nfs quay:/srv rw
a line that makes no sense
`
	c.files["/proc/swaps"] = "Filename Type Size Used Priority\n/dev/sda2 partition 1 0 -2\n"
	c.on = map[string]string{
		"/":       "8:1",
		"/data":   "0:40",
		"/merged": "0:41",
		"/net":    "0:42",
		"/deck":   "253:0",
		"/raid":   "9:0",
		"/drive":  "7:0",
		"/shm":    "0:99",
	}
	return c
}

// TestDisksOfAComputer: what is a disk is told, with what it is and who uses it and its partitions.
func TestDisksOfAComputer(t *testing.T) {
	all, err := List(office())
	require.NoError(t, err)
	uses := map[string][]string{}
	for _, d := range all {
		uses[d.Name] = []string{}
		for _, u := range d.Uses {
			uses[d.Name] = append(uses[d.Name], u.String())
		}
	}
	assert.Equal(t, map[string][]string{
		"loop0":   {},
		"nvme0n1": {"its partition 1 is mounted at /data, for writing"},
		"sda": {
			"its partition 1 is mounted at /, for writing",
			"its partition 2 is mounted at /home/crew cabin, read only",
			"its partition 2 is used to swap memory",
		},
		"sdb": {"it is held by deck-data"},
		"sdc": {"it is held by md0"},
		"sdd": {"it is held by md0"},
	}, uses)
	sda, err := Find(office(), "sda")
	require.NoError(t, err)
	sda.Uses = nil
	assert.Equal(t, Device{
		Name:       "sda",
		Path:       "/dev/sda",
		Number:     "8:0",
		Model:      "ISOLA Ferry 1",
		Serial:     "GK-0042",
		Size:       2048000 * 512,
		SectorSize: 512,
		Rotational: true,
		Health:     "3 errors since it was connected",
	}, sda)
	sdb, err := Find(office(), "sdb")
	require.NoError(t, err)
	assert.True(t, sdb.ReadOnly && sdb.Removable)
	nvme, err := Find(office(), "nvme0n1")
	require.NoError(t, err)
	assert.Equal(t, "N-1", nvme.Serial)
	for _, name := range []string{"", "sdz", "loop1", "dm-0", "sr0", "../sda", "sda/sda1"} {
		_, err := Find(office(), name)
		require.ErrorIs(t, err, ErrNone, name)
	}
}

// TestBeneath: the disks that a folder lies on are found through whatever is between.
func TestBeneath(t *testing.T) {
	for name, want := range map[string][]string{
		"/srv":       {"sda"},
		"/data/x":    {"nvme0n1"},
		"/merged":    {"sda"},
		"/net":       nil,
		"/shm":       nil,
		"/deck/a/b":  {"sdb"},
		"/raid":      {"sdc", "sdd"},
		"/drive/new": {"loop0", "sda"},
	} {
		got, err := Beneath(office(), name)
		require.NoError(t, err, name)
		assert.Equal(t, want, got, name)
	}
	c := office()
	c.on["/srv"] = "7:0" // a file on the device that it is
	_, err := Beneath(c, "/drive")
	require.ErrorContains(t, err, "more than 16 layers")
}

// TestADiskThatWasPulled is told from one that is there, and from another one with its name.
func TestADiskThatWasPulled(t *testing.T) {
	const at = "/sys/devices/pci/sda/"
	for name, change := range map[string]func(files map[string]string){
		"there":             func(map[string]string) {},
		"no size any more":  func(files map[string]string) { files[at+"size"] = "0\n" },
		"another count":     func(files map[string]string) { files[at+"diskseq"] = "8\n" },
		"another number":    func(files map[string]string) { files[at+"dev"] = "8:64\n" },
		"nothing is known":  func(files map[string]string) { delete(files, "/sys/block/sda") },
		"something besides": func(files map[string]string) { files[at+"removable"] = "1" },
	} {
		c := office()
		c.files[at+"diskseq"] = "7\n"
		d, err := Find(c, "sda")
		require.NoError(t, err)
		change(c.files)
		assert.Equal(t, name == "there" || name == "something besides", d.IsThere(c), name)
	}
}
