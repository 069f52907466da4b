package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"

	"bagaglio/core/disk"
)

// way is one thing to measure: a command, and what it makes.
type way struct {
	name string
	args []string
	out  string // a pattern of the files that it makes, which go again; empty when it makes none
	in   string // a pattern of the files that it reads
}

// bench makes the ways to measure for one source.
type bench struct {
	binary, dir, source string
	formats, layouts    []string // only these; all when empty
	size                int64
}

const copying = "cp and sync"

// list returns for each layout its writing and its reading, and for compressed ones what a compressor takes. Before each
// format comes cp: what all are held against is measured most often.
func (b *bench) list() ([]way, error) {
	out := filepath.Join(b.dir, "copy.raw")
	var ways []way
	compressor := func(name, command string) {
		out := filepath.Join(b.dir, "packed")
		ways = append(ways, way{name, []string{"sh", "-c", command + " < " + b.source + " > " + out + " && sync " + out}, out, b.source})
	}
	by := "cp --reflink=never --sparse=never " + b.source + " " + out + " && sync " + out + " && sha256sum " + b.source + " " + out
	ways = append(ways, way{"cp, sync and sha256sum of both", []string{"sh", "-c", by}, out, b.source}) // what people do without us
	for _, f := range disk.Formats() {
		if len(b.formats) > 0 && !slices.Contains(b.formats, f.Name) {
			continue
		}
		ways = append(
			ways,
			way{copying, []string{"sh", "-c", "cp --reflink=never --sparse=never " + b.source + " " + out + " && sync " + out}, out, b.source},
		)
		for _, l := range f.Layouts {
			if len(b.layouts) > 0 && !slices.Contains(b.layouts, l.Name) {
				continue
			}
			more, err := b.layout(f, l, disk.Options{})
			if err != nil {
				return nil, err
			}
			ways = append(ways, more...)
			if slices.Contains([]string{"compressed", "stream"}, l.Name) {
				compressor("pigz -1", "pigz -1")
			}
			if l.Name != "compressed" {
				continue
			}
			if more, err = b.layout(f, l, disk.Options{Compression: "zstd"}); err != nil {
				return nil, err
			}
			ways = append(ways, more...)
			compressor("zstd -1 -T0", "zstd -1 -T0 -q")
		}
	}
	return ways, nil
}

// layout returns the ways for one layout: written without proof and with it, and read.
func (b *bench) layout(f disk.Format, l disk.Layout, o disk.Options) ([]way, error) {
	title := f.Name + ", " + l.Name
	stem := "-" + l.Name
	args := []string{"--as", f.Name, "--layout", l.Name, "--json"}
	if o.Compression != "" {
		title, stem = title+" "+o.Compression, stem+"-"+o.Compression
		args = append(args, "--compression", o.Compression)
	}
	if l.Stands {
		base, err := b.base(f)
		if err != nil {
			return nil, err
		}
		args = append(args, "--base", base)
	}
	convert := func(name string, more ...string) (command []string, files string) {
		out := filepath.Join(b.dir, name+stem+f.Extensions[0])
		return slices.Concat([]string{b.binary, "convert", b.source, out}, args, more), filepath.Join(b.dir, name+stem+"*")
	}
	unproven, out := convert("out", "--no-proof")
	proven, _ := convert("out")
	made, in := convert("in", "--no-proof")
	if text, err := exec.Command(made[0], made[1:]...).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%s: %w\n%s", title, err, text)
	}
	return []way{
		{title + ", unproven", unproven, out, b.source},
		{title + ", proven", proven, out, b.source},
		{title + ", read", []string{b.binary, "fingerprint", made[3]}, "", in},
	}, nil
}

// base makes an empty disk to stand on.
func (b *bench) base(f disk.Format) (string, error) {
	raw, base := filepath.Join(b.dir, "empty.raw"), filepath.Join(b.dir, "base"+f.Extensions[0])
	if err := os.WriteFile(raw, nil, 0o600); err != nil {
		return "", err
	}
	if err := os.Truncate(raw, b.size); err != nil {
		return "", err
	}
	text, err := exec.Command(b.binary, "convert", raw, base, "--json").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("making a base: %w\n%s", err, text)
	}
	return base, nil
}
