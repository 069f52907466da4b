package vmdk

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"bagaglio/core/disk"
	"bagaglio/core/storage"

	"golang.org/x/text/encoding/htmlindex"
)

// descriptor is the text that names the extents of a disk ("The Descriptor File").
type descriptor struct {
	cid, parentCID uint32
	kind           string // createType
	parentHint     string
	adapter        string
	extents        []extentLine
}

// extentLine is a line such as: RW 4192256 SPARSE "disk-s001.vmdk" 0
type extentLine struct {
	sectors int64
	kind    string
	file    string
	offset  int64 // in sectors
}

var (
	extentPattern = regexp.MustCompile(`^(?i)(RW|RDONLY|NOACCESS)\s+(\d+)\s+(\w+)(?:\s+"([^"]*)"(?:\s+(\d+))?)?$`)
	valuePattern  = regexp.MustCompile(`^([^\s="]+)\s*=\s*"?([^"]*?)"?$`)
)

// readDescriptor reads the text in that room of a file, with its padding; only a sector where that has no mark of a descriptor.
func readDescriptor(file io.ReaderAt, off, room int64) ([]byte, error) {
	text := make([]byte, min(room, sector))
	if err := disk.ReadFull(file, text, off); err != nil || !bytes.Contains(text, []byte(textMark)) {
		return text, err
	}
	text = slices.Grow(text, int(room)-len(text))[:room]
	return text, disk.ReadFull(file, text, off)
}

// parseDescriptor reads the text. Keys that are not known say nothing; a line that is not understood whole is damage.
func parseDescriptor(b []byte) (descriptor, error) {
	if i := bytes.IndexByte(b, 0); i >= 0 { // padded to whole sectors
		b = b[:i]
	}
	mark := bytes.Index(b, []byte(textMark))
	if mark < 0 {
		return descriptor{}, disk.Damaged("the descriptor does not begin with %q", textMark)
	}
	d := descriptor{parentCID: noParent}
	for _, line := range strings.FieldsFunc(decodeText(b[mark:]), func(r rune) bool { return r == '\n' || r == '\r' }) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if m := extentPattern.FindStringSubmatch(line); m != nil {
			if err := d.addExtent(m); err != nil {
				return d, err
			}
			continue
		}
		m := valuePattern.FindStringSubmatch(line)
		if m == nil {
			return d, disk.Damaged("the line %q of the descriptor is not understood", storage.Printable(line[:min(len(line), 100)]))
		}
		if err := d.set(strings.ToLower(m[1]), m[2]); err != nil {
			return d, err
		}
	}
	if len(d.extents) == 0 {
		return d, disk.Damaged("the descriptor names no extent")
	}
	return d, nil
}

func (d *descriptor) addExtent(m []string) error {
	sectors, err := strconv.ParseInt(m[2], 10, 48)
	if err != nil || sectors == 0 {
		return disk.Damaged("an extent of %s sectors makes no sense", m[2])
	}
	e := extentLine{sectors: sectors, kind: strings.ToUpper(m[3]), file: m[4]}
	if m[5] != "" {
		if e.offset, err = strconv.ParseInt(m[5], 10, 48); err != nil {
			return disk.Damaged("an extent at sector %s makes no sense", m[5])
		}
	}
	if strings.EqualFold(m[1], "NOACCESS") {
		e.kind = "ZERO"
	}
	if d.extents = append(d.extents, e); len(d.extents) > maxExtents {
		return disk.Damaged("more than %d extents are absurd", maxExtents)
	}
	return nil
}

func (d *descriptor) set(key, value string) (err error) {
	number := func() uint32 {
		n, parseErr := strconv.ParseUint(value, 16, 32)
		if parseErr != nil {
			err = disk.Damaged("%s is %q and not a number of 32 bits", key, value)
		}
		return uint32(n)
	}
	switch key {
	case "cid":
		d.cid = number()
	case "parentcid":
		d.parentCID = number()
	case "createtype":
		d.kind = value
	case "parentfilenamehint":
		d.parentHint = value
	case "ddb.adaptertype":
		d.adapter = value
	}
	return err
}

var encodingPattern = regexp.MustCompile(`(?im)^\s*encoding\s*=\s*"?([\w-]+)`)

// decodeText reads a descriptor in the encoding that it names, unless it is UTF-8 anyway: names of files may be in any.
func decodeText(b []byte) string {
	if utf8.Valid(b) {
		return string(b)
	}
	if m := encodingPattern.FindSubmatch(b); m != nil {
		if e, err := htmlindex.Get(string(m[1])); err == nil {
			if text, err := e.NewDecoder().Bytes(b); err == nil {
				return string(text)
			}
		}
	}
	return string(b) // then a file with such a name is not found, which is told
}

// maxOwnDescriptor bounds the descriptors that we write: a line for each of as many pieces as a disk can have.
const maxOwnDescriptor = 256 << 10

// encode writes the descriptor of a disk of that virtual size in bytes.
func (d descriptor) encode(size int64) ([]byte, error) {
	heads, cylinders := int64(16), int64(16383) // of the first adapter; the others count otherwise
	const sectors = 63
	if d.adapter != adapters[0] {
		heads, cylinders = 255, 1<<16-1
	}
	cylinders = min(size/sector/heads/sectors, cylinders)
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\nversion=1\nCID=%08x\nparentCID=%08x\ncreateType=\"%s\"\n", textMark, d.cid, d.parentCID, d.kind)
	if d.parentHint != "" {
		fmt.Fprintf(&b, "parentFileNameHint=\"%s\"\n", d.parentHint)
	}
	fmt.Fprint(&b, "\n# Extent description\n")
	for _, e := range d.extents {
		fmt.Fprintf(&b, "RW %d %s \"%s\"", e.sectors, e.kind, e.file)
		if e.kind == "FLAT" {
			fmt.Fprintf(&b, " %d", e.offset)
		}
		fmt.Fprintln(&b)
		if strings.ContainsAny(e.file+d.parentHint, "\"\n\r") {
			return nil, disk.Unsupported("a name with quotation marks or line ends in it (%q): rename the file first", e.file+d.parentHint)
		}
	}
	fmt.Fprintf(
		&b,
		"\n# The Disk Data Base\n#DDB\n\nddb.virtualHWVersion = \"4\"\nddb.geometry.cylinders = \"%d\"\nddb.geometry.heads = \"%d\"\n"+
			"ddb.geometry.sectors = \"%d\"\nddb.adapterType = \"%s\"\n",
		cylinders,
		heads,
		sectors,
		adapterTypes[d.adapter],
	)
	return b.Bytes(), nil
}
