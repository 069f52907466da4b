package machine

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Change says where disks of a machine lie from now on.
type Change struct {
	// Names are the new names of files by those that the definition has.
	Names map[string]string
	// Format is that of the image under the new name, as a disk's format is called; empty when it is what it was.
	Format string
}

// Reverse is the change that takes this one back. It knows of no formats.
func (c Change) Reverse() Change {
	names := map[string]string{}
	for from, to := range c.Names {
		names[to] = from
	}
	return Change{Names: names}
}

// Why says why a definition of this format cannot be made to name a file as name, whose image becomes one of the format; nil when it can.
func (f Format) Why(name, format string) error {
	if f.Beside && (path.IsAbs(name) || name == ".." || strings.HasPrefix(name, "../")) {
		return fmt.Errorf("%s names only files that lie in its own folder", f.Name)
	}
	if format != "" && !f.AnyImage && !slices.Contains(f.Images, format) {
		return fmt.Errorf("%s cannot say that the disk is %s", f.Name, format)
	}
	return nil
}

// Follow returns the text of the definition that lies in the file name with the change made. Everything else in it stays as it is, byte
// for byte. It fails when the definition does not come to name exactly the files that it should.
func Follow(name string, text []byte, c Change) ([]byte, error) {
	before, f, err := read(name, text)
	if err != nil {
		return nil, err
	}
	want := before.Files()
	for from, to := range c.Names {
		if !slices.Contains(want, from) && !slices.Contains(want, to) {
			return nil, fmt.Errorf("%s does not name %s any more", name, from)
		}
		if err := f.Why(to, c.Format); err != nil {
			return nil, err
		}
	}
	changed, err := f.Follow(text, c)
	if err != nil {
		return nil, fmt.Errorf("changing names in %s: %w", name, err)
	}
	after, _, err := read(name, changed)
	if err != nil {
		return nil, fmt.Errorf("changing names in %s: it could not be read any more: %w", name, err)
	}
	for i, d := range want {
		if to, ok := c.Names[d]; ok {
			want[i] = to
		}
	}
	if !slices.Equal(after.Files(), want) || after.Name != before.Name {
		return nil, fmt.Errorf("changing names in %s: it would not name what it should", name)
	}
	return changed, nil
}

// Followed tells whether a definition names the new files of a change, and none of the old ones.
func (d Definition) Followed(c Change) bool {
	files := d.Files()
	for from, to := range c.Names {
		if slices.Contains(files, from) || !slices.Contains(files, to) {
			return false
		}
	}
	return true
}

// attribute is one in a start tag, whose name and value are well-formed: XML 1.0, section 3.1.
var attribute = regexp.MustCompile(`([^\s=/<>"']+)\s*=\s*("[^"]*"|'[^']*')`)

// Edit is what changes of an element.
type Edit struct {
	Before     string            // a text to come before it
	Attributes map[string]string // values by local names; what it has not yet is added
	Loses      []string          // attributes that go, by local names
	Text       *string           // what comes in the place of all that is in it, nil for nothing
	Drop       bool              // it goes away with all that is in it
}

// Element is an element of that name which has the attributes, and nothing in it.
func (c Edit) Element(name string) string { return string(c.tag([]byte("<" + name + "/>"))) }

// EditXML changes elements of an XML document. edit gets each with the local names of those around it. All other bytes stay.
func EditXML(text []byte, edit func(around []string, e xml.StartElement) Edit) ([]byte, error) {
	var out []byte
	var around []string
	done := int64(0)
	for d := xml.NewDecoder(bytes.NewReader(text)); ; {
		begin := d.InputOffset()
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return append(out, text[done:]...), nil
		}
		if err != nil {
			return nil, err
		}
		switch e := token.(type) {
		case xml.EndElement:
			around = around[:len(around)-1]
		case xml.StartElement:
			change := edit(around, e)
			out = append(append(out, text[done:begin]...), change.Before...)
			done = d.InputOffset()
			tag := change.tag(text[begin:done])
			if !change.Drop && change.Text == nil {
				around = append(around, e.Name.Local)
				out = append(out, tag...)
				continue
			}
			if err := d.Skip(); err != nil {
				return nil, err
			}
			done = d.InputOffset()
			if !change.Drop {
				open := bytes.TrimSuffix(bytes.TrimSuffix(tag, []byte(">")), []byte("/"))
				out = append(out, fmt.Sprintf("%s>%s</%s>", open, escaped(*change.Text), qualified(tag))...)
			}
		}
	}
}

// qualified is the name of an element in its start tag, with its prefix.
func qualified(tag []byte) string {
	return strings.TrimPrefix(string(tag[:bytes.IndexAny(tag, " \t\r\n/>")]), "<")
}

// tag is a start tag with its attributes changed.
func (c Edit) tag(tag []byte) (out []byte) {
	left := maps.Clone(c.Attributes)
	done := 0
	for _, m := range attribute.FindAllSubmatchIndex(tag, -1) {
		local := tag[m[2]:m[3]]
		local = local[bytes.IndexByte(local, ':')+1:]
		if slices.Contains(c.Loses, string(local)) {
			out = append(out, bytes.TrimRight(tag[done:m[0]], " \t\r\n")...)
			done = m[1]
			continue
		}
		value, ok := left[string(local)]
		if !ok {
			continue
		}
		delete(left, string(local))
		quote := string(tag[m[4]])
		out = append(append(out, tag[done:m[4]]...), quote+escaped(value)+quote...)
		done = m[5]
	}
	out = append(out, tag[done:]...)
	name := bytes.IndexAny(out, " \t\r\n/>")
	for _, local := range slices.Sorted(maps.Keys(left)) {
		out = slices.Insert(out, name, []byte(fmt.Sprintf(` %s="%s"`, local, escaped(left[local])))...)
	}
	return out
}

// escaped is a text as the value of an attribute.
func escaped(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // never fails on memory
	return b.String()
}
