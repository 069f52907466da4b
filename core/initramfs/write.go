package initramfs

import (
	"bytes"
	"fmt"
	"path"
	"slices"
)

// File is a file of an archive that is made, or a folder.
type File struct {
	Name    string // as fs.ValidPath has it
	Content []byte
	Dir     bool
	Mode    uint32 // permissions
}

// Archive is an archive that is not packed, to be put behind others (see Behind).
func Archive(files []File) []byte {
	var b bytes.Buffer
	for i, f := range files {
		mode := isFile | f.Mode
		if f.Dir {
			mode = isDir | f.Mode
		}
		write(&b, uint32(i+1), mode, f.Name, f.Content)
	}
	write(&b, 0, 0, lastName, nil)
	return b.Bytes()
}

// write writes an entry: it belongs to root, was never modified, and has one name.
func write(b *bytes.Buffer, number, mode uint32, name string, content []byte) {
	links := 1
	if mode&typeMask == isDir {
		links = 2
	}
	fmt.Fprintf(b, "%s%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X",
		plain, number, mode, 0, 0, links, 0, len(content), 0, 0, 0, 0, len(name)+1, 0)
	b.WriteString(name + "\x00")
	b.Write(make([]byte, padding(int64(header+len(name)+1))))
	b.Write(content)
	b.Write(make([]byte, padding(int64(len(content)))))
}

// alignment is what an archive begins at that is put behind others, in bytes: the kernel wants 4. A few zeros before it end what has no end of its own.
const alignment = 512

// Behind is what is put behind an initial memory disk of a length for an archive to follow it.
func Behind(length int64, archive []byte) []byte {
	zeros := alignment + (alignment-length%alignment)%alignment
	return append(make([]byte, zeros), archive...)
}

// Folders are the folders that files lie in which are not there, each before what lies in it.
func Folders(files []File, there func(name string) bool) (all []File) {
	seen := map[string]bool{}
	for _, f := range files {
		var missing []string
		for dir := path.Dir(f.Name); dir != "." && !seen[dir] && !there(dir); dir = path.Dir(dir) {
			seen[dir] = true
			missing = append(missing, dir)
		}
		for _, dir := range slices.Backward(missing) {
			all = append(all, File{Name: dir, Dir: true, Mode: 0o755})
		}
	}
	return all
}
