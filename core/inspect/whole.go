package inspect

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/fingerprint"
	"bagaglio/core/storage"
)

// ReadTag reads a tag, of a disk of that virtual size (see fingerprint.ReadTag). The error wraps fs.ErrNotExist where there is none.
func ReadTag(folder storage.Folder, name string, disk int64) (*fingerprint.Tag, error) {
	file, err := folder.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	size, err := file.Size()
	if err != nil {
		return nil, err
	}
	return fingerprint.ReadTag(io.NewSectionReader(file, 0, size), disk)
}

// TagHead reads what the tag beside a disk says, without its leaves.
func TagHead(folder storage.Folder, name string) (*fingerprint.Tag, error) {
	return ReadTag(folder, fingerprint.TagName(name), fingerprint.HeadOnly)
}

// Lacks says in words which files of an open disk are known to be missing or short, by what lies beside them: its tag, and the
// checksums of its pieces. name opens the disk; tag may be nil. Formats with tables find that by themselves: it is for raw disks.
func Lacks(folder storage.Folder, name string, d disk.Description, tag *fingerprint.Tag) (lacks []string, err error) {
	if d.Format != "raw" || len(d.Files) == 0 {
		return nil, nil
	}
	sizes := map[string]int64{}
	for _, file := range d.Files {
		info, err := folder.Stat(file)
		if err != nil {
			return nil, err
		}
		sizes[file] = info.Size
	}
	dir := path.Dir(name)
	expected := map[string]int64{} // sizes, or unknownSize
	if tag != nil {
		for _, f := range tag.Files {
			if !strings.HasSuffix(f.Name, SumsExtension) { // some tags name it too
				expected[path.Join(dir, f.Name)] = f.Size
			}
		}
		if len(tag.Files) == 1 && len(d.Files) == 1 { // whatever it was called then
			expected = map[string]int64{d.Files[0]: tag.Files[0].Size}
		}
	}
	if len(d.Files) > 1 || d.Layout == "pieces" {
		sums, err := Sums(folder, name)
		if err != nil {
			return nil, err
		}
		for file := range sums {
			if _, known := expected[file]; !known {
				expected[file] = unknownSize
			}
		}
	}
	if _, ok := expected[d.Files[0]]; !ok && len(d.Files) > 1 || len(expected) == 0 { // it speaks of files that were called otherwise
		return nil, nil
	}
	for _, file := range slices.Sorted(maps.Keys(expected)) {
		switch size, there := sizes[file]; {
		case !there:
			lacks = append(lacks, path.Base(file)+" is missing")
		case size < expected[file]:
			lacks = append(lacks, fmt.Sprintf("%s has %d bytes, and should have %d", path.Base(file), size, expected[file]))
		}
	}
	return lacks, nil
}

// unknownSize is less than any: of a file that is only known to be a part of the disk.
const unknownSize = -1

// SumsExtension is what the name of a file with checksums has behind that of the disk.
const SumsExtension = ".SHA256SUMS"

// SumsName is the name of the file with the checksums of the pieces of a disk, by that of its first piece.
func SumsName(piece string) string { return strings.TrimSuffix(piece, path.Ext(piece)) + SumsExtension }

// maxSums bounds a file with checksums, in bytes.
const maxSums = 4 << 20

// Sums are the SHA-256 of the pieces of a disk, in hexadecimal, as the file beside the first one has them; none where there is no such
// file.
func Sums(folder storage.Folder, first string) (sums map[string]string, err error) {
	file, err := folder.Open(SumsName(first))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	size, err := file.Size()
	if err != nil || size > maxSums {
		return nil, err // no checksums of pieces
	}
	b := make([]byte, size)
	if err := disk.ReadFull(file, b, 0); err != nil {
		return nil, err
	}
	sums = map[string]string{}
	for line := range strings.Lines(string(b)) { // as sha256sum(1) writes them
		sum, name, ok := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		if name = strings.TrimLeft(name, " *"); ok && name == path.Base(name) {
			sums[path.Join(path.Dir(first), name)] = strings.ToLower(sum)
		}
	}
	return sums, nil
}
