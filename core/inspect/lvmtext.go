package inspect

import (
	"strconv"
	"strings"

	"bagaglio/core/disk"
)

// Bounds of the text in which LVM says what it has: its length in bytes, and how deep its sections are in each other.
const maxLVMText, maxLVMDepth = 16 << 20, 8

// section is a part of the text: values by names, each a number, a text, a list of those, or a section.
type section map[string]any

func (s section) of(name string) section   { v, _ := s[name].(section); return v }
func (s section) number(name string) int64 { v, _ := s[name].(int64); return v }
func (s section) text(name string) string  { v, _ := s[name].(string); return v }
func (s section) list(name string) []any   { v, _ := s[name].([]any); return v }

// lvmText reads the text (lvm.conf(5) has its syntax).
type lvmText struct{ rest string }

// readSection reads up to the end, or the bracket that ends it.
func (t *lvmText) readSection(depth int) (section, error) {
	s := section{}
	if depth > maxLVMDepth {
		return nil, disk.Damaged("sections of LVM are %d deep", depth)
	}
	for {
		word := t.next()
		switch {
		case word == "" || word == "}":
			return s, nil
		case strings.ContainsAny(word[:1], `="[],{`):
			return nil, disk.Damaged("the text of LVM has %q where a name should be", word)
		}
		switch sign := t.next(); sign {
		case "{":
			inner, err := t.readSection(depth + 1)
			if err != nil {
				return nil, err
			}
			s[word] = inner
		case "=":
			value, err := t.value()
			if err != nil {
				return nil, err
			}
			s[word] = value
		default:
			return nil, disk.Damaged("the text of LVM has %q behind a name", sign)
		}
	}
}

// value reads a number, a text, or a list of them.
func (t *lvmText) value() (any, error) {
	word := t.next()
	switch word {
	case "[":
		list := []any{}
		for {
			switch word := t.next(); word {
			case "]", "":
				return list, nil
			case ",":
			default:
				list = append(list, plainValue(word))
			}
		}
	case "":
		return nil, disk.Damaged("the text of LVM ends in a value")
	}
	return plainValue(word), nil
}

func plainValue(word string) any {
	if text, ok := strings.CutPrefix(word, `"`); ok {
		return text
	}
	n, err := strconv.ParseInt(word, 10, 64)
	if err != nil {
		return word
	}
	return n
}

// next returns the next word, empty at the end. A text begins with its quotation mark.
func (t *lvmText) next() string {
	for {
		t.rest = strings.TrimLeft(t.rest, " \t\r\n\x00")
		if !strings.HasPrefix(t.rest, "#") {
			break
		}
		_, t.rest, _ = strings.Cut(t.rest, "\n")
	}
	if t.rest == "" {
		return ""
	}
	if t.rest[0] == '"' {
		for i := 1; i < len(t.rest); i++ {
			switch t.rest[i] {
			case '\\':
				i++
			case '"':
				word := t.rest[:i]
				t.rest = t.rest[i+1:]
				return word
			}
		}
		t.rest = ""
		return ""
	}
	end := strings.IndexAny(t.rest, " \t\r\n=[]{},#\"")
	switch {
	case end < 0:
		end = len(t.rest)
	case end == 0:
		end = 1
	}
	word := t.rest[:end]
	t.rest = t.rest[end:]
	return word
}
