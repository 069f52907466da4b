// Package all registers every format of machine definitions. A new format adds its line here and its row to the conformance test beside it.
package all

import (
	_ "bagaglio/core/machine/domain"
	_ "bagaglio/core/machine/ovf"
	_ "bagaglio/core/machine/own"
	_ "bagaglio/core/machine/vmx"
)
