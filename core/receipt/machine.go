package receipt

import (
	"fmt"

	"bagaglio/core/machine"
)

// Machine is what became of a machine that was carried.
type Machine struct {
	From string `json:"from"` // HOST:NAME
	To   string `json:"to"`
	Move bool   `json:"move"` // otherwise it was copied
	// WasRunning tells that the job shut it down.
	WasRunning bool `json:"was_running"`
	Defined    bool `json:"defined"`
	Started    bool `json:"started"`
	// CameUp tells that the guest was seen to be up in its new place, and Evidence by what.
	CameUp   bool     `json:"came_up"`
	Evidence []string `json:"evidence"`
	// Screen is what it showed then, and ScreenBefore what it had shown before it was shut down: pictures, as PNG.
	Screen       []byte `json:"screen,omitempty"`
	ScreenBefore []byte `json:"screen_before,omitempty"`
	// Console are the last lines that it wrote on its serial port meanwhile.
	Console []string `json:"console,omitempty"`
	// Differences is what was to become different of it, and Unasked what its new host has otherwise.
	Differences []machine.Difference `json:"differences"`
	Unasked     []machine.Difference `json:"unasked,omitempty"`
	// Is is the machine as its host had it at the end, nil where nothing was asked of it.
	Is *machine.Machine `json:"is,omitempty"`
	// Source says what became of the machine in its old place.
	Source string `json:"source,omitempty"`
}

// lines are what a receipt says of it for people.
func (m Machine) lines(line func(name, format string, args ...any)) {
	if m.From == m.To {
		line("Machine", "%s", m.From)
	} else {
		line("Machine", "%s -> %s", m.From, m.To)
	}
	switch {
	case m.CameUp:
		line("Came up", "yes")
	case m.Started:
		line("Came up", "NOT SEEN")
	case m.Defined:
		line("Came up", "it was not started")
	}
	for _, e := range m.Evidence {
		line("Evidence", "%s", e)
	}
	for _, l := range m.Console {
		line("Console", "%s", l)
	}
	for _, d := range m.Differences {
		line("Changed", "%s", sentence(d))
	}
	for _, d := range m.Unasked {
		line("Unasked", "%s", sentence(d))
	}
	if m.Source != "" {
		line("Old place", "%s", m.Source)
	}
}

// nothing stands for what a machine does not have.
const nothing = "nothing"

func sentence(d machine.Difference) string {
	before, after := d.Before, d.After
	if before == "" {
		before = nothing
	}
	if after == "" {
		after = nothing
	}
	return fmt.Sprintf("%s: from %s to %s", d.What, before, after)
}
