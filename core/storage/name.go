package storage

import (
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// ErrOutside is the error for a name that would leave its folder.
var ErrOutside = errors.New("the name leads out of its folder")

// ErrName is the error for a name that cannot be one.
var ErrName = errors.New("not a name that can be worked with")

// ErrNotFile is the error for what should be a file and is none: a folder, a device, a pipe.
var ErrNotFile = errors.New("not a file")

// Names of files are bytes to most systems, and anybody may choose them. Here they are text that can be shown: each byte of what cannot be
// printed (characters of control, marks that turn the direction of writing, bytes that are no UTF-8) is written \xNN, and so is a
// backslash where it would be taken for that. Folders take such names and give them; only what talks to the system turns them into what
// they are.

// ShownName is the name here of a file that the system calls raw.
func ShownName(raw string) string { return escape(raw, true) }

// escape writes what cannot be printed as bytes, and with backslashes also those that begin what looks like one.
func escape(s string, backslashes bool) string {
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		lookalike := backslashes && r == '\\' && isEscape(s[i:])
		if r == utf8.RuneError && n == 1 || !unicode.IsPrint(r) || lookalike {
			for _, c := range []byte(s[i : i+n]) {
				fmt.Fprintf(&b, `\x%02x`, c)
			}
		} else {
			b.WriteString(s[i : i+n])
		}
		i += n
	}
	return b.String()
}

// isEscape tells whether a text begins with a byte that is written as a number.
func isEscape(s string) bool {
	if len(s) < 4 || s[0] != '\\' || s[1] != 'x' {
		return false
	}
	_, err := strconv.ParseUint(s[2:4], 16, 8)
	return err == nil
}

// RawName is what the system calls a file that has that name here.
func RawName(shown string) string {
	if !strings.Contains(shown, `\x`) {
		return shown
	}
	var b strings.Builder
	for i := 0; i < len(shown); i++ {
		if isEscape(shown[i:]) {
			n, _ := strconv.ParseUint(shown[i+2:i+4], 16, 8) // isEscape has tried
			b.WriteByte(byte(n))
			i += 3
			continue
		}
		b.WriteByte(shown[i])
	}
	return b.String()
}

// Clean returns name in its shortest form, or an error that wraps ErrOutside when it would leave its folder.
func Clean(name string) (string, error) {
	if strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
		return "", fmt.Errorf("%w: %q has control characters in it: write it as it is listed, %s", ErrName, name, escape(name, false))
	}
	name = escape(name, false)
	if path.IsAbs(name) {
		return "", fmt.Errorf("%q: %w", name, ErrOutside)
	}
	c := path.Clean(name)
	raw := RawName(c)
	if c == ".." || strings.HasPrefix(c, "../") || path.Clean(raw) != raw || path.IsAbs(raw) || strings.HasPrefix(raw, "../") ||
		strings.Contains(raw, "\x00") {
		return "", fmt.Errorf("%q: %w", name, ErrOutside)
	}
	return c, nil
}

// Printable drops from a text what would disturb a terminal: names in images and on other computers are written by anybody.
func Printable(s string) string {
	return strings.TrimSpace(strings.Map(func(c rune) rune {
		if !unicode.IsPrint(c) || c == unicode.ReplacementChar {
			return -1
		}
		return c
	}, s))
}
