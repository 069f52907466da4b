package iso

import (
	"io/fs"
	"strings"

	"bagaglio/core/disk"
)

// Facts of what records have in their system use (SUSP 1.12 and Rock Ridge 1.12): entries with a mark of two letters and their length.
const (
	maxAreas = 32 // that are followed
	maxArea  = 1 << 16

	nameGoesOn                    = 1
	linkHere, linkUp, linkFromTop = 2, 4, 8
	partGoesOn                    = 1
)

// kinds are those of files, by the upper bits of their mode (POSIX).
var kinds = map[uint32]fs.FileMode{
	0o040000: fs.ModeDir,
	0o120000: fs.ModeSymlink,
	0o020000: fs.ModeDevice | fs.ModeCharDevice,
	0o060000: fs.ModeDevice,
	0o010000: fs.ModeNamedPipe,
	0o140000: fs.ModeSocket,
}

// rock is what a record says besides.
type rock struct {
	name, target string
	mode         fs.FileMode // 0 where it says none
}

// readRock finds out whether records have more in them, by the first one of the folder at the top.
func (v *volume) readRock() error {
	root, err := v.record(v.root)
	if err != nil {
		return err
	}
	itself, err := v.record(int64(le.Uint32(root[atExtent:])) * sector)
	if err != nil {
		return err
	}
	if use := systemUse(itself); len(use) >= 7 && string(use[:2]) == "SP" && use[4] == 0xbe && use[5] == 0xef {
		v.rocky, v.skip = true, int(use[6])
	}
	return nil
}

// systemUse is what a record has behind its name.
func systemUse(r []byte) []byte {
	n := atName + int(r[atNameLen])
	n += (int(r[atNameLen]) + 1) % 2
	return r[min(n, len(r)):]
}

// more reads what the record at an offset says besides.
func (v *volume) more(at int64) (m rock, err error) {
	if !v.rocky || at == v.root {
		return m, nil
	}
	r, err := v.record(at)
	if err != nil {
		return m, err
	}
	use := systemUse(r)
	use = use[min(v.skip, len(use)):]
	for areas := 0; use != nil && areas < maxAreas; areas++ {
		var next []byte
		for len(use) >= 4 && int(use[2]) >= 4 && int(use[2]) <= len(use) {
			e := use[:use[2]]
			use = use[use[2]:]
			switch string(e[:2]) {
			case "NM":
				if len(e) > 5 && e[4]&^nameGoesOn == 0 {
					m.name += string(e[5:])
				}
			case "PX":
				if len(e) >= 12 {
					mode := le.Uint32(e[4:])
					m.mode = fs.FileMode(mode&0o777) | kinds[mode&0o170000]
				}
			case "SL":
				if len(e) > 5 {
					m.target = link(m.target, e[5:])
				}
			case "CE":
				if len(e) >= 28 {
					if next, err = v.area(e); err != nil {
						return m, err
					}
				}
			}
		}
		use = next
	}
	return m, nil
}

// area reads what a record says elsewhere.
func (v *volume) area(e []byte) ([]byte, error) {
	at, n := int64(le.Uint32(e[4:]))*sector+int64(le.Uint32(e[12:])), int64(le.Uint32(e[20:]))
	if n > maxArea || at+n > v.size {
		return nil, disk.Damaged("%d bytes of a record at %d", n, at)
	}
	b := make([]byte, n)
	_, err := v.r.ReadAt(b, at)
	return b, err
}

// link adds the parts of a target to what is known of it.
func link(target string, parts []byte) string {
	for len(parts) >= 2 && int(parts[1])+2 <= len(parts) && len(target) < 4096 {
		flags, text := parts[0], string(parts[2:2+parts[1]])
		parts = parts[2+parts[1]:]
		switch {
		case flags&linkFromTop != 0:
			target = "/"
			continue
		case flags&linkUp != 0:
			text = ".."
		case flags&linkHere != 0:
			text = "."
		}
		switch {
		case strings.HasSuffix(target, "\x00"): // the last part goes on in this one
			target = strings.TrimSuffix(target, "\x00") + text
		default:
			target = joined(target, text)
		}
		if flags&partGoesOn != 0 {
			target += "\x00"
		}
	}
	return target
}

func joined(target, text string) string {
	if target == "" || target == "/" {
		return target + text
	}
	return target + "/" + text
}
