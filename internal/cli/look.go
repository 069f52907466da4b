package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"bagaglio/core/disk"
	"bagaglio/core/inspect"
	"bagaglio/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) look() *cobra.Command {
	var flags plan.Place
	var within string
	var starts bool
	c := &cobra.Command{
		Use:               "look DISK",
		Short:             "Look at a disk, and inside, without reading its content",
		Args:              exactly(1),
		ValidArgsFunction: a.completeDisk,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := source(args[0], flags)
			if err != nil {
				return err
			}
			w, err := a.worker(p)
			if err != nil {
				return err
			}
			if within != "" {
				return a.lookWithin(cmd.Context(), w, p, within)
			}
			if starts {
				found, err := w.starts(cmd.Context(), p)
				if err != nil {
					return err
				}
				if a.json {
					return a.printJSON(found)
				}
				return printStarts(a.out, found)
			}
			report, err := w.look(cmd.Context(), p)
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(report)
			} else {
				err = printReport(a.out, p, report)
			}
			if err == nil && report.Damaged {
				err = told(disk.ErrDamaged)
			}
			return err
		},
	}
	a.sourceFlags(c.Flags(), &flags)
	c.Flags().
		StringVar(&within, "inside", "", "list this folder inside of the disk, as PARTITION:PATH, such as 2:/etc (partition 0: the whole disk is one filesystem; a volume of LVM by its name, deck/root:/etc)")
	c.Flags().
		BoolVar(&starts, "starts", false, "tell what it starts from, which buses its systems have drivers for, and what would keep them from starting elsewhere")
	a.jsonFlag(c)
	return c
}

func (a *app) lookWithin(ctx context.Context, w worker, p plan.Place, within string) error {
	at, err := inspect.ParseSpot(within)
	if err != nil {
		return usage("%w", err)
	}
	all, err := w.inside(ctx, p, at)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(all)
	}
	return a.printFolder(all)
}

func printReport(out io.Writer, p plan.Place, r inspect.Report) error {
	rows := [][]string{{"disk", p.String()}, {"format", r.Format + ", " + r.Layout}}
	add := func(name, value string) {
		if value != "" {
			rows = append(rows, []string{name, value})
		}
	}
	add("version", r.Version)
	add("creator", r.Creator)
	add("identifier", r.Identifier)
	if r.Dirty {
		add("state", "was not closed properly")
	}
	add("virtual size", plan.Bytes(r.VirtualSize))
	if r.OtherSize > 0 {
		add("by the other rule", plan.Bytes(r.OtherSize))
	}
	add("allocated size", plan.Bytes(r.AllocatedSize))
	add("file size", fmt.Sprintf("%s, of which the storage holds %s", plan.Bytes(r.FileSize), size(r.Room)))
	if r.BlockSize > 0 {
		add("block size", size(r.BlockSize))
	}
	if r.SectorSize > 0 {
		add("sector size", plan.Bytes(r.SectorSize))
	}
	add("files", list(r.Files))
	add("stands on", r.Base)
	add("chain", list(r.Chain))
	add("snapshots", strings.Join(r.Snapshots, ", "))
	add("map", bar(r))
	add(
		"",
		fmt.Sprintf("%c stored, %c more than half, %c less, %c nothing; %d extents", shades[3], shades[2], shades[1], shades[0], r.ExtentsTotal),
	)
	for _, w := range append(r.Warnings, r.Inside.Warnings...) {
		add("warning", w)
	}
	if f := r.Inside.Filesystem; f != nil {
		add("inside", "no partitions; "+describe(f))
	} else if r.Inside.Table == "" {
		add("inside", "no partition table or filesystem that is known")
	}
	if err := table(out, rows); err != nil || len(r.Inside.Partitions) == 0 {
		return err
	}
	parts := [][]string{{"", "PARTITION", "OFFSET", "LENGTH", "TYPE", "NAME", "FILESYSTEM"}}
	for _, p := range r.Inside.Partitions {
		parts = append(
			parts,
			[]string{r.Inside.Table, fmt.Sprint(p.Number), fmt.Sprint(p.Offset), size(p.Length), p.Type, p.Name, describe(p.Filesystem)},
		)
		if p.Filesystem == nil {
			continue
		}
		for _, v := range p.Filesystem.Volumes {
			parts = append(parts, []string{"lvm", "", "", size(v.Size), "", v.Name, describe(v.Filesystem)})
		}
	}
	if _, err := fmt.Fprintln(out); err != nil {
		return err
	}
	return table(out, parts)
}

// list writes names in one line; of many, the first and the last.
func list(names []string) string {
	const most = 6
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s, … (%d in all), %s", strings.Join(names[:most-1], ", "), len(names), names[len(names)-1])
}

func describe(f *inspect.Filesystem) string {
	if f == nil {
		return ""
	}
	says := strings.TrimSpace(fmt.Sprintf("%s %s %s", f.Kind, f.Label, f.ID))
	if f.Size > 0 {
		says += fmt.Sprintf(", %s used of %s", size(f.Used), size(f.Size))
	}
	return says
}

// shades are how much of a part of a disk is stored: nothing, less than half, more, all.
var shades = []rune("·░▒█")

// bar draws where data is stored, from the first byte to the last.
func bar(r inspect.Report) string {
	const width = 60
	if r.VirtualSize == 0 {
		return ""
	}
	cell := float64(r.VirtualSize) / width
	var stored [width]float64 // bytes in each cell
	for _, e := range r.Extents {
		from, to := float64(e.Offset), float64(e.Offset+e.Length)
		for i := int(from / cell); e.Kind == "data" && i < width && float64(i)*cell < to; i++ {
			stored[i] += min(to, float64(i+1)*cell) - max(from, float64(i)*cell)
		}
	}
	var b strings.Builder
	for _, n := range stored {
		shade := shades[0]
		switch {
		case n > cell*0.999: // floating point
			shade = shades[3]
		case n > cell/2:
			shade = shades[2]
		case n > 0:
			shade = shades[1]
		}
		b.WriteRune(shade)
	}
	return b.String()
}
