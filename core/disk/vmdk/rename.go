package vmdk

import (
	"bytes"
	"fmt"
	"regexp"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

// naming is a line of a descriptor that names a file: an extent, or a parent.
var naming = regexp.MustCompile(`(?im)^(\s*(?:RW|RDONLY|NOACCESS)\s[^"\r\n]*"|\s*parentFileNameHint\s*=\s*")([^"\r\n]*)(")`)

// rename changes the names of other files in a descriptor, which is a file of its own or lies inside of an extent. Everything else stays
// as it is, byte for byte.
func rename(file storage.File, names map[string]string) (changed bool, err error) {
	off, room, embedded, err := findDescriptor(file)
	if err != nil || room == 0 {
		return false, err
	}
	text, err := readDescriptor(file, off, room)
	if err != nil || !bytes.Contains(text, []byte(textMark)) {
		return false, err
	}
	text = bytes.TrimRight(text, "\x00")
	changedText := naming.ReplaceAllFunc(text, func(line []byte) []byte {
		m := naming.FindSubmatch(line)
		return bytes.Join([][]byte{m[1], []byte(disk.Renamed(string(m[2]), names)), m[3]}, nil)
	})
	if bytes.Equal(text, changedText) {
		return false, nil
	}
	if embedded {
		if int64(len(changedText)) > room {
			return false, fmt.Errorf("the descriptor has no room for longer names: choose a shorter one")
		}
		changedText = append(changedText, make([]byte, room-int64(len(changedText)))...)
	}
	length := int64(len(changedText))
	changedText = append(changedText, bytes.Repeat([]byte("\n"), max(0, len(text)-len(changedText)))...) // should it not come to the next step
	if _, err := file.WriteAt(changedText, off); err != nil {
		return false, err
	}
	if !embedded {
		if err := file.Truncate(length); err != nil {
			return false, err
		}
	}
	return true, nil
}

// findDescriptor tells where the descriptor of a file lies, and in how much room; 0 when it has none.
func findDescriptor(file storage.File) (off, room int64, embedded bool, err error) {
	size, err := file.Size()
	if err != nil {
		return 0, 0, false, err
	}
	head := make([]byte, min(size, sector))
	if err := disk.ReadFull(file, head, 0); err != nil {
		return 0, 0, false, err
	}
	if !bytes.HasPrefix(head, []byte(sparseMark)) || len(head) < sector {
		if size > maxDescriptor { // the content of an extent
			return 0, 0, false, nil
		}
		return 0, size, false, nil
	}
	h, err := decodeHeader(head)
	if err != nil || h.descriptor == 0 || h.descriptorSize > maxDescriptor/sector || int64(h.descriptor+h.descriptorSize) > size/sector {
		return 0, 0, false, err
	}
	return int64(h.descriptor) * sector, int64(h.descriptorSize) * sector, true, nil
}
