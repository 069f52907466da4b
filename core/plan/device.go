package plan

import (
	"fmt"
	"strings"
)

// devices is what the name of the pool ends with that the disks of a computer are in.
const devices = ":/dev"

// StepLeave tells a program on the computer that a machine takes the place of, before that is started.
const StepLeave = "leave"

// DevicesOf is the name of the pool that the disks of a host are in, empty for this computer where no service is asked. It is in no record.
func DevicesOf(host string) string { return host + devices }

// DevicesHost is the host whose disks are in a pool of that name; false for any other pool.
func DevicesHost(pool string) (string, bool) { return strings.CutSuffix(pool, devices) }

// IsDevice tells whether a place is a disk of a computer.
func (p Place) IsDevice() bool {
	_, ok := DevicesHost(p.Pool)
	return ok
}

// validateDevices: disks of computers are read, whole or in part, and nothing else is done with them.
func (c Carrying) validateDevices() error {
	switch {
	case c.Destination.IsDevice():
		return fmt.Errorf("an image goes onto a disk of a computer by writing it back (%s)", c.Destination)
	case !c.Source.IsDevice():
		return nil
	case c.Kind != Convert:
		return fmt.Errorf("a disk of a computer is captured, to an image of a format (%s)", c.Source)
	case c.Release:
		return fmt.Errorf("a disk of a computer stays where it is (%s)", c.Source)
	}
	return nil
}
