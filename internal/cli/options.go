package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/plan"

	"github.com/dustin/go-humanize"
	"github.com/spf13/pflag"
)

// choice is the value of a flag for an option of layouts.
type choice struct {
	to     *disk.Options
	option disk.Option
	chosen string
}

func (c *choice) String() string { return c.chosen }
func (c *choice) Type() string {
	if c.isLength() {
		return "length"
	}
	return "choice"
}

// isLength tells whether the values are numbers of bytes.
func (c *choice) isLength() bool {
	return !slices.ContainsFunc(c.option.Values, func(v string) bool { _, err := strconv.Atoi(v); return err != nil })
}

func (c *choice) Set(s string) error {
	value := any(s)
	var n int64
	switch {
	case c.isLength(): // the plan says whether the layout takes it
		if err := (length{&n}).Set(s); err != nil {
			return err
		}
		value = n
	case !slices.Contains(c.option.Values, s):
		return fmt.Errorf("%q is none of %s", s, strings.Join(c.option.Values, ", "))
	}
	b, err := json.Marshal(map[string]any{c.option.Name: value})
	if err != nil {
		return err
	}
	c.chosen = s
	return json.Unmarshal(b, c.to)
}

// mostNamed is how many values of a choice are named in its help.
const mostNamed = 6

// optionFlags adds a flag for each choice inside a layout that the registry has. What a layout takes is told by the plan.
func optionFlags(f *pflag.FlagSet, o *disk.Options) {
	all := map[string]*choice{}
	formats := map[string][]string{} // that have it
	for _, format := range disk.Formats() {
		for _, l := range format.Layouts {
			for _, option := range l.Options {
				c := all[option.Name]
				if c == nil {
					c = &choice{to: o, option: option}
					all[option.Name] = c
				}
				for _, v := range option.Values {
					if !slices.Contains(c.option.Values, v) {
						c.option.Values = append(c.option.Values[:len(c.option.Values):len(c.option.Values)], v)
					}
				}
				if !slices.Contains(formats[option.Name], format.Name) {
					formats[option.Name] = append(formats[option.Name], format.Name)
				}
			}
		}
	}
	for name, c := range all {
		what := disk.Words(name) + ", such as 64K"
		if n := len(c.option.Values); n > 0 && n <= mostNamed {
			what = disk.Words(name) + ": " + strings.Join(c.option.Values, ", ")
		}
		f.Var(c, optionFlag(name), fmt.Sprintf("%s (%s)", what, strings.Join(formats[name], ", ")))
	}
}

// optionFlag is the flag of an option.
func optionFlag(name string) string {
	if name == "version" { // which is that of Bagaglio
		return "format-version"
	}
	return strings.ReplaceAll(name, "_", "-")
}

// length is the value of a flag in bytes, with a unit or without: 65536, 64K, 64KiB. Units are powers of 1024.
type length struct{ n *int64 }

func (l length) String() string {
	if l.n == nil || *l.n == 0 {
		return ""
	}
	return fmt.Sprint(*l.n)
}

func (l length) Set(s string) error {
	text := strings.ToUpper(strings.TrimSpace(s))
	text = strings.TrimSuffix(strings.TrimSuffix(text, "B"), "I")
	if text != "" && strings.ContainsAny(text[len(text)-1:], "KMGTP") {
		text += "iB"
	}
	n, err := humanize.ParseBytes(text)
	if err != nil || n > 1<<62 {
		return fmt.Errorf("%q is no length: write bytes, or a number with K, M, G or T", s)
	}
	*l.n = int64(n)
	return nil
}

func (l length) Type() string { return "length" }

// baseOf makes the base of a request a path in the pool of its destination, or of this computer, as that one is.
func baseOf(r *plan.Request) error {
	if r.Base == "" {
		return nil
	}
	p, err := place(r.Base)
	if err != nil {
		return err
	}
	if p.Pool != r.Destination.Pool {
		return usage("the base has to lie where the new image does: in its pool, or both at paths of this computer")
	}
	r.Base = p.Path
	return nil
}

// earlierOf makes the earlier image of a request a path in the pool of its destination, or of this computer, as that one is.
func earlierOf(r *plan.Request) error {
	if r.GoOnFrom == "" {
		return nil
	}
	p, err := place(r.GoOnFrom)
	if err != nil {
		return err
	}
	if p.Pool != r.Destination.Pool {
		return usage("the earlier image has to lie where the new one does: in its pool, or both at paths of this computer")
	}
	r.GoOnFrom = p.Path
	return nil
}

// sourceFlags adds what says how a disk that is read is to be opened.
func (a *app) sourceFlags(f *pflag.FlagSet, p *plan.Place) {
	f.StringVar(
		&a.within,
		"within",
		"",
		"folder of this computer in which names in images may lead about (default: the one that the image is in)",
	)
	f.StringVar(&p.Format, "from", "", "format of the disk that is read, when its name and content disagree")
	f.StringVar(&p.Snapshot, "snapshot", "", "snapshot kept inside of the disk that is read, instead of its present state")
	f.BoolVar(&p.ByGeometry, "by-geometry", false, "read the disk up to where its geometry ends, as some hypervisors do (vhd)")
}

// source is the place that an argument names, opened as the flags say.
func source(arg string, flags plan.Place) (plan.Place, error) {
	p, err := place(arg)
	flags.Pool, flags.Path = p.Pool, p.Path
	if flags.Format == "" {
		flags.Format = p.Format
	}
	return flags, err
}
