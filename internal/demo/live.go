package demo

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"bagaglio/api"
	"bagaglio/core/disk"
	"bagaglio/core/plan"
	"bagaglio/core/storage/local"
	"bagaglio/internal/standin"
)

// live shows what is done while machines run: one is tried out before it moves, and the storage of another one moves while it works.
func (s *show) live(ctx context.Context) error {
	s.say("\n=== Would tide-board start at the lighthouse? It is tried out from its disks at the quay ===\n")
	machine, bus := "quay:tide-board", "virtio"
	seen, err := s.service.TryMachine(ctx, lighthouse, api.NewTrial{Machine: &machine, Bus: &bus})
	if err != nil {
		return err
	}
	if !seen.CameUp {
		return fmt.Errorf("tide-board was not seen to come up at the lighthouse: %v", seen.Evidence)
	}
	s.say(
		"It came up in %.0f s: %s. %d bytes of its disks were read, and nothing is left of it.",
		seen.Seconds,
		strings.Join(seen.Evidence, "; "),
		seen.BytesRead,
	)
	done, err := s.carry(ctx, "The storage of ticketing moves to another pool of the lighthouse while it runs", plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "lighthouse:ticketing",
		To:          lighthouse,
		Destination: &plan.Place{Pool: "gallery"},
		As:          "raw",
		Live:        true,
	})
	if err != nil {
		return err
	}
	if !done.Machine.CameUp {
		return fmt.Errorf("ticketing does not run any more: %v", done.Machine.Evidence)
	}
	s.say("Its guest stood still for %d ms in all.", done.StoppedMs)
	return nil
}

// sell moves the storage of ticketing at the quay while it sells tickets.
func (s *show) sell(ctx context.Context) error {
	done, err := s.carry(ctx, "The storage of ticketing moves to another pool of the quay while it sells tickets", plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "quay:ticketing",
		To:          quay,
		Destination: &plan.Place{Pool: "slipway"},
		As:          "vmdk",
		Layout:      "flat",
		Live:        true,
	})
	if err != nil {
		return err
	}
	s.say("Its guest stood still for %d ms in all.", done.StoppedMs)
	return nil
}

// sold compares the tickets that ticketing sold at the quay, by the log that is kept of them there, with its disk at the lighthouse.
func (s *show) sold(ctx context.Context, g *guests) error {
	log, err := os.Open(filepath.Join(s.stateOf(quay), standin.WritesLog))
	if err != nil {
		return err
	}
	defer log.Close()
	tickets, last := 0, map[int64]standin.Written{} // by their places on the disk, which are used again and again
	for lines := bufio.NewScanner(log); lines.Scan(); tickets++ {
		var w standin.Written
		if err := json.Unmarshal(lines.Bytes(), &w); err != nil {
			return err
		}
		last[w.Offset] = w
	}
	folder, err := local.Open(g.disks)
	if err != nil {
		return err
	}
	defer folder.Close()
	r, err := disk.Open(ctx, folder, "ticketing/ticketing.qcow2", "qcow2")
	if err != nil {
		return err
	}
	defer r.Close()
	for off, w := range last {
		sector := w.Sector()
		there := make([]byte, len(sector))
		if _, err := r.ReadAt(there, off); err != nil {
			return err
		}
		if !bytes.Equal(sector, there) {
			return fmt.Errorf("the ticket %d is not on its disk", w.Stamp)
		}
	}
	s.say(
		"It sold %d tickets at the quay while its disk moved there, until it was shut down; the last %d are on its disk, the others were written over by them.",
		tickets,
		len(last),
	)
	return nil
}
