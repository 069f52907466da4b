// Package all registers every format. A new format adds its line here and its row to the conformance test beside it.
package all

import (
	_ "bagaglio/core/disk/hdd"
	_ "bagaglio/core/disk/qcow2"
	_ "bagaglio/core/disk/raw"
	_ "bagaglio/core/disk/vdi"
	_ "bagaglio/core/disk/vhd"
	_ "bagaglio/core/disk/vhdx"
	_ "bagaglio/core/disk/vmdk"
)
