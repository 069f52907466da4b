// Package vmx reads definitions that are a text of lines KEY = "VALUE".
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
	machine.Register(machine.Format{Name: "vmx", Extension: ".vmx", Read: read, Follow: follow, Images: []string{"vmdk"}})
}

var (
	line = regexp.MustCompile(`^\s*([^=\s]+)\s*=\s*"([^"]*)"\s*$`)
	// slot is the key of a drive's file; type and presence are told by other keys of the same slot.
	slot = regexp.MustCompile(`^((?:ide|scsi|sata|nvme)\d+:\d+)\.(filename|devicetype|present)$`)
	// escaped is a character that a value has by its number.
	escaped = regexp.MustCompile(`\|[0-9A-Fa-f]{2}`)
)

func read(text []byte) (machine.Definition, error) {
	var d machine.Definition
	values, order := map[string]string{}, []string{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, len(text)+1)
	for lines.Scan() {
		m := line.FindStringSubmatch(lines.Text())
		if m == nil {
			continue
		}
		key := strings.ToLower(m[1])
		values[key] = unescape(m[2])
		if part := slot.FindStringSubmatch(key); part != nil && part[2] == "filename" {
			order = append(order, part[1])
		}
	}
	if err := lines.Err(); err != nil {
		return d, err
	}
	if len(values) == 0 {
		return d, fmt.Errorf("%w: it has no lines KEY = \"VALUE\"", machine.ErrOther)
	}
	d.Name = values["displayname"]
	for _, s := range order {
		kind := strings.ToLower(values[s+".devicetype"])
		if strings.EqualFold(values[s+".present"], "false") || strings.Contains(kind, "cdrom") || strings.Contains(kind, "floppy") {
			continue
		}
		d.Disks = append(d.Disks, slashed(values[s+".filename"]))
	}
	return d, nil
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

// follow changes the names of files of drives.
func follow(text []byte, c machine.Change) ([]byte, error) {
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
		part := slot.FindStringSubmatch(key)
		to, ok := c.Names[slashed(value)]
		if part == nil || part[2] != "filename" || !ok {
			out = append(out, whole...)
			continue
		}
		if !utf8 && strings.ContainsFunc(to, func(r rune) bool { return r > unicode.MaxASCII }) {
			return nil, fmt.Errorf("its encoding may not have the characters of %s", to)
		}
		if strings.Contains(value, `\`) {
			to = strings.ReplaceAll(to, "/", `\`)
		}
		out = append(append(append(out, whole[:m[4]]...), strings.NewReplacer("|", "|7C", `"`, "|22").Replace(to)...), whole[m[5]:]...)
	}
	return out, nil
}
