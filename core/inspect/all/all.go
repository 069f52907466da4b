// Package all makes every filesystem known whose files are read.
package all

import (
	_ "bagaglio/core/inspect/btrfs"
	_ "bagaglio/core/inspect/exfat"
	_ "bagaglio/core/inspect/ext"
	_ "bagaglio/core/inspect/fat"
	_ "bagaglio/core/inspect/iso"
	_ "bagaglio/core/inspect/ntfs"
	_ "bagaglio/core/inspect/xfs"
)
