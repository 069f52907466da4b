// Package all registers every kind of host that runs machines, and has the conformance suite that each passes.
package all

import (
	_ "bagaglio/core/host/libvirt"
	_ "bagaglio/core/host/standin"
)
