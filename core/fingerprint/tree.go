package fingerprint

import (
	"archive/tar"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/zeebo/blake3"
)

// treePrefix begins the written form of the fingerprint of a folder.
const treePrefix = "bt1-"

// Tree is what a folder holds, by an archive of it: a digest of each name with all that the archive says of it, and with its content. Two folders
// have the same fingerprint when all of that is the same (docs/formats.md, "Folders").
type Tree struct {
	entries []entry
	files   int64 // bytes of their content
}

type entry struct {
	name string
	sum  Digest
}

// kept begins the records of a pax header that speak of what a filesystem keeps, and not of how the archive has it.
var kept = []string{"SCHILY.xattr.", "SCHILY.acl.", "RHT.security."}

// ReadTree reads an archive to its end.
func ReadTree(from io.Reader) (*Tree, error) {
	t := &Tree{}
	for archive := tar.NewReader(from); ; {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, from) // what pads it
			slices.SortFunc(t.entries, func(a, b entry) int { return strings.Compare(a.name, b.name) })
			return t, err
		}
		if err != nil {
			return nil, fmt.Errorf("reading the archive of the folder: %w", err)
		}
		content := blake3.New()
		n, err := io.Copy(content, archive)
		if err != nil {
			return nil, fmt.Errorf("reading %s in the archive of the folder: %w", h.Name, err)
		}
		t.files += n
		t.entries = append(t.entries, entry{path.Clean(h.Name), sumOf(h, n, content.Sum(nil))})
	}
}

// sumOf is the digest of an entry.
func sumOf(h *tar.Header, size int64, content []byte) (d Digest) {
	sum := blake3.New()
	_, _ = fmt.Fprintf(sum, "%s\x00%c\x00%o\x00%d:%d\x00%d\x00%d\x00%s\x00%d:%d\x00%x\x00", // a hash takes all
		path.Clean(h.Name), h.Typeflag, h.Mode, h.Uid, h.Gid, size, h.ModTime.UnixNano(), h.Linkname, h.Devmajor, h.Devminor, content)
	var names []string
	for name := range h.PAXRecords {
		if slices.ContainsFunc(kept, func(k string) bool { return strings.HasPrefix(name, k) }) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		_, _ = fmt.Fprintf(sum, "%s\x00%d\x00%s\x00", name, len(h.PAXRecords[name]), h.PAXRecords[name]) // likewise
	}
	copy(d[:], sum.Sum(nil))
	return d
}

// String returns the written form of the fingerprint, bt1- and 64 hex digits.
func (t *Tree) String() string {
	sum := blake3.NewDeriveKey("bagaglio fingerprint of a folder v1")
	for _, e := range t.entries {
		_, _ = sum.Write(e.sum[:]) // a hash takes all
	}
	return treePrefix + hex.EncodeToString(sum.Sum(nil))
}

// Entries is how many there are, with the folder itself.
func (t *Tree) Entries() int { return len(t.entries) }

// Size is how many bytes its files have.
func (t *Tree) Size() int64 { return t.files }

// Differing are names that only one of both has, or both in different ways, sorted, at most so many.
func (t *Tree) Differing(o *Tree, most int) (names []string) {
	a, b := t.entries, o.entries
	for len(names) < most && len(a)+len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].name < b[0].name:
			names, a = append(names, a[0].name), a[1:]
		case len(a) == 0 || b[0].name < a[0].name:
			names, b = append(names, b[0].name), b[1:]
		default:
			if a[0].sum != b[0].sum {
				names = append(names, a[0].name)
			}
			a, b = a[1:], b[1:]
		}
	}
	return names
}
