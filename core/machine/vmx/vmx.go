// Package vmx reads and writes definitions that are a text of lines KEY = "VALUE".
package vmx

import (
	"bufio"
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"bagaglio/core/machine"
)

func init() {
	machine.Register(machine.Format{
		Name: "vmx", Extension: ".vmx", Read: read, Follow: follow, Describe: describe, Rewrite: rewrite, Without: without, Write: write,
		Images: []string{image},
	})
}

// image is the only format of images that a disk can have.
const image = "vmdk"

var (
	line = regexp.MustCompile(`^\s*([^=\s]+)\s*=\s*"([^"]*)"\s*$`)
	// slot is the key of a drive's file; type and presence are told by other keys of the same slot.
	slot = regexp.MustCompile(`^((?:ide|scsi|sata|nvme)\d+:\d+|floppy\d+)\.(filename|devicetype|present)$`)
	// escaped is a character that a value has by its number.
	escaped = regexp.MustCompile(`\|[0-9A-Fa-f]{2}`)
)

// values are those of a definition, by keys in lower case, and its drives in their order, by slots.
type values struct {
	of     map[string]string
	drives []string
}

func parse(text []byte) (v values, err error) {
	v.of = map[string]string{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, len(text)+1)
	for lines.Scan() {
		m := line.FindStringSubmatch(lines.Text())
		if m == nil {
			continue
		}
		key := strings.ToLower(m[1])
		_, twice := v.of[key]
		v.of[key] = unescape(m[2])
		if part := slot.FindStringSubmatch(key); part != nil && part[2] == "filename" && !twice {
			v.drives = append(v.drives, part[1])
		}
	}
	if err := lines.Err(); err != nil {
		return v, err
	}
	if len(v.of) == 0 {
		return v, fmt.Errorf("%w: it has no lines KEY = \"VALUE\"", machine.ErrOther)
	}
	return v, nil
}

func (v values) yes(key string) bool { return strings.EqualFold(v.of[key], "true") }

// present tells whether a device is there: one that says nothing of it is.
func (v values) present(slot string) bool { return !strings.EqualFold(v.of[slot+".present"], "false") }

// device is the sort of a drive for removable media, empty for a disk.
func (v values) device(slot string) string {
	kind := strings.ToLower(v.of[slot+".devicetype"])
	switch {
	case strings.Contains(kind, "cdrom"):
		return "cdrom"
	case strings.Contains(kind, "floppy"), strings.HasPrefix(slot, "floppy"):
		return "floppy"
	}
	return ""
}

func read(text []byte) (machine.Definition, error) {
	v, err := parse(text)
	d := machine.Definition{Name: v.of["displayname"]}
	for _, s := range v.drives {
		if v.present(s) && v.device(s) == "" {
			d.Disks = append(d.Disks, slashed(v.of[s+".filename"]))
		}
	}
	return d, err
}

// slashed is the name of a file with the separator that is used here.
func slashed(name string) string { return strings.ReplaceAll(name, `\`, "/") }

// unescape is a value with its characters in the place of their numbers.
func unescape(value string) string {
	return escaped.ReplaceAllStringFunc(value, func(s string) string {
		n, _ := strconv.ParseUint(s[1:], 16, 8) // two hex digits, by the expression
		return string(rune(n))
	})
}

// escape is a text as a value.
func escape(value string) string {
	var b strings.Builder
	for _, r := range value {
		if r == '|' || r == '"' || r < ' ' {
			fmt.Fprintf(&b, "|%02X", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// edit changes lines. change gets the key of each, in lower case, and its value, and returns the value that it is to have, or that the line goes.
func edit(text []byte, change func(key, value string) (now string, keep bool)) ([]byte, error) {
	utf8 := true
	var out []byte
	for _, whole := range bytes.SplitAfter(text, []byte("\n")) {
		m := line.FindSubmatchIndex(bytes.TrimRight(whole, "\r\n"))
		if m == nil {
			out = append(out, whole...)
			continue
		}
		key, value := strings.ToLower(string(whole[m[2]:m[3]])), unescape(string(whole[m[4]:m[5]]))
		if key == ".encoding" {
			utf8 = strings.EqualFold(value, "utf-8")
		}
		now, keep := change(key, value)
		switch {
		case !keep:
			continue
		case now == value:
			out = append(out, whole...)
			continue
		case !utf8 && strings.ContainsFunc(now, func(r rune) bool { return r > unicode.MaxASCII }):
			return nil, fmt.Errorf("its encoding may not have the characters of %s", now)
		}
		out = append(append(append(out, whole[:m[4]]...), escape(now)...), whole[m[5]:]...)
	}
	return out, nil
}

// follow changes the names of files of drives.
func follow(text []byte, c machine.Change) ([]byte, error) {
	return edit(text, func(key, value string) (string, bool) {
		part := slot.FindStringSubmatch(key)
		to, ok := c.Names[slashed(value)]
		if part == nil || part[2] != "filename" || !ok {
			return value, true
		}
		if strings.Contains(value, `\`) {
			to = strings.ReplaceAll(to, "/", `\`)
		}
		return to, true
	})
}
