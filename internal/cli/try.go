package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/plan"
	"bagaglio/core/step"

	"github.com/spf13/cobra"
)

func (a *app) machineTry() *cobra.Command {
	var t api.NewTrial
	var pool, network, bus, firmware, screen string
	var within time.Duration
	c := &cobra.Command{
		Use:   "try HOST:NAME|POOL:DISK HOST",
		Short: "Try out whether a machine, or one around a disk, comes up on a host, before anything is copied",
		Long: `Tries out whether a machine, or one around a disk, comes up on a host: its disks are read from where they lie, over the network, and what it writes meanwhile is
thrown away. Nothing is copied, no source is written to, and no machine is left. A machine that runs goes on
meanwhile. The one that is tried out has no network cards, unless they are to be connected to a network of that host.`,
		Example: `  bagaglio machine try quay:tide-board lighthouse
  bagaglio machine try seabag:gate-kiosk.vhdx lighthouse --bus virtio --screen kiosk.png`,
		Args: exactly(2),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 {
				return a.completeHost(cmd, nil, typed)
			}
			return a.completeMachine(cmd, args, typed)
		},
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			seconds := int(within.Seconds())
			t.Within, t.Pool, t.Network, t.Bus = &seconds, given(pool), given(network), given(bus)
			t.Firmware = (*api.NewTrialFirmware)(given(firmware))
			if err := whatToTry(cmd.Context(), service, args[0], &t); err != nil {
				return err
			}
			a.remark("Starting it on %s for up to %s.", args[1], within)
			seen, err := service.TryMachine(cmd.Context(), args[1], t)
			if err != nil {
				return err
			}
			if screen != "" && seen.Screen != nil {
				if err := os.WriteFile(screen, *seen.Screen, 0o600); err != nil {
					return err
				}
			}
			if err := a.printTried(seen); err != nil {
				return err
			}
			if !seen.CameUp {
				return fmt.Errorf("%w: it was not seen to come up on %s", step.ErrNotProven, args[1])
			}
			return nil
		}),
	}
	f := c.Flags()
	f.DurationVar(&within, "within", 2*time.Minute, "for how long it may take to come up")
	f.StringVar(&pool, "pool", "", "a pool of that host for what it writes meanwhile (default: the one with the most room)")
	f.StringVar(&network, "network", "", "connect its cards to this network of that host; otherwise it has none")
	f.StringVar(&bus, "bus", "", "try its disks on another bus")
	f.StringVar(&firmware, "firmware", "", "try another firmware: bios or uefi")
	f.StringVar(&screen, "screen", "", "write a picture of what it showed into this file")
	a.jsonFlag(c)
	return c
}

// given is a text, or nothing where that is empty.
func given(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

// whatToTry tells a machine of a host from a disk in a pool.
func whatToTry(ctx context.Context, service *client.Service, text string, t *api.NewTrial) error {
	if host, name, err := plan.HostAndName(text); err == nil {
		var answer *client.Error
		_, err := service.Machine(ctx, host, name)
		if err == nil {
			t.Machine = &text
			return nil
		}
		if !errors.As(err, &answer) || answer.Status != 404 {
			return err
		}
	}
	at, err := place(text)
	if err != nil {
		return err
	}
	if at.Pool == "" {
		return usage("%q is neither a machine of a host nor a disk in a pool", text)
	}
	t.Disk = &at
	return nil
}

func (a *app) printTried(seen api.MachineTrial) error {
	if a.json {
		return a.printJSON(seen)
	}
	up := "NOT SEEN"
	if seen.CameUp {
		up = "yes"
	}
	rows := [][]string{
		{"came up", up},
		{"starts by", seen.Is.StartsBy()},
		{"memory", size(seen.Is.Memory)},
		{"processors", strconv.Itoa(seen.Is.Processors.Count)},
	}
	for _, d := range seen.Is.Disks {
		rows = append(rows, []string{"disk", strings.TrimSpace(d.Slot + " " + d.Bus)})
	}
	for _, e := range seen.Evidence {
		rows = append(rows, []string{"evidence", e})
	}
	if seen.Console != nil {
		for _, l := range *seen.Console {
			rows = append(rows, []string{"console", l})
		}
	}
	return table(a.out, append(rows, []string{"read", size(seen.BytesRead)}, []string{"took", fmt.Sprintf("%.0f s", seen.Seconds)}))
}
