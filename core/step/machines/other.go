package machines

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bagaglio/core/host"
	"bagaglio/core/machine"
)

// Answers that try the machine otherwise.
const (
	answerFirmware = "firmware"
	answerBus      = "bus"
)

// tried is the machine as a person had it tried, instead of as it was planned.
type tried struct {
	After      machine.Machine `json:"after"`
	Definition string          `json:"definition"`
}

// after is what the machine was to become, by the plan or by who had it tried otherwise since.
func (w *work) after() machine.Machine {
	if w.state.Tried != nil {
		return w.state.Tried.After
	}
	return w.m.After
}

// buses are those that are tried for disks, one after the other.
var buses = []string{"sata", "virtio", "ide", "scsi"}

// otherwise is the machine with another firmware, or with its disks on another bus, and what that is in words.
func otherwise(m machine.Machine, answer string) (now machine.Machine, what string) {
	m.Disks = slices.Clone(m.Disks)
	if answer == answerFirmware {
		from := m.Firmware
		m.Firmware, m.SecureBoot, m.Variables = machine.UEFI, false, ""
		if from == machine.UEFI {
			m.Firmware = machine.BIOS
		}
		return m, "the firmware " + m.Firmware
	}
	next := buses[0]
	if len(m.Disks) > 0 {
		next = buses[(slices.Index(buses, m.Disks[0].Bus)+1)%len(buses)]
	}
	for i := range m.Disks {
		m.Disks[i].Bus, m.Disks[i].Slot = next, ""
	}
	return m, "its disks on the bus " + next
}

// tryOtherwise switches the machine off, changes its definition, and switches it on again. What the host refuses is asked about.
func (w *work) tryOtherwise(ctx context.Context, answer string) error {
	if err := w.cutOff(ctx); err != nil {
		return err
	}
	m, err := w.there(ctx)
	if err != nil {
		return err
	}
	is, err := machine.Describe(m.Format, m.Definition)
	if err != nil {
		return fmt.Errorf("reading what is there of %s: %w", w.m.There(), err)
	}
	now, what := otherwise(is, answer)
	text, err := machine.Become(m.Definition, m.Format, m.Format, now)
	if err != nil {
		return w.askUp(fmt.Sprintf("it cannot be tried with %s: %v", what, err))
	}
	if now, err = machine.Describe(m.Format, text); err != nil {
		return err
	}
	if _, err = w.Ends.To.Define(ctx, text); err == nil {
		w.state.Tried = &tried{After: now, Definition: string(text)}
		w.state.Receipt.Differences = machine.Compare(w.m.Before, now)
		w.evidence("it was not seen to come up, and was tried with %s when a person said so", what)
		if err = w.Keep(ctx); err == nil {
			err = w.start(ctx)
		}
	}
	if errors.Is(err, host.ErrRefused) {
		return w.askUp(fmt.Sprintf("%s refuses it with %s: %v", w.m.To, what, err))
	}
	return err
}
