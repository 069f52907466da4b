package disk

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Options are what may be chosen inside a layout. The zero value of each stands for the layout's default.
type Options struct {
	Version     int    `json:"version,omitempty"`     // of the format
	BlockSize   int64  `json:"block_size,omitempty"`  // of the unit in which the format stores, in bytes
	SectorSize  int64  `json:"sector_size,omitempty"` // as the guest sees it, in bytes
	PieceSize   int64  `json:"piece_size,omitempty"`  // of the files of a disk in pieces, in bytes of the disk
	Compression string `json:"compression,omitempty"`
	Reserve     string `json:"reserve,omitempty"` // what a thick image takes from the start: all its space, or only the tables for it
	Adapter     string `json:"adapter,omitempty"` // that the disk is meant to hang on
	Bundle      string `json:"bundle,omitempty"`  // "yes" for a folder with a descriptor
}

// Option is one of them that a layout takes.
type Option struct {
	Name   string   // as in JSON
	Values []string // that it can have, the default first; none for a length in bytes
	// Of a length: the default, bounds, and what it is a multiple of.
	Default, Least, Most, Multiple int64
}

// set returns the options that are not left to the default, as text.
func (o Options) set() map[string]string {
	b, err := json.Marshal(o)
	values := map[string]any{}
	if err == nil {
		decoder := json.NewDecoder(strings.NewReader(string(b)))
		decoder.UseNumber()
		err = decoder.Decode(&values)
	}
	if err != nil {
		panic(err) // only for values that JSON cannot hold
	}
	out := map[string]string{}
	for name, value := range values {
		out[name] = fmt.Sprint(value)
	}
	return out
}

// Accepts returns an error when the layout does not take an option, or not with that value.
func (l Layout) Accepts(o Options) error {
	for name, value := range o.set() {
		i := slices.IndexFunc(l.Options, func(option Option) bool { return option.Name == name })
		if i < 0 {
			return fmt.Errorf("the layout %s has no choice of %s", l.Name, Words(name))
		}
		if err := l.Options[i].accepts(value); err != nil {
			return err
		}
	}
	return nil
}

func (o Option) accepts(value string) error {
	if len(o.Values) > 0 {
		if !slices.Contains(o.Values, value) {
			return fmt.Errorf("the %s cannot be %s: choose one of %s", Words(o.Name), value, strings.Join(o.Values, ", "))
		}
		return nil
	}
	n, err := strconv.ParseInt(value, 10, 64)
	if err != nil || n < o.Least || n > o.Most || n%o.Multiple != 0 {
		return fmt.Errorf("the %s cannot be %s: it is from %d to %d bytes, in multiples of %d", Words(o.Name), value, o.Least, o.Most, o.Multiple)
	}
	return nil
}

// Words writes the name of an option as people say it.
func Words(name string) string { return strings.ReplaceAll(name, "_", " ") }
