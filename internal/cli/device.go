package cli

import (
	"context"
	"fmt"
	"strings"

	"bagaglio/core/device"
	"bagaglio/core/plan"
	"bagaglio/core/storage/blocks"

	"github.com/spf13/cobra"
)

func (a *app) device() *cobra.Command {
	return group("device", "Devices: the physical disks of computers", a.deviceList(), a.deviceShow())
}

func (a *app) deviceList() *cobra.Command {
	c := &cobra.Command{
		Use:   "list [HOST]",
		Short: "List the physical disks of a host (default local), with /dev those of this computer on the spot",
		Args:  between(0, 1),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := a.devices(cmd.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(all)
			}
			rows := [][]string{{"DEVICE", "SIZE", "MODEL", "SERIAL", "PARTITIONS", "USED BY"}}
			for _, d := range all {
				rows = append(rows, []string{written(d), size(d.Size), d.Model, orDash(d.Serial), held(d), usedBy(d.Uses)})
			}
			return table(a.out, rows)
		},
	}
	a.jsonFlag(c)
	return c
}

func (a *app) deviceShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show DEVICE", Short: "Show a physical disk, with its partitions and who uses them", Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := place(args[0])
			if err != nil {
				return err
			}
			host, ok := plan.DevicesHost(p.Pool)
			if !ok {
				return usage("%q is no device: write HOST:/dev/NAME, or /dev/NAME for one of this computer", args[0])
			}
			if host == "" {
				host = blocks.Path
			}
			all, err := a.devices(cmd.Context(), host)
			if err != nil {
				return err
			}
			for _, d := range all {
				if d.Path != blocks.Path+"/"+p.Path {
					continue
				}
				if a.json {
					return a.printJSON(d)
				}
				return a.printDevice(d)
			}
			return fmt.Errorf("there is no disk %s: bagaglio device list shows those that there are", args[0])
		},
	}
	a.jsonFlag(c)
	return c
}

// devices are those of a host, or on the spot those of this computer.
func (a *app) devices(ctx context.Context, host string) ([]blocks.Seen, error) {
	if host == blocks.Path {
		return blocks.Open().Devices()
	}
	service, err := a.dial()
	if err != nil {
		return nil, err
	}
	return service.Devices(ctx, host)
}

// written is how a device is written.
func written(d blocks.Seen) string {
	if d.Host == "" {
		return d.Path
	}
	return d.Host + ":" + d.Path
}

// held is what is on a disk, in few words.
func held(d blocks.Seen) string {
	if d.Problem != "" {
		return "cannot be read"
	}
	var kinds []string
	for _, p := range d.Partitions {
		kind := p.Filesystem
		if kind == "" {
			kind = p.Type
		}
		kinds = append(kinds, kind)
	}
	return orDash(strings.TrimPrefix(d.Table+": "+strings.Join(kinds, ", "), ": "))
}

func usedBy(uses []device.Use) string {
	var all []string
	for _, u := range uses {
		all = append(all, u.By+" "+u.Where)
	}
	return orDash(strings.Join(all, ", "))
}

func (a *app) printDevice(d blocks.Seen) error {
	rows := [][]string{{"device", written(d)}}
	add := func(name, value string) {
		if value != "" {
			rows = append(rows, []string{name, value})
		}
	}
	add("model", d.Model)
	add("serial", d.Serial)
	add("size", plan.Bytes(d.Size))
	add("sectors", fmt.Sprintf("%d bytes, on the disk %d", d.SectorSize, d.PhysicalSize))
	var is []string
	for _, trait := range []struct {
		has  bool
		word string
	}{{d.Rotational, "rotates"}, {d.Removable, "can be unplugged"}, {d.ReadOnly, "is read only"}} {
		if trait.has {
			is = append(is, trait.word)
		}
	}
	add("it", strings.Join(is, ", "))
	add("health", d.Health)
	add("file", d.Backing)
	for _, u := range d.Uses {
		add("in use", u.String())
	}
	add("problem", d.Problem)
	if err := table(a.out, rows); err != nil || len(d.Partitions) == 0 {
		return err
	}
	parts := [][]string{{"", "PARTITION", "LENGTH", "USED", "TYPE", "NAME", "FILESYSTEM", "LABEL", "USED BY"}}
	for _, p := range d.Partitions {
		used := "?"
		if p.Used >= 0 {
			used = size(p.Used)
		}
		parts = append(
			parts,
			[]string{d.Table, fmt.Sprint(p.Number), size(p.Length), used, p.Type, p.Name, p.Filesystem, p.Label, usedBy(p.Uses)},
		)
	}
	if _, err := fmt.Fprintln(a.out); err != nil {
		return err
	}
	return table(a.out, parts)
}
