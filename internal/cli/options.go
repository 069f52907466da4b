package cli

import (
	"fmt"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/plan"

	"github.com/dustin/go-humanize"
	"github.com/spf13/pflag"
)

// optionFlags adds a flag for each choice inside a layout. What a layout takes is told by the plan.
func optionFlags(f *pflag.FlagSet, o *disk.Options) {
	f.IntVar(&o.Version, "format-version", 0, "version of the format: 2 or 3 (qcow2)")
	f.Var(length{&o.BlockSize}, "block-size", "length of clusters or blocks, such as 64K (qcow2, vhdx)")
	f.Var(length{&o.SectorSize}, "sector-size", "sectors as the guest sees them: 512 or 4K (vhdx)")
	f.Var(length{&o.PieceSize}, "piece-size", "length of the pieces, such as 2G (raw pieces, vmdk split)")
	f.StringVar(&o.Compression, "compression", "", "zlib or zstd (qcow2 compressed)")
	f.StringVar(&o.Reserve, "reserve", "", "what a thick image takes from the start: all its space, or only its tables (qcow2)")
	f.StringVar(&o.Adapter, "adapter", "", "what the disk is meant to hang on (vmdk)")
	f.StringVar(&o.Bundle, "bundle", "", "yes or no: a folder with a descriptor (hdd)")
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

// sourceFlags adds what says how a disk that is read is to be opened.
func (a *app) sourceFlags(f *pflag.FlagSet, p *plan.Place) {
	f.StringVar(&a.within, "within", "", "folder of this computer in which names in images may lead about (default: the one that the image is in)")
	f.StringVar(&p.Format, "from", "", "format of the disk that is read, when its name and content disagree")
	f.StringVar(&p.Snapshot, "snapshot", "", "snapshot kept inside of the disk that is read, instead of its present state")
	f.BoolVar(&p.ByGeometry, "by-geometry", false, "read the disk up to where its geometry ends, as some hypervisors do (vhd)")
}

// source is the place that an argument names, opened as the flags say.
func source(arg string, flags plan.Place) (plan.Place, error) {
	p, err := place(arg)
	flags.Pool, flags.Path = p.Pool, p.Path
	return flags, err
}
