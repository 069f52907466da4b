// Package vmx reads definitions that are a text of lines KEY = "VALUE".
package vmx

import (
	"bufio"
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"bagaglio/core/machine"
)

func init() { machine.Register(machine.Format{Name: "vmx", Extension: ".vmx", Read: read}) }

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
		value := escaped.ReplaceAllStringFunc(m[2], func(s string) string {
			n, _ := strconv.ParseUint(s[1:], 16, 8) // two hex digits, by the expression
			return string(rune(n))
		})
		values[key] = value
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
		d.Disks = append(d.Disks, strings.ReplaceAll(values[s+".filename"], `\`, "/"))
	}
	return d, nil
}
