package demo

import (
	"context"
	"fmt"
	"strings"

	"bagaglio/api"
	"bagaglio/core/plan"
)

// live shows what is done while machines run: one is tried out before it moves, and the storage of another one moves while it works.
func (s *show) live(ctx context.Context, g *guests) error {
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
	if !g.real {
		s.say("A stand-in does not move the storage of a machine that runs: that is shown where the lighthouse is a real host.")
		return nil
	}
	done, err := s.carry(ctx, "The storage of ticketing moves to another pool while it sells tickets", plan.Request{
		Kind:        plan.MoveMachine,
		Machine:     "lighthouse:ticketing",
		To:          lighthouse,
		Destination: &plan.Place{Pool: secondPool},
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
