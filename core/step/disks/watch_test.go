package disks

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatTwoComputersSee of one file differs in the number of its device, and in nothing else.
func TestWhatTwoComputersSee(t *testing.T) {
	const seen = "deck/a disk.raw 52:1207 17+4  1048576 1790000000000000000 changed=1790000000000000000\n"
	for now, same := range map[string]bool{
		seen: true,
		"deck/a disk.raw 71:1207 17+4  1048576 1790000000000000000 changed=1790000000000000000\n": true,
		"deck/a disk.raw 52:1208 17+4  1048576 1790000000000000000 changed=1790000000000000000\n": false,
		"deck/a disk.raw 52:1207 17+4  1048577 1790000000000000000 changed=1790000000000000000\n": false,
		"deck/a disk.raw 52:1207 17+4  1048576 1790000000000000001 changed=1790000000000000000\n": false,
		"deck/a disk.raw 52:1207 17+4  1048576 1790000000000000000 changed=1790000000000000001\n": false,
	} {
		assert.Equal(t, same, sameSeen(seen, now), now)
	}
}
