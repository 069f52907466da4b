package volumes

import (
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"

	"bagaglio/core/storage"
)

// Extension is that of names which are volumes. Whatever else lies in such a pool is a file in its folder.
const Extension = ".raw"

// Ground is where a pool lies on its host: in a folder, and in volumes where it has some. It is the zero value where that is not known.
type Ground struct{ Folder, Volumes string }

// Path is the path of a name on the host, as definitions of machines have it.
func (g Ground) Path(name string) string {
	if set, err := parse(g.Volumes); err == nil && strings.HasSuffix(name, Extension) {
		if volume, err := set.encode(name); err == nil {
			return path.Join(set.kind.dir, set.group, volume)
		}
	}
	return path.Join(g.Folder, name)
}

// Paths are all paths of a name that are told here, the usual one first.
func (g Ground) Paths(name string) []string {
	at := g.Path(name)
	set, err := parse(g.Volumes)
	volume, ok := strings.CutPrefix(at, path.Join("/dev", set.group)+"/")
	if err != nil || !ok || set.kind.name != "lvm" {
		return []string{at}
	}
	double := strings.NewReplacer("-", "--")
	return []string{at, "/dev/mapper/" + double.Replace(set.group) + "-" + double.Replace(volume)}
}

// Name is the name of a path of the host in the pool, or not ok.
func (g Ground) Name(at string) (name string, ok bool) {
	if set, err := parse(g.Volumes); err == nil {
		if name, ok, is := set.nameOf(path.Clean(at)); is {
			return name, ok
		}
	}
	return storage.Under(g.Folder, at)
}

// nameOf is the name of a path, and whether it is that of a volume of the set.
func (s set) nameOf(at string) (name string, ok, is bool) {
	volume, is := strings.CutPrefix(at, path.Join(s.kind.dir, s.group)+"/")
	if !is {
		volume, is = s.mapped(at)
	}
	if is {
		name, ok = s.decode(volume)
	}
	return name, ok, is
}

// set is a set of volumes, as a pool names it.
type set struct {
	kind  *kind
	group string // a group of volumes, or a dataset
	thin  string // of LVM: the pool that thin volumes are made in, empty for thick ones
}

// kind is a kind of volumes.
type kind struct {
	name     string
	dir      string // where the system has them
	escape   byte   // stands before two digits, for characters that names may not have
	allowed  string // besides letters and digits
	longest  int    // of a name, in bytes
	reserved []string
	tools    func(s set, on Computer) tools
}

// What names may have: lvm(8), "Valid names"; zfs(8), "ZFS Component Naming Requirements".
var kinds = []*kind{
	{
		name: "lvm", dir: "/dev", escape: '+', allowed: "_.-", longest: 127,
		reserved: []string{
			"snapshot",
			"pvmove",
			"_cdata",
			"_cmeta",
			"_corig",
			"_cpool",
			"_cvol",
			"_imeta",
			"_iorig",
			"_mimage",
			"_mlog",
			"_pmspare",
			"_rimage",
			"_rmeta",
			"_tdata",
			"_tmeta",
			"_vdata",
			"_vorigin",
			"_wcorig",
		},
		tools: func(s set, on Computer) tools { return &lvm{s, on} },
	},
	{
		name: "zfs", dir: "/dev/zvol", escape: ':', allowed: "_.-", longest: 200,
		tools: func(s set, on Computer) tools { return &zfs{s, on} },
	},
}

// Check says what is wrong with the name of a set of volumes: lvm:GROUP, lvm:GROUP/THINPOOL or zfs:DATASET.
func Check(volumes string) error {
	_, err := parse(volumes)
	return err
}

// Same tells whether two names are of one set of volumes.
func Same(a, b string) bool {
	x, errX := parse(a)
	y, errY := parse(b)
	return errX == nil && errY == nil && x.kind == y.kind && x.group == y.group
}

func parse(volumes string) (set, error) {
	name, group, ok := strings.Cut(volumes, ":")
	i := slices.IndexFunc(kinds, func(k *kind) bool { return k.name == name })
	if !ok || i < 0 || group == "" {
		return set{}, fmt.Errorf("volumes are named lvm:GROUP, lvm:GROUP/THINPOOL or zfs:DATASET, and not %q", volumes)
	}
	s := set{kind: kinds[i], group: group}
	if s.kind.name == "lvm" {
		s.group, s.thin, _ = strings.Cut(group, "/")
	}
	parts := strings.Split(s.group, "/")
	if s.thin != "" {
		parts = append(parts, s.thin)
	}
	for _, part := range parts {
		if part == "" || strings.HasPrefix(part, "-") || part == "." || part == ".." || strings.IndexFunc(part, func(r rune) bool {
			return !s.plain(byte(min(r, 0x7f)))
		}) >= 0 {
			return set{}, fmt.Errorf("%q cannot be the name of a group of volumes", group)
		}
	}
	return s, nil
}

// plain tells whether a character is written as it is.
func (s set) plain(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(s.kind.allowed, c) >= 0
}

// encode is the name of the volume that a name of the pool stands for.
func (s set) encode(name string) (string, error) {
	name, err := storage.Clean(name)
	if err != nil {
		return "", err
	}
	stem := strings.TrimSuffix(name, Extension)
	var b strings.Builder
	for i := range len(stem) {
		c := stem[i]
		if s.plain(c) && (i > 0 || c != '-') {
			b.WriteByte(c)
			continue
		}
		fmt.Fprintf(&b, "%c%02X", s.kind.escape, c)
	}
	out := b.String()
	if len(out) > s.kind.longest {
		return "", fmt.Errorf("the name %s would be %d bytes long as the name of a volume, and may have %d", name, len(out), s.kind.longest)
	}
	for _, word := range s.kind.reserved {
		if strings.HasPrefix(word, "_") && strings.Contains(out, word) || strings.HasPrefix(out, word) {
			return "", fmt.Errorf("no volume may have a name with %q in it: choose another one than %s", word, name)
		}
	}
	if out == "" || out == "." || out == ".." {
		return "", fmt.Errorf("%s cannot be the name of a volume", name)
	}
	return out, nil
}

// decode is the name in the pool of a volume. It is not ok where that would not lead to the volume again.
func (s set) decode(volume string) (string, bool) {
	var b strings.Builder
	for i := 0; i < len(volume); i++ {
		if volume[i] == s.kind.escape && i+2 < len(volume) {
			if c, err := hex.DecodeString(volume[i+1 : i+3]); err == nil {
				b.WriteByte(c[0])
				i += 2
				continue
			}
		}
		b.WriteByte(volume[i])
	}
	name := b.String() + Extension
	back, err := s.encode(name)
	return name, err == nil && back == volume
}

// mapped is the volume of LVM that the device mapper has under a path: hyphens are doubled there (lvm(8)).
func (s set) mapped(at string) (volume string, ok bool) {
	if s.kind.name != "lvm" {
		return "", false
	}
	volume, ok = strings.CutPrefix(at, "/dev/mapper/"+strings.ReplaceAll(s.group, "-", "--")+"-")
	return strings.ReplaceAll(volume, "--", "-"), ok && !strings.HasPrefix(volume, "-")
}
