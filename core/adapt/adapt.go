// Package adapt says what of a guest is changed so that it starts in its new place, and changes it on a copy of its disk: drivers in initial memory disks, names of disks that
// another bus gives otherwise, a loader where firmware looks that remembers none, the names of network cards. What is changed is found by reading alone (Find); how it is written,
// says Apply. Nothing of the guest is run.
package adapt

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"bagaglio/core/inspect"

	"github.com/dustin/go-humanize"
	"github.com/pmezard/go-difflib/difflib"
)

// Wish is the new place.
type Wish struct {
	// Bus is that of the disk, as machines have it (see inspect.Kernel); empty where it stays.
	Bus string `json:"bus,omitempty"`
	// Firmware is inspect.FirmwareUEFI or inspect.FirmwareBIOS; empty where that is not known.
	Firmware string `json:"firmware,omitempty"`
	// Cards are the network cards; none where they stay as they were.
	Cards []Card `json:"cards,omitempty"`
	// Other tells that it is not the first disk of its machine: what is called by the name of that does not lie on it.
	Other bool `json:"other,omitempty"`
}

// Card is a network card by its address, as it was and as it is; Was is empty where that is not known.
type Card struct {
	Was string `json:"was,omitempty"`
	Now string `json:"now"`
}

// How a file is changed.
const (
	Writes  = "write"  // it gets another content, or is made
	Appends = "append" // something is put behind its content
	Removes = "remove" // it is removed: it gets the name of Aside
)

// Aside is what the name of a file ends with that is set aside.
const Aside = ".before-fit"

// Change is a file that is changed.
type Change struct {
	Partition int    `json:"partition"` // 0 where the whole disk is one filesystem
	Logical   string `json:"logical,omitempty"`
	// Filesystem is its kind.
	Filesystem string `json:"filesystem"`
	Path       string `json:"path"`
	Why        string `json:"why"`
	How        string `json:"how"`
	// Bytes is how many are written, and SHA256 is of them.
	Bytes  int64  `json:"bytes,omitempty"`
	SHA256 string `json:"sha256,omitempty"`
	// Was is the SHA-256 of the content before, empty where the file is made or grows.
	Was string `json:"was,omitempty"`
	// Lines are the lines of a text that differ, as a unified diff has them.
	Lines []string `json:"lines,omitempty"`

	content []byte
}

// Changes are all that is changed, and what cannot be mended so.
type Changes struct {
	Files []Change          `json:"files"`
	Left  []inspect.Finding `json:"left,omitempty"`
}

// Same tells whether others are the same changes.
func (c Changes) Same(o Changes) bool {
	return slices.EqualFunc(c.Files, o.Files, func(a, b Change) bool {
		return a.Partition == b.Partition && a.Logical == b.Logical && a.Path == b.Path && a.How == b.How && a.Bytes == b.Bytes &&
			a.SHA256 == b.SHA256 &&
			a.Was == b.Was
	})
}

// Filesystems are the kinds of those that are written to.
func (c Changes) Filesystems() (all []string) {
	for _, x := range c.Files {
		if !slices.Contains(all, x.Filesystem) {
			all = append(all, x.Filesystem)
		}
	}
	return all
}

// Find finds what is to be changed on a disk. What cannot be read is as if it were not there.
func Find(ctx context.Context, d inspect.Disk, w Wish) (Changes, error) {
	c, mounts, err := inspect.Mounts(d)
	if err != nil {
		return Changes{}, err
	}
	starts, err := inspect.StartsFrom(ctx, d)
	if err != nil {
		return Changes{}, err
	}
	f := &finder{ctx: ctx, contents: c, mounts: mounts, starts: starts, wish: w}
	for _, y := range starts.Systems {
		root, ok := f.root(y)
		if !ok {
			continue
		}
		switch y.Kind {
		case inspect.Linux:
			f.linux(root, y)
		case inspect.Windows:
			f.windows(root, y)
		}
	}
	if len(starts.Systems) > 0 {
		f.loader()
	}
	return f.changes, ctx.Err()
}

// finder finds it.
type finder struct {
	ctx      context.Context
	contents inspect.Contents
	mounts   []inspect.Mounted
	starts   inspect.Starts
	wish     Wish
	changes  Changes
}

// root is the filesystem that a system lies on.
func (f *finder) root(y inspect.System) (inspect.Mounted, bool) {
	i := slices.IndexFunc(f.mounts, func(m inspect.Mounted) bool { return m.Partition.Number == y.Partition && m.Logical == y.Volume })
	if i < 0 {
		return inspect.Mounted{}, false
	}
	return f.mounts[i], true
}

// left notes what cannot be mended, once.
func (f *finder) left(what, do string) {
	if l := (inspect.Finding{What: what, Do: do}); !slices.Contains(f.changes.Left, l) {
		f.changes.Left = append(f.changes.Left, l)
	}
}

// isText tells whether a content can be shown line by line.
func isText(b []byte) bool { return utf8.Valid(b) && !bytes.ContainsRune(b, 0) }

func sum(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

// read reads a file that has no more bytes than that.
func read(on inspect.Mounted, name string, most int64) ([]byte, error) {
	info, err := on.StatFile(name)
	if err != nil {
		return nil, err
	}
	if info.Size > most {
		return nil, fmt.Errorf("%s has %d bytes, more than is read", name, info.Size)
	}
	return fs.ReadFile(on, name)
}

// write has a file get a content; was is what it has, nil where it is made.
func (f *finder) write(on inspect.Mounted, name, why string, was, now []byte) {
	c := Change{Path: name, Why: why, How: Writes, Bytes: int64(len(now)), SHA256: sum(now), content: now}
	if was != nil {
		c.Was = sum(was)
	}
	if isText(was) && isText(now) {
		c.Lines = lines(string(was), string(now))
	}
	f.add(on, c)
}

// put has something be put behind a file.
func (f *finder) put(on inspect.Mounted, name, why string, more []byte) {
	f.add(on, Change{Path: name, Why: why, How: Appends, Bytes: int64(len(more)), SHA256: sum(more), content: more})
}

// add adds a change. A file that several systems of the disk share is changed once.
func (f *finder) add(on inspect.Mounted, c Change) {
	c.Partition, c.Logical, c.Filesystem = on.Partition.Number, on.Logical, on.As.Kind
	if on.Logical != "" {
		f.left(fmt.Sprintf("%s %s would be changed (%s), and what lies on volumes of LVM is not written to.", c.Path, on.Where(), c.Why),
			"Change it by hand, where the machine runs.")
		return
	}
	same := func(o Change) bool { return o.Partition == c.Partition && o.Path == c.Path }
	if !slices.ContainsFunc(f.changes.Files, same) {
		f.changes.Files = append(f.changes.Files, c)
	}
}

// lines are those in which two texts differ. None is shown around them: they may have secrets, and plans are shown to who may not read files inside of disks.
func lines(was, now string) []string {
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A: split(was), B: split(now),
	})
	if err != nil {
		return nil // it is shown by its digest alone
	}
	all := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i, l := range all { // whoever wrote the file may have written anything
		all[i] = strings.Map(shown, l)
	}
	return slices.DeleteFunc(all, func(l string) bool { return l == "" || strings.HasPrefix(l, "---") || strings.HasPrefix(l, "+++") })
}

// split are the lines of a text, none where it has none.
func split(text string) []string {
	if text == "" {
		return nil
	}
	return difflib.SplitLines(strings.TrimSuffix(text, "\n"))
}

// shown is a character as it can be shown.
func shown(r rune) rune {
	switch {
	case r == '\t':
		return ' '
	case unicode.IsPrint(r):
		return r
	}
	return unicode.ReplacementChar
}

// Called is how people call a change.
func (c Change) Called() string {
	what := map[string]string{Writes: "write", Appends: "put " + humanize.IBytes(uint64(c.Bytes)) + " behind", Removes: "set aside"}[c.How]
	where := c.Logical
	if where == "" {
		where = fmt.Sprint(c.Partition)
	}
	return fmt.Sprintf("%s %s:/%s: %s", what, where, c.Path, c.Why)
}
